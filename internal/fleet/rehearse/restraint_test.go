package rehearse

import (
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/placement"
)

// That healing makes no outage worse, and that a group is whole again in time.

// invariant9: past heal-limit healing stops.
func (k *watch) invariant9(before fleet.View, was map[string]*fleet.Instance, d fleet.Decision) {
	g := before.Group
	if d.Group != nil { // what a rule has just made it
		g.Size = d.Group.Size
	}
	check := g.Heal.Check()
	limit := max(g.Size*g.HealLimit/100, 1)
	permitted := func(since time.Time) bool { return !since.After(g.HealPermit) }
	unwell, healed := 0, 0
	for i := range before.Instances {
		in := &before.Instances[i]
		m := k.p.w.Machines[in.ID]
		r := k.p.w.View.Rollout
		held := r != nil && r.State == fleet.Held && r.Cause.Instance == in.ID
		if in.State == fleet.Serving && !in.Pinned && !held && m != nil && !m.Gone && !m.Bad[check].IsZero() {
			unwell++
		}
	}
	for i := range k.p.w.View.Instances {
		if in := &k.p.w.View.Instances[i]; len(k.healed) > 0 && k.healed[in.Slot] && in.State == fleet.Serving && k.opens(in) {
			delete(k.healed, in.Slot) // made good
		}
	}
	// Whoever failed is missing before anything is decided of it.
	left := slices.ContainsFunc(d.Changed, func(in *fleet.Instance) bool {
		old := was[in.ID]
		return old != nil && old.Counts() && !in.Counts() && slices.Contains([]fleet.Code{fleet.CodeVanished, fleet.CodeRefused, fleet.CodeHookFailed,
			fleet.CodeNotUp, fleet.CodeNotHealthy, fleet.CodeRestedOver}, in.Cause.Code)
	})
	if len(k.healed) > 0 && counted(before) >= g.Size && !left {
		k.forget(before)
	}
	for _, in := range d.Changed {
		old := was[in.ID]
		m := k.p.w.Machines[in.ID]
		if old == nil || old.State != fleet.Serving || in.Cause.Code != fleet.CodeChecked || in.State.Counts() || check == "" {
			continue
		}
		if m == nil || m.Bad[check].IsZero() {
			k.fail("9: %s was healed, and %s finds it well", in.ID, check)
			continue
		}
		if !permitted(m.Bad[check]) {
			healed++
			if len(k.healed)+unwell > limit {
				k.fail("9: %s was healed while %d are ill and %d are not made good, the limit is %d", in.ID, unwell, len(k.healed), limit)
			}
		}
	}
	for _, in := range d.Changed {
		if old := was[in.ID]; old != nil && old.State == fleet.Serving && in.Cause.Code == fleet.CodeChecked && !in.State.Counts() && !k.replaced(in.Slot) {
			k.healed[in.Slot] = true
		}
	}
	if healed > limit {
		k.fail("9: %d healed at once, the limit is %d", healed, limit)
	}
	k.mustHeal(before, unwell, limit)
	k.mustReplaceFirst(before, was, d)
	k.spareTheServing(was, d)
}

// mustHeal: what may be healed is healed, at once where nothing comes before it goes.
func (k *watch) mustHeal(before fleet.View, unwell, limit int) {
	g := before.Group
	check := g.Heal.Check()
	if check == "" || g.Above > 0 || before.Rollout != nil || k.p.w.View.Rollout != nil || g.Frozen != "" || g.Deleting {
		return
	}
	for i := range k.p.w.View.Instances {
		in := &k.p.w.View.Instances[i]
		m := k.p.w.Machines[in.ID]
		if in.State != fleet.Serving || in.Pinned || m == nil || m.Gone || m.Bad[check].IsZero() || in.Since.After(m.Bad[check]) {
			continue
		}
		if unwell+len(k.healed) <= limit || !m.Bad[check].After(g.HealPermit) {
			k.fail("9: %s is ill by %s and stays, with %d ill and %d not made good, the limit is %d", in.ID, check, unwell, len(k.healed), limit)
		}
	}
}

// mustReplaceFirst: with room above, one that answers is healed once another answers in
// its place.
func (k *watch) mustReplaceFirst(before fleet.View, was map[string]*fleet.Instance, d fleet.Decision) {
	if before.Group.Above == 0 || before.Rollout != nil || k.p.w.View.Rollout != nil {
		return
	}
	for _, in := range d.Changed {
		old := was[in.ID]
		if old == nil || old.State != fleet.Serving || in.Cause.Code != fleet.CodeChecked || in.State.Counts() || !k.p.w.Machines[in.ID].Answers(before.Group.Checks) {
			continue
		}
		if !k.replaced(in.Slot) && !slices.ContainsFunc(d.Changed, func(o *fleet.Instance) bool { // who then went for another reason
			old := was[o.ID]
			return o.Slot == in.Slot && o.ID != in.ID && old != nil && old.State == fleet.Serving && o.Cause.Code != fleet.CodeChecked
		}) {
			k.fail("9: %s answered and was healed, and nobody serves in its place", in.ID)
		}
	}
}

