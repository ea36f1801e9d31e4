package store_test

import (
	"errors"
	"math"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
	"unitas/internal/store"
)

// TestWhatIsMeasuredIsKept: as it was measured for a day, in fives of minutes for thirty, each
// part where it belongs and gone in time.
func TestWhatIsMeasuredIsKept(t *testing.T) {
	s := stocked(t)
	if _, err := s.KeepPartitions(ctx, noon, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := s.KeepPartitions(ctx, noon, nil); err != nil {
		t.Fatalf("a second time: %v", err)
	}
	var all []store.Sample
	for k := range 40 { // ten minutes
		one := store.Sample{Group: "timetable", Metric: "cpu", At: noon.Add(time.Duration(k) * metric.Every), Serving: 3, Missing: k % 2, Serials: []int32{1, 2}, Vals: []float32{float32(k), 40}}
		if k == 5 {
			one.Serials, one.Vals = []int32{}, []float32{}
		}
		one.Summarise()
		whole := store.Sample{Group: "timetable", Metric: "push:waiting", At: one.At, Serving: 3, Serials: []int32{0}, Vals: []float32{300}}
		whole.Summarise()
		all = append(all, one, whole)
	}
	if err := s.AddSamples(ctx, all); err != nil {
		t.Fatal(err)
	}
	got, err := s.Samples(ctx, "timetable", "cpu", noon, noon.Add(time.Hour))
	if err != nil || len(got) != 40 {
		t.Fatalf("%d samples, %v", len(got), err)
	}
	if p := got[39].Point(metric.Average); p.Value != 39.5 || p.Of != 2 || p.Serving != 3 || p.Missing != 1 || !p.At.Equal(all[78].At) {
		t.Errorf("the last is %+v", p)
	}
	if p := got[5].Point(metric.Average); p.Known() {
		t.Errorf("what was not measured is %+v", p)
	}
	for range 2 { // once more does no harm
		if err := s.RollUp(ctx, noon.Add(10*time.Minute)); err != nil {
			t.Fatal(err)
		}
	}
	rows, err := s.Shorter(ctx, "timetable", "cpu", noon, noon.Add(time.Hour))
	if err != nil || len(rows) != 2 {
		t.Fatalf("%d rows of five minutes, %v", len(rows), err)
	}
	if p := rows[1].Point(metric.Maximum); p.Value != 40 || p.Serving != 3 || rows[1].Missing != 1 {
		t.Errorf("the second five minutes came to %+v", rows[1])
	}
	if avg := rows[0].Point(metric.Average).Value; math.Abs(avg-(9.5*20-5)/19/2-20) > 0.1 {
		t.Errorf("the first five minutes came to %g", avg)
	}
	waits, err := s.Shorter(ctx, "timetable", "push:waiting", noon, noon.Add(time.Hour))
	if err != nil || len(waits) != 2 || math.Abs(waits[0].Point(metric.Total).Value-300) > 0.01 {
		t.Errorf("a total of the group is %+v, %v", waits, err)
	}
	if newest, err := s.Newest(ctx, "timetable", noon); err != nil || len(newest) != 2 || newest[0].Metric != "cpu" || newest[0].Vals[0] != 39 {
		t.Errorf("the newest are %+v, %v", newest, err)
	}
	// A clock that is ahead at one look drops nothing; what it found over then is not at the next.
	ahead, err := s.KeepPartitions(ctx, noon.AddDate(0, 0, 60), nil)
	if err != nil || len(ahead) == 0 {
		t.Fatalf("at the first look %v are over, %v", ahead, err)
	}
	if over, err := s.KeepPartitions(ctx, noon, ahead); err != nil || len(over) > 0 {
		t.Errorf("when it is right again %v are over, %v", over, err)
	}
	if got, _ := s.Samples(ctx, "timetable", "cpu", noon, noon.Add(time.Hour)); len(got) != 40 {
		t.Errorf("a clock that was ahead leaves %d samples", len(got))
	}
	// Two days later the day is gone, and what came of it is not; after sixty that is as well.
	for _, c := range []struct {
		days          int
		samples, rows int
	}{{2, 0, 2}, {60, 0, 0}} {
		var over map[string]bool
		for range 2 {
			var err error
			if over, err = s.KeepPartitions(ctx, noon.AddDate(0, 0, c.days), over); err != nil {
				t.Fatal(err)
			}
		}
		got, _ := s.Samples(ctx, "timetable", "cpu", noon, noon.Add(time.Hour))
		rows, _ := s.Shorter(ctx, "timetable", "cpu", noon, noon.Add(time.Hour))
		if len(got) != c.samples || len(rows) != c.rows {
			t.Errorf("after %d days there are %d samples and %d rows", c.days, len(got), len(rows))
		}
	}
}

// TestRulesAreKept: as they were set and with what became of them; and the size may be outside
// of the group's own bounds while a calendar's hold.
func TestRulesAreKept(t *testing.T) {
	s := stocked(t)
	four := 4
	rule := scaling.Rule{Name: "day", Kind: scaling.Calendar, When: "0 7 * * *", TimeZone: "Europe/Paris", Duration: time.Hour, Min: &four, Since: noon}
	err := s.ChangeGroup(ctx, noon, "ada", "timetable", store.AnyRevision, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
		g.Group, e, err = g.WithRule(rule, false, "")
		return e, err
	})
	if err != nil {
		t.Fatal(err)
	}
	l, err := s.Load(ctx, "timetable")
	if err != nil {
		t.Fatal(err)
	}
	book := l.Group.Group
	book.RuleStates = []scaling.State{{Name: "day", Occurred: noon}}
	book.Bound = &scaling.Bounds{Min: 40, Max: 50, By: []string{"day"}, Until: noon.Add(time.Hour)}
	book.Size, book.SizedBy = 44, "day"
	if err := s.Commit(ctx, noon, store.Commit{Group: "timetable", Epoch: l.Group.Epoch, Generation: l.Group.Generation, Book: &book}); err != nil {
		t.Fatal(err)
	}
	g, err := s.Group(ctx, "timetable")
	if err != nil {
		t.Fatal(err)
	}
	if len(g.Rules) != 1 || g.Rules[0].String() != rule.String() || !g.Rules[0].Since.Equal(noon) {
		t.Errorf("the rule is %+v", g.Rules)
	}
	if len(g.RuleStates) != 1 || !g.RuleStates[0].Occurred.Equal(noon) || g.Bound == nil || g.Bound.Min != 40 || !g.Bound.Until.Equal(noon.Add(time.Hour)) || g.Size != 44 || g.SizedBy != "day" {
		t.Errorf("what is kept is %+v, %+v, size %d by %s", g.RuleStates, g.Bound, g.Size, g.SizedBy)
	}
	if g.Revision != l.Group.Revision {
		t.Errorf("what a rule did counts as a person's change")
	}
}

// TestWhatIsPushed: the last value counts, an older one does not come back, and what is no group
// has none.
func TestWhatIsPushed(t *testing.T) {
	s := stocked(t)
	push := func(at time.Time, group string, v float64) {
		t.Helper()
		if err := s.Push(ctx, store.Pushed{Group: group, Metric: "push:waiting", At: at, Value: v}); err != nil && !errors.Is(err, pgx.ErrNoRows) {
			t.Fatal(err)
		}
	}
	push(noon, "timetable", 5)
	push(noon.Add(time.Second), "timetable", 7)
	push(noon, "timetable", 6)
	push(noon, "nowhere", 6)
	all, err := s.Pushed(ctx, noon)
	if err != nil || len(all) != 1 || all[0].Value != 7 || all[0].Group != "timetable" {
		t.Errorf("%+v, %v", all, err)
	}
	if all, err = s.Pushed(ctx, noon.Add(time.Minute)); err != nil || len(all) != 0 {
		t.Errorf("what is old is %+v, %v", all, err)
	}
}
