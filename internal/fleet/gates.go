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
func (r *Rollout) Compares() bool { return r.walks() && len(r.Gates) > 0 }

// judgeGates stops a rollout whose new instances do worse than the old ones, by evidence
// that may be looked at all the time.
func (d *deciding) judgeGates() {
	if !d.ro.Compares() {
		return
	}
	d.lookAt(d.now.Add(GatesEvery))
	for k := range d.ro.Gates {
		g := &d.ro.Gates[k]
		if g.State(len(d.ro.Gates)) != gate.Broken {
			continue
		}
		because := d.gateCause(CodeGateBroke, g)
		if g.Broken == gate.Revert {
			d.ro.Back, d.ro.Turned = true, because
			d.turn(Reverting, because)
		} else {
			d.hold(because)
		}
		return
	}
}

// undecided is the gate that keeps a wave whose soak is over from passing, or nil, and until
// when its soak lasts on; past that the rollout is held. Of several it is the one that waits
// for the shortest time.
func (d *deciding) undecided() (first *gate.Gate, until time.Time) {
	for k := range d.ro.Gates {
		g := &d.ro.Gates[k]
		if g.Undecided == gate.GoOn || g.State(len(d.ro.Gates)) != gate.Undecided {
			continue
		}
		lasts := d.ro.Since.Add(d.ro.Soak)
		if g.Undecided == gate.Extend {
			lasts = lasts.Add(min(max(d.ro.Soak, time.Minute), gate.LongestExtension))
		}
		if first == nil || lasts.Before(until) {
			first, until = g, lasts
		}
	}
	return first, until
}

func (d *deciding) gateCause(code Code, g *gate.Gate) Cause {
	return Cause{Code: code, About: string(g.Kind), Numbers: Numbers{
		{"new_percent", 100 * g.Seen.New.Share()}, {"new_requests", float64(g.Seen.New.N)},
		{"old_percent", 100 * g.Seen.Old.Share()}, {"old_requests", float64(g.Seen.Old.N)},
		{"margin_points", 100 * g.Margin}, {"evidence", g.Seen.Evidence()}, {"least", float64(g.Least)}, {"in_wave", float64(g.Seen.New.N - g.Before)}, span("line_seconds", g.Seen.Line),
	}}
}

// Gates are those of the view's rollout, with what they have seen until now.
func (v *View) Gates() []gate.Gate {
	if v.Rollout == nil {
		return nil
	}
	return withSeen(v.Rollout.Gates, v.Seen)
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
