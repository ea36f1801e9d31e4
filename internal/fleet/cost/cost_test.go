package cost

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

var midnight = time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)

func at(hours float64) time.Time { return midnight.Add(time.Duration(hours * float64(time.Hour))) }

func TestAdd(t *testing.T) {
	lines := Add([]Run{
		{"timetable", 0.5, at(-2), at(1)},         // began before
		{"timetable", 0.5, at(2.5), time.Time{}},  // runs on
		{"berths", 2, at(1.25), at(1.75)},         // within one step
		{"berths", 2, at(3), at(9)},               // ends after
		{"tickets", 0, midnight, at(4)},           // costs nothing
		{"timetable", 0.5, at(0.5), at(0.5 + 1)},  // over the edge of a step
		{"tickets", 0, at(3.999), at(3.999 + .5)}, // ends after
	}, midnight, at(4), time.Hour)
	want := []Line{
		{"berths", 1.5, 3, 2, []float64{0, 1, 0, 2}},
		{"timetable", 3.5, 1.75, 0.5, []float64{0.75, 0.25, 0.25, 0.5}},
		{"tickets", 4.001, 0, 0, []float64{0, 0, 0, 0}},
	}
	for i, w := range want {
		g := lines[i]
		same := g.Name == w.Name && near(g.Hours, w.Hours) && near(g.Cost, w.Cost) && near(g.NowPerHour, w.NowPerHour)
		for k := range w.Steps {
			same = same && near(g.Steps[k], w.Steps[k])
		}
		if !same {
			t.Errorf("got %+v\nwant %+v", g, w)
		}
	}
}

// TestStepsAddUp: whatever the steps, together they are the whole.
func TestStepsAddUp(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		var runs []Run
		for range r.IntN(20) {
			from := at(r.Float64()*48 - 12)
			run := Run{"a", r.Float64(), from, from.Add(time.Duration(r.Int64N(int64(30 * time.Hour))))}
			if r.IntN(4) == 0 {
				run.Until = time.Time{}
			}
			if run.From.Before(at(24)) && (run.Until.IsZero() || run.Until.After(midnight)) {
				runs = append(runs, run)
			}
		}
		for _, l := range Add(runs, midnight, at(23.3), []time.Duration{time.Hour, 24 * time.Hour, 7 * time.Minute}[r.IntN(3)]) {
			var sum float64
			for _, s := range l.Steps {
				sum += s
			}
			if !near(sum, l.Cost) {
				t.Fatalf("the steps are %v and the whole %v", sum, l.Cost)
			}
		}
	}
}

func near(a, b float64) bool { return math.Abs(a-b) < 1e-6 }
