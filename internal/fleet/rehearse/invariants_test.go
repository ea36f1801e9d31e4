package rehearse

import (
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/placement"
)

// launchLimit is how many launches there may be in any hour of a plan, whatever fails:
// a place that waits 0, 10, 20 s and so on up to 10 m between two is filled 12 times
// in an hour; a plan has at most 16, and people change versions meanwhile, which begins
// anew: twice as many.
const launchLimit = 2 * 12 * 16

// mustNotHammer expects that what fails is launched ever more slowly.
func (p *plan) mustNotHammer() {
	var launches []time.Time
	for _, l := range p.w.Journal {
		if l.Kind == "instance.ordered" {
			launches = append(launches, l.At)
		}
	}
	for i := launchLimit; i < len(launches); i++ {
		if launches[i].Sub(launches[i-launchLimit]) < time.Hour {
			p.fail("7: %d launches in an hour", launchLimit+1)
			return
		}
	}
}

// mustBeBalanced expects every instance where the group's spread wants it.
func (p *plan) mustBeBalanced() {
	g := p.w.View.Group
	zones := make([]placement.Zone, len(g.Zones))
	for k, name := range g.Zones {
		zones[k] = placement.Zone{Name: name, Open: true}
	}
	placement.Rank(zones, g.Spread, p.w.View.Prices)
	for i := range p.w.View.Instances {
		in := &p.w.View.Instances[i]
		k := slices.Index(g.Zones, in.Zone)
		if k < 0 {
			p.t.Errorf("seed %d: %s is in %s, which is not one of %v", p.seed, in.ID, in.Zone, g.Zones)
			return
		}
		zones[k].Count++
	}
	for from := range zones {
		for to := range zones {
			if zones[from].Count > 0 && placement.Helps(zones, from, to) {
				p.t.Errorf("seed %d: spread %s is out of balance: %+v", p.seed, g.Spread, zones)
				return
			}
		}
	}
}

// mustHaveReason expects an instance that serves to be removed for balance, size, a
// rollout, a person, or what the healing check finds alone.
func (p *plan) mustHaveReason(old, in fleet.Instance) {
	if check := p.w.View.Group.Heal.Check(); old.Report(check).Verdict == health.Unhealthy && strings.HasPrefix(in.Why, check+" failed") {
		return
	}
	for _, reason := range []string{"the group has ", "the size is ", "replaced by ", "a person asked"} {
		if strings.HasPrefix(in.Why, reason) {
			return
		}
	}
	p.fail("%s was healthy and was sent away: %s", old.ID, in.Why)
}

