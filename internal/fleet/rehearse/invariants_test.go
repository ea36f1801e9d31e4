package rehearse

import (
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
)

// What must never break, one function for each, by its number. They read the machines
// and what was sent to them, and the settings that people made; of the records they take
// only what a person can see of them. What a person did by hand is no choice of the
// service's, and faults are none.

// watch checks every decision and act of a plan.
type watch struct {
	p *plan
	// healed are the slots of instances that the healing check had sent away and in which
	// none has answered since.
	healed map[int]bool
	// ends are where and when machines of the rollout's new version ended in this wave.
	ends []string
	wave wave
	// asked is what somebody was asked about each instance.
	asked  map[string]*asked
	anew   time.Time // the last time that was begun to be watched anew
	second *opinion
	// lastFrozen is when it was last seen that the group was frozen.
	lastFrozen time.Time
}

// wave is one stretch of a rollout that nobody said anything in between.
type wave struct {
	n       int
	resumed time.Time
}

func (k *watch) fail(format string, args ...any) {
	k.p.t.Helper()
	k.p.t.Errorf("seed %d at %s: "+format, append([]any{k.p.seed, k.p.w.Now.Sub(epoch)}, args...)...)
}

// decided is called with every decision, before its steps are carried out.
func (k *watch) decided(before fleet.View, d fleet.Decision) {
	was := map[string]*fleet.Instance{}
	for i := range before.Instances {
		was[before.Instances[i].ID] = &before.Instances[i]
	}
	k.invariant1(before, was, d)
	k.invariant2(before)
	k.invariant3()
	k.invariant4(was, d)
	k.drainsEnd()
	k.invariant6(was, d)
	k.invariant8(before, d)
	k.invariant9(before, was, d)
	k.frozen(before, was, d)
	k.heldAtOnce()
	k.sizes(before, d)
	k.second.step(before, d)
}

// room is how many more and fewer than the size there may be.
func room(v fleet.View) (above, below int) {
	r := v.Rollout
	if r == nil {
		return v.Group.Above, 0
	}
	if below = r.Below; r.AtOnce { // nobody need serve meanwhile, of those that came since either
		below = v.Group.Size
	}
	if v.Group.Size < r.Sized { // a share of what it was
		below = r.Below * v.Group.Size / r.Sized
		if below == 0 && r.Above == 0 {
			below = 1
		}
	}
	if above = r.Above; r.State == fleet.Held && !r.Back { // it is looked after as without it
		above = max(above, v.Group.Above)
	}
	if !r.StartAt.IsZero() || r.Hours != "" { // while it waits the group goes on as without it
		above = max(above, v.Group.Above)
	}
	return above, min(below, v.Group.Size)
}

// invariant1: nothing that the service chooses to do takes those that answer below
// size - below. Without room above the ill goes before another comes; that is healing.
func (k *watch) invariant1(before fleet.View, was map[string]*fleet.Instance, d fleet.Decision) {
	g := before.Group
	if d.Group != nil { // a rule makes it smaller and acts on that at once
		g.Size = min(g.Size, d.Group.Size)
	}
	chosen, turns := 0, 0
	left := 0
	sent := map[string]bool{}
	for _, in := range d.Changed {
		if old := was[in.ID]; old != nil && old.State == fleet.Serving && (in.State == fleet.Draining || in.State == fleet.HeldOut || in.State == fleet.Leaving) {
			sent[in.ID] = true
			m := k.p.w.Machines[in.ID]
			ill := m != nil && !m.Bad[g.Heal.Check()].IsZero()
			if m.Answers(g.Checks) && (g.Above > 0 || !ill) && !g.Deleting {
				if in.Cause.Code == fleet.CodeTurn {
					turns++
				} else {
					chosen++
				}
				k.mustHaveReason(old, in, ill)
			}
		}
	}
	for i := range k.p.w.View.Instances {
		if in := &k.p.w.View.Instances[i]; in.State == fleet.Serving && !sent[in.ID] && k.opens(in) {
			left++
		}
	}
	if turns > 1 || (turns > 0 && left < g.Size-1) {
		k.fail("1: %d that answer were sent away for fresh machines at once, and %d are left of %d", turns, left, g.Size)
	}
	if _, below := room(before); chosen > 0 && left < g.Size-below-min(turns, 1) {
		k.fail("1: %d that answer were sent away by choice and %d are left, size %d below %d", chosen, left, g.Size, below)
	}
}

