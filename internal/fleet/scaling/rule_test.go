package scaling

import (
	"math"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet/metric"
)

func TestSteps(t *testing.T) {
	for _, c := range []struct {
		step     Step
		from, to int
	}{{"+2", 4, 6}, {"-1", 4, 3}, {"+50%", 3, 5}, {"+1%", 3, 4}, {"-25%", 8, 6}, {"-10%", 5, 4}, {"=8", 3, 8}, {"-9", 3, 0}, {"=0", 3, 0}} {
		if got := c.step.From(c.from); got != c.to || c.step.Check() != nil {
			t.Errorf("%s of %d is %d (%v), and should be %d", c.step, c.from, got, c.step.Check(), c.to)
		}
	}
	for _, bad := range []Step{"", "2", "+0", "+0%", "-1001%", "=", "+1.5", "++1", "=-1", "+999999"} {
		if bad.Check() == nil {
			t.Errorf("%q is taken for a step", bad)
		}
	}
}

func TestLinesAreRead(t *testing.T) {
	for text, want := range map[string]string{
		"above 70 for 2m: +1":       "above 70 for 2m: +1",
		"below 30% for 600s : -25%": "below 30 for 10m: -25%",
		"above 1.5 for 30s: =8":     "above 1.5 for 30s: =8",
	} {
		if l, err := ParseLine(text); err != nil || l.String() != want {
			t.Errorf("%q is read as %q, %v", text, l, err)
		}
	}
	for text, says := range map[string]string{
		"70 for 2m: +1":         "is no threshold; write it such as",
		"above 70 for 10s: +1":  "for 10s is too short to be measured in; give at least 30s",
		"above 70 for 7h: +1":   "too long; give at most 6h",
		"above 70 for 2m: -1":   "above one a group grows",
		"below 70 for 2m: +1":   "below one it shrinks",
		"above 70 for 2m: many": "is no step",
		"above 70 for 2x: +1":   "is no time",
	} {
		if _, err := ParseLine(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, and should say %q", text, err, says)
		}
	}
}

func TestWhatRulesCannotBe(t *testing.T) {
	line := func(text string) []Line {
		l, err := ParseLine(text)
		if err != nil {
			t.Fatal(err)
		}
		return []Line{l}
	}
	n := func(i int) *int { return &i }
	for says, r := range map[string]Rule{
		"is no kind of rule":             {Name: "a", Kind: "magic"},
		"is not a name":                  {Name: "A b", Kind: Steady},
		"is no metric; give cpu":         {Name: "a", Kind: Steady, Metric: "disk"},
		"is no way to make one value":    {Name: "a", Kind: Steady, Metric: "cpu", Aggregate: "median"},
		"give a value over 0":            {Name: "a", Kind: Steady, Metric: "requests"},
		"is in percent of what":          {Name: "a", Kind: Steady, Metric: "cpu", KeepAt: 130},
		"band is 60 %":                   {Name: "a", Kind: Steady, Metric: "cpu", KeepAt: 60, Band: 60},
		"give 30s to 6h":                 {Name: "a", Kind: Steady, Metric: "cpu", KeepAt: 60, Calm: time.Second},
		"give 1 to 100":                  {Name: "a", Kind: Steady, Metric: "cpu", KeepAt: 60, ShrinkRate: 200},
		"there are 0 thresholds":         {Name: "a", Kind: Trip, Metric: "cpu"},
		"cooldown is 25h0m0s":            {Name: "a", Kind: Trip, Metric: "cpu", Cooldown: 25 * time.Hour},
		"must be under the upper one":    {Name: "a", Kind: Trip, Metric: "cpu", Thresholds: append(line("above 50 for 1m: +1"), line("below 60 for 1m: -1")...)},
		"say when":                       {Name: "a", Kind: Calendar, Min: n(2)},
		"say what is set":                {Name: "a", Kind: Calendar, When: "now"},
		"min must not be over max":       {Name: "a", Kind: Calendar, When: "now", Min: n(4), Max: n(2)},
		"size must not be under min":     {Name: "a", Kind: Calendar, When: "now", Min: n(4), Size: n(2)},
		"size must not be over max":      {Name: "a", Kind: Calendar, When: "now", Max: n(4), Size: n(6)},
		"it lasts 1s; give 1m to 8784h":  {Name: "a", Kind: Calendar, When: "now", Min: n(4), Duration: time.Second},
		"max is 10001; give 0 to 10000":  {Name: "a", Kind: Calendar, When: "now", Max: n(10001)},
		`"push:" is no metric; give cpu`: {Name: "a", Kind: Steady, Metric: "push:"},
	} {
		r.Complete()
		if f := r.Check(); f == nil || !strings.Contains(f.Text, says) {
			t.Errorf("%+v: %v, and should say %q", r, f, says)
		}
	}
}

