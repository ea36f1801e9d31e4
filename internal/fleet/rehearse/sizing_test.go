package rehearse

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
)

// sized is a group under rules, whole and at rest.
func sized(size, least, most int, rules ...scaling.Rule) *World {
	for k := range rules {
		rules[k].Complete()
	}
	g := fleet.Group{Name: "timetable", Checks: []string{"sailings-up"}, Settings: fleet.Settings{
		Size: size, Min: least, Max: most, Template: fleet.Version{Name: "timetable-web", N: 1}, Zones: zoneNames, Heal: "sailings-up",
		Settle: time.Minute, Drain: 10 * time.Second, Above: 1, Rules: rules,
	}}
	w := New(epoch, fleet.View{Group: g}, func(fleet.Instance) Behaviour {
		return Behaviour{Boot: 20 * time.Second, Well: 5 * time.Second, Finish: time.Second}
	})
	w.Run(epoch.Add(5 * time.Minute))
	return w
}

// resizes counts how often the size changed, and returns its highest.
func resizes(w *World) (n, highest int) {
	for _, l := range w.Journal {
		if l.Kind == "group.resized" {
			n++
			highest = max(highest, l.Numbers.Int("to"))
		}
	}
	return n, highest
}

// TestAStepOfLoad: four times the load is borne within two settles and a calm, and the size
// never passes what is needed by more than a fifth; also where a full processor hides how
// much there is to bear.
func TestAStepOfLoad(t *testing.T) {
	for _, name := range []metric.Name{metric.Requests, metric.CPU} {
		for _, size := range []int{3, 10, 40} {
			w := sized(size, 1, 400, scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: name, KeepAt: 60})
			load := float64(size) * 58
			b := bears(w, func(time.Time) float64 { return load })
			w.Run(w.Now.Add(20 * time.Minute))
			if w.View.Group.Size != size {
				t.Fatalf("%s: %d instances at 58 of 60 became %d", name, size, w.View.Group.Size)
			}
			b.load = func(time.Time) float64 { return 4 * load }
			needed := int(math.Ceil(4 * load / 60))
			w.Run(w.Now.Add(2*time.Minute + scaling.UsualCalm))
			_, highest := resizes(w)
			if got := w.View.Group.Size; got != needed || float64(highest) > 1.2*float64(needed) {
				t.Errorf("%s: a step of 4 from %d came to %d, at most %d, and %d are needed", name, size, got, highest, needed)
			}
			w.Run(w.Now.Add(time.Hour))
			if n, _ := resizes(w); w.View.Group.Size != needed || n > 6 {
				t.Errorf("%s: an hour after the step there are %d after %d changes, and %d are needed", name, w.View.Group.Size, n, needed)
			}
		}
	}
}

// TestNoiseMovesNothing: a constant load that is measured with 10 % of noise changes the size
// at most twice in a day, whatever the load.
func TestNoiseMovesNothing(t *testing.T) {
	for load := 200.0; load <= 700; load += 13 {
		w := sized(int(math.Ceil(load/60)), 1, 50, scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.CPU, KeepAt: 60})
		bears(w, func(time.Time) float64 { return load }).noise = 0.1
		w.Run(w.Now.Add(24 * time.Hour))
		if n, _ := resizes(w); n > 2 {
			t.Errorf("a load of %g changed the size %d times in a day", load, n)
		}
	}
}

// TestADayIsFollowed: a day's wave of load costs at most 15 % more instance hours than the
// least that keeps the line.
func TestADayIsFollowed(t *testing.T) {
	noon := func(at time.Time) float64 { // quiet nights, a peak at noon, a smaller one in the evening
		h := math.Mod(at.Sub(epoch).Hours(), 24)
		peak := func(when, width float64) float64 { return math.Exp(-(h - when) * (h - when) / (2 * width * width)) }
		return 300 + 2400*peak(12, 1.5) + 1200*peak(19, 1.2)
	}
	for name, load := range map[string]func(time.Time) float64{"sine": sine(400, 3000), "noon": noon} {
		w := sized(10, 1, 100, scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.CPU, KeepAt: 60})
		b := bears(w, load)
		w.Run(w.Now.Add(time.Hour))
		used, least, over, samples := 0.0, 0.0, 0, 0
		b.tick = func() {
			counted, serving := w.count(fleet.Version{})
			used += float64(counted)
			least += math.Ceil(load(w.Now) / 60)
			samples++
			if load(w.Now)/float64(serving) > 60*1.2 {
				over++
			}
		}
		w.Run(w.Now.Add(24 * time.Hour))
		n, _ := resizes(w)
		t.Logf("%s: %.3f x the least instance hours, %d changes, over the line by a fifth in %d of %d samples", name, used/least, n, over, samples)
		if used > 1.15*least {
			t.Errorf("%s: %.3f x the least instance hours", name, used/least)
		}
		if over*100 > samples {
			t.Errorf("%s: over the line by a fifth in %d of %d samples", name, over, samples)
		}
	}
}