// opens reports whether the machine of an instance in service answers requests, or
// will as soon as it is sent some.
func (k *watch) opens(in *fleet.Instance) bool {
	m := k.p.w.Machines[in.ID]
	if m == nil {
		return false
	}
	as := *m
	as.Open = true
	return as.Answers(k.p.w.View.Group.Checks)
}

// mustHaveReason expects one that answered to go for balance, size, a rollout, or what
// the healing check really finds.
func (k *watch) mustHaveReason(old *fleet.Instance, in *fleet.Instance, ill bool) {
	switch in.Cause.Code {
	case fleet.CodeSize, fleet.CodeRoom, fleet.CodeReplaced, fleet.CodeTurn:
		return
	case fleet.CodeChecked:
		if ill {
			return
		}
	}
	k.fail("1: %s answered and was sent away: %s", old.ID, say.Because(in.Cause))
}

// invariant2: never more than size + above, nor than max + above. What is on its way
// out, parked, coming back for a person, or left out and answers nobody is apart; pinned ones may be too many.
func (k *watch) invariant2(before fleet.View) {
	v := k.p.w.View
	if before.Group.Frozen != "" || v.Group.Deleting {
		return
	}
	above, _ := room(before)
	if v.Rollout != nil { // it may be held from this decision on
		now, _ := room(v)
		above = max(above, now)
	}
	n, pinned := 0, 0
	for i := range v.Instances {
		in := &v.Instances[i]
		m := k.p.w.Machines[in.ID]
		ended := m != nil && m.Launch == in.Launch && (m.Gone || m.Refused)
		back := in.State == fleet.Resting || in.Renew || (in.State == fleet.Settling && !in.Served.IsZero())
		if !in.State.Counts() || ended || back {
			continue
		}
		if k.leftIdle(before, in) {
			continue
		}
		n++
		if in.Pinned {
			pinned++
		}
	}
	if limit := max(v.Group.Size+above, pinned); n > limit && (n > pinned+v.Group.Size+above || pinned == 0) {
		k.fail("2: %d instances, size %d above %d pinned %d", n, v.Group.Size, above, pinned)
	}
	if n > v.Group.Max+above+pinned {
		k.fail("2: %d instances, max %d above %d", n, v.Group.Max, above)
	}
}

// leftIdle reports whether a rollout left an instance out that answers nobody: it takes no room from others.
func (k *watch) leftIdle(before fleet.View, in *fleet.Instance) bool {
	for _, r := range []*fleet.Rollout{before.Rollout, k.p.w.View.Rollout} {
		if r != nil && in.Version != r.To && (slices.Contains(r.Exclude, in.ID) || slices.Contains(r.ExcludeSlots, in.Slot)) && (in.State != fleet.Serving || !k.opens(in)) {
			return true
		}
	}
	return false
}

// invariant3: every machine belongs to a record. That none has two the world itself
// refuses.
func (k *watch) invariant3() {
	for id, m := range k.p.w.Machines {
		if !m.Gone && !m.Refused && k.p.w.Instance(id) == nil {
			k.fail("3: the machine of %s runs, and its record is gone", id)
		}
	}
}

// invariant4: a pinned instance is never chosen for removal.
func (k *watch) invariant4(was map[string]*fleet.Instance, d fleet.Decision) {
	for _, in := range d.Changed {
		old := was[in.ID]
		if old == nil || !old.Pinned || !old.State.Counts() || (in.State != fleet.Draining && in.State != fleet.HeldOut && in.State != fleet.Leaving) {
			continue
		}
		if m := k.p.w.Machines[in.ID]; m == nil || !m.Refused {
			k.fail("4: %s is pinned and was sent away: %s", in.ID, say.Because(in.Cause))
		}
	}
}

