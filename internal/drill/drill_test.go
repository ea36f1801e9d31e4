package drill_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"unitas/internal/drill"
	"unitas/internal/fleet"
	"unitas/internal/machine"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

// yard writes down what is done to its machines.
type yard struct {
	machine.Driver
	mu   sync.Mutex
	done []string
	fail error
}

func (y *yard) did(format string, args ...any) error {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.done = append(y.done, fmt.Sprintf(format, args...))
	return y.fail
}

func (y *yard) take() []string {
	y.mu.Lock()
	defer y.mu.Unlock()
	out := y.done
	y.done = nil
	return out
}

func (y *yard) Kill(id, why string) error             { return y.did("kill %s: %s", id, why) }
func (y *yard) Stall(id string, on bool) error        { return y.did("stall %s %v", id, on) }
func (y *yard) LoseZone(zone string, lost bool) error { return y.did("lose %s %v", zone, lost) }
func (y *yard) Note(id string, note []byte) error {
	text, _, _ := strings.Cut(string(note), `"until"`)
	if _, rest, ok := strings.Cut(string(note), `Z",`); ok {
		text += rest
	}
	return y.did("note %s %s", id, text)
}
func (y *yard) Burn(ctx context.Context, id string, _ time.Duration) error {
	_ = y.did("burn %s", id)
	<-ctx.Done()
	return y.did("burnt %s", id)
}