// mustHold checks one decision against what must never break.
func (p *plan) mustHold(before fleet.View, d fleet.Decision) {
	after := p.w.View
	g := after.Group
	above, below := before.Group.Above, 0
	if r := before.Rollout; r != nil {
		above, below = r.Above, r.Below
	}
	was := map[string]fleet.Instance{}
	for _, in := range before.Instances {
		was[in.ID] = in
	}
	entries := map[string]string{}
	for _, e := range d.Entries {
		entries[e.Instance+" "+e.Kind] = e.Because
	}

	check := g.Heal.Check()
	unwell := 0 // by the healing check, before
	for i := range before.Instances {
		if in := &before.Instances[i]; in.State == fleet.Serving && in.Report(check).Verdict == health.Unhealthy && !in.Report(check).Since.Before(g.HealPermit) {
			unwell++
		}
	}
	healed := 0
	chosen := 0 // serving ones that were sent away
	for _, in := range d.Changed {
		old, known := was[in.ID]
		if in.State != old.State && entries[in.ID+" instance."+string(in.State)] == "" {
			p.fail("6: %s became %s with no cause in the journal", in.ID, in.State)
		}
		if known && before.Group.Serves(&old) && in.State != fleet.Lost && in.State != fleet.Serving {
			if g.Above > 0 || in.Why != check+" "+old.Report(check).Why { // without room the ill goes first
				chosen++
			}
			p.mustHaveReason(old, in)
		}
		if known && old.Pinned && (in.State == fleet.Draining || in.State == fleet.Leaving) && old.State.Counts() && old.Machine.State != fleet.MachineRefused {
			p.fail("4: %s is pinned and was sent away: %s", in.ID, in.Why)
		}
		if r := old.Report(check); known && old.State == fleet.Serving && strings.HasPrefix(in.Why, check+" failed") && !in.State.Counts() && r.Since.After(g.HealPermit) {
			healed++
		}
		if known && before.Rollout == nil && before.Group.Serves(&old) && strings.HasPrefix(in.Why, "the group has ") {
			p.mustSpareNobody(old)
		}
		if before.Group.Frozen != "" && (!known || (in.State == fleet.Draining && old.State != in.State)) {
			p.fail("%s became %s in a frozen group", in.ID, in.State)
		}
		p.mustTakeTrafficRightly(old, in)
	}
	if limit := max(g.Size*g.HealLimit/100, 1); healed > 0 && g.Owing > limit {
		p.fail("9: %d healed and %d are being made good, the limit is %d", healed, g.Owing, limit)
	}
	if limit := max(g.Size*g.HealLimit/100, 1); healed > 0 && unwell > limit {
		p.fail("9: %d healed while %d are ill, the limit is %d", healed, unwell, limit)
	}
	serving, counted, pinned, back := 0, 0, 0, 0
	for i := range after.Instances {
		in := &after.Instances[i]
		if g.Serves(in) {
			serving++
		}
		if in.Counts() {
			counted++
			if in.State == fleet.Resting || in.Renew || (in.State == fleet.Settling && !in.Served.IsZero()) {
				back++ // a person let it come back; another goes once it serves
			}
			if in.Pinned {
				pinned++
			}
		}
	}
	if chosen > 0 && serving < g.Size-below {
		p.fail("1: %d sent away by choice, %d serve, size %d below %d", chosen, serving, g.Size, below)
	}
	if before.Group.Frozen != "" {
		return // the size may have been changed meanwhile, and nothing follows it yet
	}
	counted -= back
	if limit := max(g.Size+above, pinned); counted > limit && (counted > pinned+g.Size+above || pinned == 0) {
		p.fail("2: %d instances, size %d above %d pinned %d", counted, g.Size, above, pinned)
	}
	if counted > g.Max+above+pinned {
		p.fail("2: %d instances, max %d above %d", counted, g.Max, above)
	}
	if r := d.Rollout; r != nil && before.Rollout != nil && r.State != before.Rollout.State && r.Why == "" {
		p.fail("6: the rollout is %s with no cause", r.State)
	}
	if r := d.Rollout; r != nil && r.State == fleet.Done && r.To.N == p.badVersion && !p.crashes && g.Size > 0 && pinned == 0 {
		p.fail("8: a rollout to the bad version is done")
	}
}

// mustSpareNobody expects that nobody who serves goes for the size while one stays
// that does no good.
func (p *plan) mustSpareNobody(gone fleet.Instance) {
	for i := range p.w.View.Instances {
		in := &p.w.View.Instances[i]
		if fresh := in.State.ComingUp() && in.Served.IsZero() && in.Ordered.Before(p.w.Now); !in.Pinned && (fresh || in.State == fleet.Serving) && !p.w.View.Group.Serves(in) {
			p.fail("9: %s served and went, and %s stays, which is %s and serves nobody", gone.ID, in.ID, in.State)
		}
	}
}

// mustTakeTrafficRightly checks the life of one target.
func (p *plan) mustTakeTrafficRightly(old, in fleet.Instance) {
	if in.State == fleet.Serving && old.State != fleet.Serving && in.Report("sailings-up").Verdict != health.Healthy {
		p.fail("5: %s serves and is %s", in.ID, in.Report("sailings-up").Verdict)
	}
	if old.State == fleet.Serving && in.State == fleet.Leaving {
		p.fail("5: %s was stopped without a drain", in.ID)
	}
	if old.State == fleet.Draining && in.State == fleet.Leaving {
		drained := old.Traffic.Closed && old.Traffic.InFlight == 0
		over := p.w.Now.Sub(old.Since) >= p.w.View.Group.Drain
		if !drained && !over && old.Machine.State != fleet.MachineStopped {
			p.fail("5: %s was stopped with %d in flight", in.ID, old.Traffic.InFlight)
		}
	}
}

func (p *plan) fail(format string, args ...any) {
	p.t.Helper()
	p.t.Errorf("seed %d at %s: "+format, append([]any{p.seed, p.w.Now.Sub(epoch)}, args...)...)
}
