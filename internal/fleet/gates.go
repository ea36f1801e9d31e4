package fleet

import (
	"slices"
	"time"

	"unitas/internal/fleet/gate"
)

// GatesEvery is how often the gates of a rollout are looked at.
const GatesEvery = time.Second

// CountsFor reports whether the answers of an instance count for a gate at the time now: those
// of one that serves, and has for long enough.
func (i *Instance) CountsFor(now time.Time, g gate.Gate) bool {
	return i.State == Serving && now.Sub(i.Since) >= g.Warm
}

// Compares reports whether what new and old answer is being compared.
func (r *Rollout) Compares() bool { return r.advances() && r.Comparing() > 0 }

// Comparing is how many of its gates compare what new and old answer.
func (r *Rollout) Comparing() int {
	n := 0
	for k := range r.Gates {
		if r.Gates[k].Kind.Compares() {
			n++
		}
	}
	return n
}

// judgeGates stops a rollout whose new instances do worse than the old ones, by evidence
// that may be looked at all the time.
func (d *deciding) judgeGates() {
	if !d.ro.Compares() {
		return
	}
	d.lookAt(d.now.Add(GatesEvery))
	for k := range d.ro.Gates {
		g := &d.ro.Gates[k]
		if g.Kind.Compares() && g.State(d.ro.Comparing()) == gate.Broken {
			d.breaks(g, d.gateCause(CodeGateBroke, g))
			return
		}
	}
}

// breaks has happen what the gate says.
func (d *deciding) breaks(g *gate.Gate, because Cause) {
	if g.OnBroken == gate.Revert && (g.Kind != gate.Metric || d.tally(d.ro.To).newServing > gate.Few) {
		d.ro.Back, d.ro.Turned, d.ro.Stumbles = true, because, 0
		d.turn(Reverting, because)
		return
	}
	d.hold(because)
}

// gate is the first of the kind, nil when there is none.
func (r *Rollout) gate(kind gate.Kind) *gate.Gate {
	for k := range r.Gates {
		if r.Gates[k].Kind == kind {
			return &r.Gates[k]
		}
	}
	return nil
}

// judgeHealth stops a rollout of whose new instances too few are well, or during which too
// few serve. It reports whether it did.
func (d *deciding) judgeHealth() bool {
	for k := range d.ro.Gates {
		g := &d.ro.Gates[k]
		value, judged := d.measure(g.Kind)
		if judged == 0 || g.Kind.Compares() {
			continue
		}
		floor := g.Floor - d.eased(g, value)
		if g.Kind == gate.Serving && int(value)+1 > g.Served {
			g.Served, d.roChanged = int(value)+1, true
		}
		if value >= floor {
			continue
		}
		if again := d.ro.Resumed.Add(d.group.Settle); g.Kind == gate.Serving && d.now.Before(again) { // what was told to proceed has time to mend
			d.lookAt(again)
			continue
		}
		if g.Kind == gate.Healthy {
			d.breaks(g, Cause{Code: CodeTooIll, Numbers: Numbers{{"healthy_percent", value}, {"floor", g.Floor}, count("judged", judged)}})
		} else {
			d.breaks(g, Cause{Code: CodeTooFewServe, Numbers: Numbers{{"serving", value}, {"floor", floor}}})
		}
		return true
	}
	return false
}

// eased is how much less than its floor is enough for a gate on how many serve: no more must than did at some
// time since the rollout began or was told to proceed, nor than the rollout itself leaves of the present size.
// What was lost before is not the rollout's.
func (d *deciding) eased(g *gate.Gate, serving float64) float64 {
	if g.Kind != gate.Serving {
		return 0
	}
	most := max(serving, float64(g.Served-1))
	return g.Floor - min(g.Floor, most, float64(d.group.Size-d.ro.mayMiss(d.group.Size)))
}

// measure is what a gate that compares nothing looks at, and by how many instances: the
// share of new ones in service or overdue that are well, in percent; how many serve.
func (d *deciding) measure(kind gate.Kind) (value float64, judged int) {
	t := d.tally(d.ro.To)
	if kind == gate.Serving {
		return float64(t.serving), t.counted
	}
	ill := 0
	for _, i := range d.unsteady {
		in := d.at(i)
		if in.Version != d.ro.To || !in.State.Counts() || d.group.Serves(in) {
			continue
		}
		r := newestIllness(in)
		late := d.group.IsOverdue(d.now, in) && d.deadline(in).After(d.ro.Resumed)
		if late || (r != nil && r.Since.After(d.ro.Resumed)) { // what was before is answered
			ill++
		}
	}
	judged = t.newServing + ill
	if judged == 0 {
		return 0, 0
	}
	return 100 * float64(t.newServing) / float64(judged), judged
}

// undecided is the gate that keeps a wave whose soak is over from passing, or nil, and until
// when its soak lasts on; past that the rollout is held. Of several it is the one that waits
// for the shortest time.
func (d *deciding) undecided() (first *gate.Gate, until time.Time) {
	for k := range d.ro.Gates {
		g := &d.ro.Gates[k]
		goesOn := g.OnUndecided == gate.GoOn && !g.Alarming()
		if goesOn || !g.Kind.Compares() || d.ro.Times[d.ro.Wave].Waived || g.State(d.ro.Comparing()) != gate.Undecided {
			continue
		}
		lasts := d.ro.Since.Add(d.ro.soak())
		if g.OnUndecided == gate.Extend {
			lasts = lasts.Add(min(max(d.ro.soak(), time.Minute), gate.LongestExtension))
		}
		if first == nil || lasts.Before(until) {
			first, until = g, lasts
		}
	}
	return first, until
}

func (d *deciding) gateCause(code Code, g *gate.Gate) Cause {
	return Cause{Code: code, About: string(g.Kind), Words: g.Metric, Numbers: Numbers{
		{"new_percent", 100 * g.Seen.New.Share()}, {"new_requests", float64(g.Seen.New.N)},
		{"old_percent", 100 * g.Seen.Old.Share()}, {"old_requests", float64(g.Seen.Old.N)},
		{"margin_points", 100 * g.Margin}, {"evidence", g.Seen.Evidence()}, {"least", float64(g.MinRequests)}, {"in_wave", float64(g.Seen.New.N - g.Before)}, span("line_seconds", g.Seen.Line),
		{"at", g.At}, count("below", map[bool]int{true: 1}[g.Below]),
	}}
}

// Gates are those of the view's rollout, with what they have seen until now.
func (v *View) Gates(now time.Time) []gate.Gate {
	if v.Rollout == nil {
		return nil
	}
	gates := withSeen(v.Rollout.Gates, v.Seen)
	if d := begin(now, *v); d.ro != nil {
		for k := range gates {
			if !gates[k].Kind.Compares() {
				value, judged := d.measure(gates[k].Kind)
				gates[k].Value, gates[k].Judged, gates[k].Eased = value, judged, d.eased(&gates[k], value)
			}
		}
	}
	return gates
}

// withSeen are the gates with what was seen of them until now.
func withSeen(gates []gate.Gate, seen []gate.Comparison) []gate.Gate {
	gates = slices.Clone(gates)
	if len(seen) == len(gates) {
		for k := range gates {
			gates[k].Seen = seen[k]
		}
	}
	return gates
}