func TestBounds(t *testing.T) {
	n := func(i int) *int { return &i }
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	rules := []Rule{
		{Name: "day", Kind: Calendar, Duration: time.Hour, Min: n(6)},
		{Name: "fair", Kind: Calendar, Duration: 2 * time.Hour, Min: n(4), Max: n(20)},
		{Name: "sale", Kind: Calendar, Duration: time.Hour, Max: n(3), Off: true},
	}
	times := map[string]Times{"day": {Last: now.Add(-59 * time.Minute)}, "fair": {Last: now}, "sale": {Last: now}}
	b := BoundsNow(now, 1, 8, rules, times)
	if b.Min != 6 || b.Max != 20 || !b.Until.Equal(now.Add(time.Minute)) || len(b.By) != 2 {
		t.Errorf("both last, and the bounds are %+v", b)
	}
	if b = BoundsNow(now.Add(time.Minute), 1, 8, rules, times); b.Min != 4 || b.Max != 20 {
		t.Errorf("one lasts, and the bounds are %+v", b)
	}
	if b = BoundsNow(now.Add(2*time.Hour), 1, 8, rules, times); b.Min != 1 || b.Max != 8 || len(b.By) > 0 {
		t.Errorf("none lasts, and the bounds are %+v", b)
	}
	if b = BoundsNow(now, 1, 5, rules[:1], times); b.Min != 6 || b.Max != 6 {
		t.Errorf("a min over the max: %+v", b)
	}
	rules[2].Off = false
	if b = BoundsNow(now, 4, 5, rules[2:], times); b.Min != 3 || b.Max != 3 {
		t.Errorf("a max under the min: %+v", b)
	}
}

func TestPercentiles(t *testing.T) {
	hundred := make([]float64, 100)
	for i := range hundred {
		hundred[99-i] = float64(i + 1)
	}
	for over, want := range map[metric.Over]float64{"p95": 95, "p1": 1, "p99": 99, metric.Maximum: 100, metric.Average: 50.5, metric.Total: 5050} {
		if got := over.Of(append([]float64{}, hundred...)); got != want || over.Check() != nil {
			t.Errorf("%s of 1 to 100 is %g, and should be %g", over, got, want)
		}
	}
	if got := metric.Over("p95").Of([]float64{7}); got != 7 {
		t.Errorf("p95 of one value is %g", got)
	}
	for _, bad := range []metric.Over{"p0", "p100", "median", "p5.5"} {
		if bad.Check() == nil {
			t.Errorf("%q is taken for a way", bad)
		}
	}
}

// TestAGapNow: what is not known for a moment goes by what was just before, but never shrinks; for
// longer it is not known at all.
func TestAGapNow(t *testing.T) {
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	r := Rule{Name: "even", Kind: Steady, Metric: metric.CPU, KeepAt: 60, Calm: 30 * time.Second}
	r.Complete()
	points := func(value float64, unknown int) (all []metric.Point) {
		for k := 20; k >= 0; k-- {
			p := metric.Point{At: now.Add(-time.Duration(k) * metric.Every), Value: value, Of: 4, Serving: 4}
			if k < unknown {
				p.Value, p.Of, p.Missing = math.NaN(), 0, 4
			}
			all = append(all, p)
		}
		return all
	}
	s := Situation{Now: now, Size: 4, Min: 1, Max: 10}
	for _, c := range []struct {
		value   float64
		unknown int
		want    int
		why     Why
	}{{90, 0, 6, Off}, {90, 2, 6, Off}, {90, 5, 4, NoData}, {15, 0, 3, Off}, {15, 1, 4, Gaps}, {15, 5, 4, NoData}} {
		if v := r.Judge(s, State{}, points(c.value, c.unknown)); v.Want != c.want || v.Why != c.why || (c.unknown > 0 && v.Agrees) {
			t.Errorf("at %g with %d unknown: wants %d, %s, agrees %v; should be %d, %s", c.value, c.unknown, v.Want, v.Why, v.Agrees, c.want, c.why)
		}
	}
}

// TestTogether: when growing the one that asks for most wins, unless it cools down; to shrink all
// must agree, and the largest need counts.
func TestTogether(t *testing.T) {
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	s := Situation{Now: now, Size: 6, Min: 2, Max: 10}
	cooling := now.Add(time.Minute)
	for what, c := range map[string]struct {
		verdicts []Verdict
		want     int
		by       string
	}{
		"the most":                          {[]Verdict{{Rule: "a", Want: 7}, {Rule: "b", Want: 9}}, 9, "b"},
		"the most that does not cool down":  {[]Verdict{{Rule: "a", Want: 7}, {Rule: "b", Want: 9, Until: cooling}}, 7, "a"},
		"nobody, since it cools down":       {[]Verdict{{Rule: "b", Want: 9, Until: cooling}}, 6, ""},
		"no more than there may be":         {[]Verdict{{Rule: "a", Want: 70}}, 10, "a"},
		"all agree, and the largest need":   {[]Verdict{{Rule: "a", Want: 3, Floor: 3, Agrees: true}, {Rule: "b", Want: 4, Floor: 4, Agrees: true}}, 4, "b"},
		"a need of one that asks nothing":   {[]Verdict{{Rule: "a", Want: 3, Floor: 3, Agrees: true}, {Rule: "b", Want: 6, Floor: 5, Agrees: true}}, 5, "a"},
		"one does not agree":                {[]Verdict{{Rule: "a", Want: 3, Floor: 3, Agrees: true}, {Rule: "b", Want: 6}}, 6, ""},
		"one cools down":                    {[]Verdict{{Rule: "a", Want: 3, Floor: 3, Agrees: true}, {Rule: "b", Want: 4, Floor: 4, Agrees: true, Until: cooling}}, 6, ""},
		"no fewer than there may be":        {[]Verdict{{Rule: "a", Want: 0, Agrees: true}}, 2, "a"},
		"one grows while the other shrinks": {[]Verdict{{Rule: "a", Want: 3, Floor: 3, Agrees: true}, {Rule: "b", Want: 7}}, 7, "b"},
	} {
		if got := Together(s, c.verdicts); got.Want != c.want || got.By != c.by {
			t.Errorf("%s: %d by %q, and should be %d by %q", what, got.Want, got.By, c.want, c.by)
		}
	}
}

