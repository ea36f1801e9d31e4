package rehearse

import (
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/rollout"
)

// large is a group of so many that all serve, after a minute.
func large(n int) *World {
	g := fleet.Group{Name: "timetable", Checks: []string{"sailings-up"}, Settings: fleet.Settings{
		Size: n, Max: n, Template: fleet.Version{Name: "timetable-web", N: 1}, Zones: zoneNames, Heal: "sailings-up",
		Settle: time.Minute, Drain: 10 * time.Second, Above: 1,
	}}
	w := New(epoch, fleet.View{Group: g}, func(fleet.Instance) Behaviour {
		return Behaviour{Boot: 10 * time.Second, Well: time.Second, Finish: time.Second}
	})
	w.Run(epoch.Add(time.Minute))
	return w
}

// rolls brings it to the next version in waves, a tenth of it at once.
func rolls(t testing.TB, w *World) {
	ws, err := rollout.ParseWaves("1,25%,100%")
	if err != nil {
		t.Fatal(err)
	}
	n := w.View.Group.Size
	r, _, err := fleet.Begin(w.Now, w.View.Group, w.View.Instances, fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 1}, RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: w.View.Group.Template.N + 1}, Waves: ws, Above: n / 10, Soak: 5 * time.Second}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	w.View.Rollout = &r
	w.Run(w.Now.Add(time.Hour))
	if w.View.Rollout != nil || w.View.Group.Template != r.To {
		t.Fatalf("the rollout is not done: %+v", w.View.Rollout)
	}
}

// TestALargeRolloutTakesFewDecisions: what arrives together is decided together, and what
// is said of many is said once.
func TestALargeRolloutTakesFewDecisions(t *testing.T) {
	w := large(1000)
	decisions, lines := w.Decisions, len(w.Journal)
	rolls(t, w)
	t.Logf("%d decisions, %d lines", w.Decisions-decisions, len(w.Journal)-lines)
	if n := w.Decisions - decisions; n > 120 {
		t.Errorf("1,000 instances in three waves took %d decisions", n)
	}
	// Each comes up and each goes: without joining these are nine lines for each.
	if n := len(w.Journal) - lines; n > 2500 {
		t.Errorf("the journal has %d lines of it", n)
	}
}

// BenchmarkRollout plays whole rollouts on the virtual clock.
func BenchmarkRollout(b *testing.B) {
	for range b.N {
		b.StopTimer()
		w := large(10_000)
		b.StartTimer()
		rolls(b, w)
	}
}