// TestNoRulesLeaveTheBounds: whatever rules there are, and whatever they measure, the size
// stays within the bounds, everything that changes it has a rule for a cause, and a group
// that grows past what anybody asked for is not.
func TestNoRulesLeaveTheBounds(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 12))
		least := r.IntN(4)
		most := least + 1 + r.IntN(20)
		w := sized(least+r.IntN(most-least+1), least, most, randomRules(r)...)
		b := bears(w, sine(r.Float64()*100, r.Float64()*3000))
		b.noise = r.Float64()
		w.View.Sizing.Times = map[string]scaling.Times{}
		for n := range 40 {
			switch r.IntN(5) {
			case 0:
				b.muted = w.Now.Add(time.Duration(r.IntN(300)) * time.Second)
			case 1:
				if k := len(w.View.Instances); k > 0 {
					b.deaf = w.View.Instances[r.IntN(k)].ID
				}
			case 2:
				for k := range w.View.Group.Rules {
					if rule := &w.View.Group.Rules[k]; rule.Kind == scaling.Calendar {
						w.View.Sizing.Times[rule.Name] = scaling.Times{Last: w.Now, Next: w.Now.Add(time.Hour)}
					}
				}
			case 3:
				w.View.Sizing.Foreseen = map[string]float64{"rule-0": r.Float64() * 5000}
			case 4:
				_ = w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
					return g.Change(func(g *fleet.Group) { g.Size = r.IntN(30) }, "")
				})
			}
			w.OnDecision = func(_ fleet.View, d fleet.Decision) {
				g := w.View.Group
				if bounds := g.Bounds(w.Clock(), w.View.Sizing); g.Size < bounds.Min || g.Size > bounds.Max {
					t.Fatalf("seed %d, step %d: size %d, and the bounds are %d to %d", seed, n, g.Size, bounds.Min, bounds.Max)
				}
				for _, e := range d.Entries {
					if e.Kind == "group.resized" && (e.Cause.Code == "" || e.Numbers.Int("from") == e.Numbers.Int("to")) {
						t.Fatalf("seed %d, step %d: resized without a cause: %+v", seed, n, e)
					}
				}
				if counted, _ := w.count(fleet.Version{}); counted > max(g.Size, 30)+1 {
					t.Fatalf("seed %d, step %d: %d count, and the size is %d", seed, n, counted, g.Size)
				}
			}
			w.Run(w.Now.Add(time.Duration(1+r.IntN(600)) * time.Second))
		}
	}
}

func randomRules(r *rand.Rand) []scaling.Rule {
	var all []scaling.Rule
	for k := range 1 + r.IntN(4) {
		rule := scaling.Rule{Name: fmt.Sprintf("rule-%d", k), Metric: []metric.Name{metric.CPU, metric.Requests, "push:queue"}[r.IntN(3)], Aggregate: []metric.Over{metric.Average, metric.Maximum, "p90", metric.Total}[r.IntN(4)]}
		switch r.IntN(3) {
		case 0:
			rule.Kind = scaling.Trip
			rule.Thresholds = []scaling.Line{
				{At: 50 + r.Float64()*40, For: time.Duration(30+r.IntN(120)) * time.Second, Step: []scaling.Step{"+1", "+50%", "=9", "+1000%"}[r.IntN(4)]},
				{Below: true, At: r.Float64() * 50, For: time.Duration(30+r.IntN(120)) * time.Second, Step: []scaling.Step{"-1", "-25%", "=0", "-99"}[r.IntN(4)]},
			}
			rule.Cooldown = time.Duration(r.IntN(200)) * time.Second
		case 1:
			rule.Kind = scaling.Steady
			rule.KeepAt, rule.Calm, rule.GrowOnly, rule.Forecast = 1+r.Float64()*99, time.Duration(30+r.IntN(300))*time.Second, r.IntN(3) == 0, r.IntN(2) == 0
		case 2:
			rule.Kind, rule.Metric, rule.Aggregate, rule.When = scaling.Calendar, "", "", "daily"
			n := r.IntN(25)
			rule.Duration = []time.Duration{0, time.Minute, time.Hour}[r.IntN(3)]
			switch r.IntN(3) {
			case 0:
				rule.Min = &n
			case 1:
				rule.Max = &n
			case 2:
				rule.Size = &n
			}
		}
		rule.Off = r.IntN(8) == 0
		all = append(all, rule)
	}
	return all
}

// BenchmarkRule is one decision of a rule over six hours of a thousand instances.
func BenchmarkRule(b *testing.B) {
	r := scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.CPU, KeepAt: 60, Calm: scaling.LongestFor}
	r.Complete()
	var points []metric.Point
	for at := epoch; at.Before(epoch.Add(scaling.LongestFor)); at = at.Add(metric.Every) {
		points = append(points, metric.Point{At: at, Value: 30, Of: 1000, Serving: 1000})
	}
	s := scaling.Situation{Now: epoch.Add(scaling.LongestFor), Size: 1000, Max: 2000}
	for b.Loop() {
		r.Judge(s, scaling.State{}, points)
	}
}