// TestForesightOnlyGrows: what is foreseen keeps a group from shrinking below it, and a lower one
// takes nothing away.
func TestForesightOnlyGrows(t *testing.T) {
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	r := Rule{Name: "even", Kind: Steady, Metric: metric.Requests, KeepAt: 10, Calm: 30 * time.Second, ShrinkRate: 100, Forecast: true}
	r.Complete()
	var points []metric.Point
	for k := 20; k >= 0; k-- {
		points = append(points, metric.Point{At: now.Add(-time.Duration(k) * metric.Every), Value: 5, Of: 8, Serving: 8})
	}
	for foreseen, want := range map[float64]int{0: 4, 10: 4, 60: 6, 120: 12} {
		s := Situation{Now: now, Size: 8, Min: 1, Max: 20, Foreseen: map[string]float64{"even": foreseen}}
		v := r.Judge(s, State{}, points)
		if got := Together(s, []Verdict{v}); got.Want != want {
			t.Errorf("with %g foreseen it is %d, and should be %d", foreseen, got.Want, want)
		}
	}
}

// TestWhenCalendarsBegin: from then on only after it was set, a span as long as it lasts, and each
// time once.
func TestWhenCalendarsBegin(t *testing.T) {
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	forGood, spanned := Rule{Kind: Calendar, Since: now.Add(-time.Hour)}, Rule{Kind: Calendar, Duration: 3 * time.Hour, Since: now.Add(-time.Hour)}
	for _, c := range []struct {
		rule     *Rule
		last     time.Duration
		occurred time.Duration
		begins   bool
	}{{&forGood, -2 * time.Hour, -10 * time.Hour, false}, {&forGood, -time.Minute, -10 * time.Hour, true}, {&forGood, -time.Minute, -time.Minute, false},
		{&spanned, -2 * time.Hour, -10 * time.Hour, true}, {&spanned, -2 * time.Hour, -2 * time.Hour, false}, {&spanned, -4 * time.Hour, -10 * time.Hour, false}} {
		if got := c.rule.Begins(now, State{Occurred: now.Add(c.occurred)}, Times{Last: now.Add(c.last)}); got != c.begins {
			t.Errorf("%+v with its last time %s ago, acted on %s ago: %v", c.rule, -c.last, -c.occurred, got)
		}
	}
	if forGood.Off = true; forGood.Begins(now, State{}, Times{Last: now.Add(-time.Minute)}) {
		t.Error("one that is off begins")
	}
}

// TestWhatHidesIsNoRoom: of fewer that are full it is not known how much they would bear, so fewer are
// never enough on that, now or within the calm.
func TestWhatHidesIsNoRoom(t *testing.T) {
	r := Rule{Name: "even", Kind: Steady, Metric: metric.CPU, KeepAt: 75, Calm: time.Minute}
	r.Complete()
	now := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	judge := func(latest, before metric.Point) Verdict {
		var points []metric.Point
		for at := now.Add(-5 * time.Minute); !at.After(now); at = at.Add(metric.Every) {
			p := before
			if p.At = at; !at.Before(now.Add(-30 * time.Second)) {
				p = latest
				p.At = at
			}
			points = append(points, p)
		}
		return r.Judge(Situation{Now: now, Size: 7, Max: 9}, State{}, points)
	}
	full, calm := metric.Point{Value: 99, Of: 3, Serving: 3}, metric.Point{Value: 30, Of: 7, Serving: 7}
	if v := judge(full, full); v.Want != 7 || v.Agrees || !v.AtLeast || v.Why != Quiet {
		t.Errorf("three that are full are enough: %+v", v)
	}
	if v := judge(calm, full); v.Want != 7 || v.Why != Calming {
		t.Errorf("what was full is calm: %+v", v)
	}
	if v := judge(calm, calm); v.Want >= 7 || v.AtLeast {
		t.Errorf("what is calm does not shrink: %+v", v)
	}
}