func newDrills(t *testing.T) (*drill.Drills, *yard, *store.Store) {
	t.Helper()
	s, err := store.Open(context.Background(), pgtest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	y := &yard{}
	d := drill.New(s, y, slog.New(slog.DiscardHandler))
	t.Cleanup(d.Close)
	return d, y, s
}

func journal(t *testing.T, s *store.Store) []string {
	t.Helper()
	entries, err := s.Journal(context.Background(), store.JournalQuery{Page: store.Page{Limit: 100}})
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, e := range slices.Backward(entries) {
		all = append(all, fmt.Sprintf("%s %s (%s, by %s)", e.Kind, e.Text, e.Because, e.Actor))
	}
	return all
}

func TestDrillsEnd(t *testing.T) {
	d, y, s := newDrills(t)
	ctx := context.Background()
	start := func(one drill.Drill) drill.Drill {
		t.Helper()
		one.By, one.Group = "ada", "timetable"
		out, err := d.Start(ctx, time.Now().UTC(), one)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	start(drill.Drill{Kind: drill.Crash, Instance: "timetable-001"})
	hang := start(drill.Drill{Kind: drill.Hang, Instance: "timetable-002", For: time.Hour, Reason: "the autumn drill"})
	if _, err := d.Start(ctx, time.Now(), drill.Drill{Kind: drill.Hang, Instance: "timetable-002", For: time.Minute}); err == nil || !strings.Contains(err.Error(), "drill 2 is under way") {
		t.Errorf("the same twice: %v", err)
	}
	slow := start(drill.Drill{Kind: drill.Slow, Instance: "timetable-003", For: time.Hour, Slow: 2 * time.Second})
	start(drill.Drill{Kind: drill.Errors, Instance: "timetable-003", For: time.Hour, Percent: 20})
	start(drill.Drill{Kind: drill.Zone, Zone: "mid-pier", For: time.Hour})
	if got := d.List(); len(got) != 4 || got[0].Number != hang.Number || got[3].What() != "the zone mid-pier is lost for 1 h" {
		t.Errorf("under way are %+v", got)
	}
	if err := d.Stop(slow.Number, "ada"); err != nil {
		t.Error(err)
	}
	if err := d.Stop(slow.Number, "ada"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("stopped twice: %v", err)
	}
	d.Close()
	want := []string{"kill timetable-001: it crashed by drill 1", "stall timetable-002 true", `note timetable-003 {"slow_seconds":2}`,
		`note timetable-003 {"slow_seconds":2,"error_percent":20}`, "lose mid-pier true", `note timetable-003 {"error_percent":20}`,
		"stall timetable-002 false", "note timetable-003 ", "lose mid-pier false"}
	if got := y.take(); !slices.Equal(got, want) {
		t.Errorf("done was\n%q\nwant\n%q", got, want)
	}
	if _, err := d.Start(ctx, time.Now(), drill.Drill{Kind: drill.Zone, Zone: "mid-pier", For: time.Hour}); err == nil {
		t.Error("a drill began while the service stops")
	}
	lines := journal(t, s)
	for _, want := range []string{
		"drill.started Drill 2: timetable-002 hangs for 1 h. (a person asked for it: the autumn drill, by ada)",
		"drill.ended Drill 3 is over (timetable-003 answers 2 s later for 1 h). (a person stopped it, by ada)",
		"drill.ended Drill 5 is over (the zone mid-pier is lost for 1 h). (the service stops, by unitas)",
	} {
		if !slices.Contains(lines, want) {
			t.Errorf("the journal does not say %q:\n%s", want, strings.Join(lines, "\n"))
		}
	}
}

// TestDrillsEndByThemselves when their time is over.
func TestDrillsEndByThemselves(t *testing.T) {
	d, y, s := newDrills(t)
	if _, err := d.Start(context.Background(), time.Now().UTC(), drill.Drill{Kind: drill.Burn, Instance: "timetable-001", For: 30 * time.Millisecond, By: "ada"}); err != nil {
		t.Fatal(err)
	}
	limit := time.Now().Add(20 * time.Second)
	burnt, told := false, false // the machine first, and then the journal, which takes a moment
	for len(d.List()) > 0 || !burnt || !told {
		if time.Now().After(limit) {
			t.Fatalf("it never ends; the journal says %q", journal(t, s))
		}
		burnt = burnt || slices.Contains(y.take(), "burnt timetable-001")
		lines := journal(t, s)
		told = strings.Contains(lines[len(lines)-1], "its time is over, by unitas")
		<-time.After(time.Millisecond)
	}
}

// TestARegionIsLostWhole: all its zones are lost and come back, or none is.
func TestARegionIsLostWhole(t *testing.T) {
	d, y, _ := newDrills(t)
	region := drill.Drill{Kind: drill.Region, Region: "harbour", Zones: []string{"east-pier", "mid-pier"}, For: time.Hour, By: "ada"}
	one, err := d.Start(context.Background(), time.Now().UTC(), region)
	if got := strings.Join(y.take(), ", "); err != nil || got != "lose east-pier true, lose mid-pier true" || one.What() != "the region harbour is lost for 1 h, with east-pier, mid-pier" {
		t.Errorf("%q: %s, %v", one.What(), got, err)
	}
	if _, err := d.Start(context.Background(), time.Now().UTC(), region); err == nil || !strings.Contains(err.Error(), "drill 1 is under way") {
		t.Errorf("the same twice: %v", err)
	}
	if err := d.Stop(one.Number, "ada"); err != nil {
		t.Error(err)
	}
	if got := strings.Join(y.take(), ", "); got != "lose east-pier false, lose mid-pier false" {
		t.Errorf("it comes back by %s", got)
	}
}

// TestDrillThatCannotBegin is journalled as begun and as over, with why.
func TestDrillThatCannotBegin(t *testing.T) {
	d, y, s := newDrills(t)
	y.fail = errors.New("the machine of timetable-001 does not run here")
	_, err := d.Start(context.Background(), time.Now().UTC(), drill.Drill{Kind: drill.Hang, Instance: "timetable-001", For: time.Minute, By: "ada"})
	var refusal *fleet.Refusal
	if !errors.As(err, &refusal) || len(d.List()) != 0 {
		t.Errorf("%v, and under way are %v", err, d.List())
	}
	if lines := journal(t, s); len(lines) != 2 || !strings.Contains(lines[1], "it could not begin: the machine of timetable-001 does not run here") {
		t.Errorf("the journal says %q", lines)
	}
	if _, err := drill.New(s, struct{ machine.Driver }{}, slog.New(slog.DiscardHandler)).Start(context.Background(), time.Now(), drill.Drill{}); err == nil {
		t.Error("machines that know no drills had one")
	}
}