// invariant5: a target gets no request before every check found it healthy, nor after
// it began to drain; its machine is not stopped before its requests are done or its
// drain is over.
func (k *watch) invariant5(do fleet.Act, in *fleet.Instance, m *Machine) {
	if m == nil || m.Gone || m.Stopping {
		return
	}
	switch do {
	case fleet.Open:
		if !m.Running || !m.Good {
			k.fail("5: %s is sent requests, and was not found healthy", in.ID)
		}
	case fleet.Stop:
		drain := min(k.p.w.View.Group.Drain, k.p.leastDrain)
		if k.p.shaky { // it may have been closed that much later than it was decided
			drain -= 6 * time.Second
		}
		switch pools := len(k.p.w.View.Group.Checks) > 0; {
		case m.Open && pools && drain > 0:
			k.fail("5: %s is stopped while it gets requests", in.ID)
		case k.p.w.Now.Before(m.Busy) && k.p.w.Now.Before(m.Closed.Add(drain)) && k.p.w.Clock().Before(m.Closed.Add(m.Skewed+drain)): // by either clock
			k.fail("5: %s is stopped with requests in flight, %s after it was closed", in.ID, k.p.w.Now.Sub(m.Closed))
		}
	}
}

// drainsEnd: nothing drains for longer than drain.
func (k *watch) drainsEnd() {
	for i := range k.p.w.View.Instances {
		if in := &k.p.w.View.Instances[i]; in.State == fleet.Draining && in.Since.Before(k.p.w.Clock()) && !k.p.w.Clock().Before(in.Since.Add(k.p.w.View.Group.Drain)) {
			k.fail("5: %s drains, and its drain is over since %s", in.ID, k.p.w.Clock().Sub(in.Since.Add(k.p.w.View.Group.Drain)))
		}
	}
}

// needs are the numbers without which a cause cannot be told.
var needs = map[fleet.Code][]string{
	fleet.CodeSize: {"has", "size"}, fleet.CodeRoom: {"has", "may_have"}, fleet.CodeHeldShort: {"has", "size"},
	fleet.CodeWave: {"wave", "waves", "serving", "wanted"}, fleet.CodeBack: {"serving", "wanted"}, fleet.CodeBalance: {"has", "to_have"},
	fleet.CodeLeaveZone: {"has"}, fleet.CodeSpread: {"has", "to_have"}, fleet.CodeZoneFails: {"failures"}, fleet.CodeZoneWorks: {"failures"},
	fleet.CodeTooMany: {"unwell", "size", "heal_limit"}, fleet.CodeFewAgain: {"unwell", "size", "heal_limit"}, fleet.CodeStumbled: {"failures"},
	fleet.CodeFilled: {"wave", "waves"}, fleet.CodePassed: {"wave", "waves", "soak_seconds"}, fleet.CodeBackWhole: {"serving", "size"},
	fleet.CodeNotUp: {"limit_seconds"}, fleet.CodeNotHealthy: {"settle_seconds"}, fleet.CodeDrainOver: {"drain_seconds", "in_flight"},
}

// invariant6: every change of state has an entry with a cause and its numbers.
func (k *watch) invariant6(was map[string]*fleet.Instance, d fleet.Decision) {
	told := map[string]fleet.Cause{}
	for _, e := range d.Entries {
		for _, id := range append(slices.Clone(e.Instances), e.Instance) {
			told[id+" "+e.Kind] = e.Cause
		}
		for _, name := range needs[e.Cause.Code] {
			if !slices.ContainsFunc(e.Cause.Numbers, func(n fleet.Number) bool { return n.Name == name }) {
				k.fail("6: %s of %s says no %s: %s", e.Kind, e.Instance, name, say.Because(e.Cause))
			}
		}
	}
	for _, in := range d.Changed {
		if old := was[in.ID]; old != nil && old.State == in.State && old.Launch == in.Launch {
			continue
		}
		cause, ok := told[in.ID+" instance."+in.State.Shown()]
		if !ok || cause.Code == fleet.CodeWords || !cause.Is(in.Cause) {
			k.fail("6: %s became %s and the journal does not say why", in.ID, in.State)
		}
	}
	if r := d.Rollout; r != nil && r.Cause.Code == fleet.CodeWords {
		k.fail("6: the rollout is %s with no cause", r.State)
	}
}

// frozen: to a frozen group nothing happens but what facts bring about.
func (k *watch) frozen(before fleet.View, was map[string]*fleet.Instance, d fleet.Decision) {
	if before.Group.Frozen == "" {
		return
	}
	for _, in := range d.Changed {
		if old := was[in.ID]; old == nil || (in.State == fleet.Draining && old.State != in.State) {
			k.fail("%s became %s in a frozen group", in.ID, in.State)
		}
	}
}
