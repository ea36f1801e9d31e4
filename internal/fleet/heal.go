package fleet

import (
	"time"

	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/health"
)

// heal sends away what is ill: reconcile orders one new for each. What never
// came up goes whatever the limit, which is for what a check finds ill.
func (d *deciding) heal() {
	check := d.group.Heal.Check()
	if d.group.Heal != HealOff {
		asked := check
		if d.group.Heal == HealTraffic { // nobody asks before there is traffic
			asked = ""
		}
		for _, i := range d.unsteady {
			d.giveUp(i, asked)
		}
	}
	if check == "" {
		d.noHealing()
		return
	}
	d.forgive()
	evidence := d.evidence()
	var ill []int
	for _, i := range d.unsteady {
		if in := d.at(i); d.group.needsHealing(in) && !in.Pinned && in.ID != evidence {
			ill = append(ill, i)
		}
	}
	d.healIll(check, ill)
}

// giveUp sends an instance away that did not come up in its time.
func (d *deciding) giveUp(i int, check string) {
	in := d.at(i)
	if !d.group.IsOverdue(d.now, in) || in.Pinned || d.ofRollout(in) {
		return
	}
	if in.State == Settling && check == "" {
		return // the machine runs, and that is all that was asked of it
	}
	because, _ := d.group.Overdue(d.now, in)
	d.setBack(in)
	d.retire(i, because)
	d.failed(i, because)
}

// ofRollout reports whether a failed instance is the live rollout's business:
// while it is held the instance is what a person has to look at, and while it
// goes back the instance goes anyway.
func (d *deciding) ofRollout(in *Instance) bool {
	return d.ro != nil && (d.ro.State == Held || d.ro.Back) && in.Version == d.ro.To && in.Served.IsZero()
}

// evidence is the new instance whose illness a rollout is held for, or "": it stays
// as it is for a person to look at.
func (d *deciding) evidence() string {
	if d.ro == nil || d.ro.State != Held || d.ro.Cause.Code != CodeTurnedIll {
		return ""
	}
	return d.ro.Cause.Instance
}

// noHealing ends what is left of healing by a check.
func (d *deciding) noHealing() {
	for k := range d.group.Slots {
		if d.group.Slots[k].Healed {
			d.group.Slots[k].Healed, d.groupChanged = false, true
		}
	}
	if !d.group.HealStopped.IsZero() {
		d.group.HealStopped, d.groupChanged = time.Time{}, true
		d.entry(Entry{Kind: "group.healing-resumed", Cause: Cause{Code: CodeHealsBy, About: string(d.group.Heal)}})
	}
}

// healIll replaces what the check finds ill, unless that would be too much of
// the group at once: then the fault is likelier outside of it.
func (d *deciding) healIll(check string, ill []int) {
	unwell, limit := len(ill)+d.healing(), d.group.healsAtOnce()
	d.noteHealing(check, unwell, limit)
	for _, i := range ill {
		in := d.at(i)
		r := in.Report(check)
		if unwell > limit && r.Since.After(d.group.HealPermit) {
			continue
		}
		first := d.calm() && d.group.Above > 0 // another serves before it goes
		replaced := first && d.mate(i, true) >= 0
		switch {
		case replaced && d.group.Serves(in) && d.tally(in.Version).serving <= d.group.Size:
			d.due = append(d.due, i) // others are missing
		case replaced:
			d.sendIll(i, r, unwell, limit)
		case first && len(d.due) < d.group.Above && d.rested(in, r.Since):
			d.due = append(d.due, i)
		case d.group.Serves(in) && (!d.calm() || d.group.Above > 0):
			// It goes on serving until another does: its turn comes.
		default:
			if d.mate(i, true) < 0 { // else another serves in its stead already
				d.slotOf(in.Slot).Healed = true
			}
			d.sendIll(i, r, unwell, limit)
		}
	}
}

// sendIll sends away what the report finds ill, and counts it against its place.
func (d *deciding) sendIll(i int, r health.Report, unwell, limit int) {
	if d.ro.advances() && d.ro.gate(gate.Healthy) != nil {
		d.stumble(i, checked(r))
	}
	d.retire(i, checked(r), span("unhealthy_seconds", d.now.Sub(r.Since)), count("unwell", unwell), count("heal_limit", limit))
	d.failed(i, checked(r))
}

// healsAtOnce is how many instances a check may have replaced at once.
func (g *Group) healsAtOnce() int {
	if g.HealLimit == 0 {
		return max(g.Size, 1)
	}
	return max(g.Size*g.HealLimit/100, 1)
}

// noteHealing records that healing stops at the limit, and that it goes on.
func (d *deciding) noteHealing(check string, unwell, limit int) {
	stopped := unwell > limit
	if stopped == !d.group.HealStopped.IsZero() {
		return
	}
	numbers := Numbers{count("unwell", unwell), count("size", d.group.Size), count("heal_limit", limit), count("heal_limit_percent", d.group.HealLimit)}
	e := Entry{Kind: "group.healing-stopped", Cause: Cause{Code: CodeTooMany, About: check, Numbers: numbers}}
	d.group.HealStopped = d.now
	if !stopped {
		d.group.HealStopped = time.Time{}
		e.Kind, e.Cause.Code = "group.healing-resumed", CodeFewAgain
	}
	d.groupChanged = true
	d.entry(e)
}