// counted is how many instances there are that are to stay.
func counted(v fleet.View) int {
	n := 0
	for i := range v.Instances {
		if v.Instances[i].Counts() {
			n++
		}
	}
	return n
}

// replaced reports whether another stands in the slot.
func (k *watch) replaced(slot int) bool {
	return slices.ContainsFunc(k.p.w.View.Instances, func(in fleet.Instance) bool {
		return in.Slot == slot && in.State == fleet.Serving
	})
}

// forget ends the accounts of slots that nobody stands in while none is missing: others
// took their places.
func (k *watch) forget(v fleet.View) {
	for slot := range k.healed {
		if !slices.ContainsFunc(v.Instances, func(in fleet.Instance) bool { return in.Slot == slot && in.Counts() }) {
			delete(k.healed, slot)
		}
	}
}

// spareTheServing: nobody who answers goes for the size while one stays that does no
// good.
func (k *watch) spareTheServing(was map[string]*fleet.Instance, d fleet.Decision) {
	if k.p.w.View.Rollout != nil || d.Rollout != nil {
		return
	}
	for _, gone := range d.Changed {
		old := was[gone.ID]
		if old == nil || gone.Cause.Code != fleet.CodeSize || old.State != fleet.Serving || !k.p.w.Machines[gone.ID].Answers(k.p.w.View.Group.Checks) {
			continue
		}
		if g := k.p.w.View.Group; gone.Version == g.Template && (g.Shed == "" || g.Shed == fleet.ShedOutdated) && k.keepsOutdated(gone.Zone) && !old.Renew {
			k.fail("9: %s went for the size, and an outdated one stays in %s", gone.ID, gone.Zone)
		}
		for i := range k.p.w.View.Instances {
			in := &k.p.w.View.Instances[i]
			fresh := in.State.ComingUp() && in.Served.IsZero() && was[in.ID] != nil
			if !in.Pinned && (fresh || (in.State == fleet.Serving && !k.opens(in))) {
				k.fail("9: %s answered and went, and %s stays, which is %s and serves nobody", gone.ID, in.ID, in.State)
			}
		}
	}
}

// keepsOutdated reports whether one that is outdated and may go serves in the zone.
func (k *watch) keepsOutdated(zone string) bool {
	return slices.ContainsFunc(k.p.w.View.Instances, func(in fleet.Instance) bool {
		return in.Zone == zone && in.Version != k.p.w.View.Group.Template && in.State == fleet.Serving && !in.Pinned
	})
}

// invariant10: launches stay within a bound an hour, however everything fails. A place
// that waits 0, 10, 20 s and so on up to 10 m between two is filled 12 times in an
// hour; there are as many as the size ever was, and above. People change versions and
// sizes meanwhile, which begins anew: twice as many, and one for every time they did.
func (k *watch) invariant10(largest, changes int) {
	limit := 2*12*(largest+4) + changes*(largest+4)
	var launches []time.Time
	for _, l := range k.p.w.Journal {
		if l.Kind == "instance.ordered" {
			for range max(len(l.Instances), 1) {
				launches = append(launches, l.At)
			}
		}
	}
	for i := limit; i < len(launches); i++ {
		if launches[i].Sub(launches[i-limit]) < time.Hour {
			k.fail("10: %d launches in an hour", limit+1)
			return
		}
	}
}

// mustBeBalanced expects every instance where the group's spread wants it.
func (k *watch) mustBeBalanced() {
	g := k.p.w.View.Group
	zones := make([]placement.Zone, len(g.Zones))
	for n, name := range g.Zones {
		zones[n] = placement.Zone{Name: name, Open: true}
	}
	placement.Rank(zones, g.Spread, k.p.w.View.Prices)
	for i := range k.p.w.View.Instances {
		in := &k.p.w.View.Instances[i]
		n := slices.Index(g.Zones, in.Zone)
		if n < 0 {
			k.fail("10: %s is in %s, which is not one of %v", in.ID, in.Zone, g.Zones)
			return
		}
		zones[n].Count++
	}
	for from := range zones {
		for to := range zones {
			if zones[from].Count > 0 && placement.Helps(zones, from, to) {
				k.fail("10: spread %s is out of balance: %+v", g.Spread, zones)
				return
			}
		}
	}
}
