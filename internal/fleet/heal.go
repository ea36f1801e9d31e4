package fleet

import (
	"fmt"
	"time"
)

// heal sends away what is ill: reconcile orders one new for each. What never
// came up goes whatever the limit, which is for what a check finds ill.
func (d *deciding) heal() {
	check := d.group.Heal.Check()
	var ill []int
	for i := range d.ins {
		in := &d.ins[i]
		if d.group.Heal == HealOff {
			continue
		}
		if because, yes := d.overdue(in); yes && !in.Pinned && !d.ofRollout(in) {
			if in.State == Settling && check == "" {
				continue // the machine runs, and that is all that was asked of it
			}
			d.setBack(in)
			d.retire(i, because, nil)
			d.failed(i, because)
			continue
		}
		if d.group.needsHealing(in) {
			ill = append(ill, i)
		}
	}
	if check == "" {
		return
	}
	d.healIll(check, ill)
}

// healIll replaces what the check finds ill, unless that would be too much of
// the group at once: then the fault is likelier outside of it.
func (d *deciding) healIll(check string, ill []int) {
	if len(ill) == 0 && d.group.Owing > 0 && d.tally(d.group.Template).serving >= d.group.Size {
		d.group.Owing = 0 // the group is whole again, in whatever way
		d.groupChanged = true
	}
	unwell, limit := len(ill)+d.group.Owing, d.group.healsAtOnce()
	d.noteHealing(check, unwell, limit)
	for _, i := range ill {
		in := &d.ins[i]
		r := in.Report(check)
		switch {
		case in.Pinned || (unwell > limit && r.Since.After(d.group.HealPermit)):
		case d.ro == nil && len(d.due) < d.group.Above && d.rested(in, r.Since):
			d.due = append(d.due, i)
		case d.group.Serves(in) && (d.ro != nil || d.group.Above > 0):
			// It goes on serving until another does: its turn comes.
		default:
			d.group.Owing++
			d.groupChanged = true
			d.sendIll(i, check, unwell, limit)
			d.failed(i, check+" "+r.Why)
		}
	}
	d.healDue(check, unwell, limit)
}

// healDue sends away those in whose stead others serve by now; for the rest
// reconcile orders one each.
func (d *deciding) healDue(check string, unwell, limit int) {
	standing, serving := 0, 0
	for i := range d.ins {
		if d.ins[i].State == Serving {
			standing++
		}
		if d.group.Serves(&d.ins[i]) {
			serving++
		}
	}
	waiting := d.due
	d.due = nil
	for _, i := range waiting {
		serves := d.group.Serves(&d.ins[i])
		if standing <= d.group.Size || (serves && serving <= d.group.Size) {
			d.due = append(d.due, i)
			continue
		}
		standing--
		if serves {
			serving--
		}
		in := &d.ins[i]
		d.sendIll(i, check, unwell, limit)
		d.failed(i, in.Why)
		d.inherit(in.ID)
	}
}

func (d *deciding) sendIll(i int, check string, unwell, limit int) {
	r := d.ins[i].Report(check)
	d.retire(i, check+" "+r.Why, map[string]any{"unhealthy_seconds": seconds(d.now.Sub(r.Since)), "unwell": unwell, "heal_limit": limit})
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
	e := Entry{Kind: "group.healing-stopped", Text: fmt.Sprintf("Healing of %s stops and asks for a person.", d.group.Name),
		Because: fmt.Sprintf("%s finds %d of %d unhealthy or being replaced, and the limit is %d at once; the fault is likelier outside", check, unwell, d.group.Size, limit),
		Numbers: map[string]any{"unwell": unwell, "heal_limit": limit, "heal_limit_percent": d.group.HealLimit, "size": d.group.Size}}
	d.group.HealStopped = d.now
	if !stopped {
		d.group.HealStopped = time.Time{}
		e.Kind, e.Text = "group.healing-resumed", fmt.Sprintf("Healing of %s goes on.", d.group.Name)
		e.Because = fmt.Sprintf("%s finds %d of %d unhealthy or being replaced, within the limit of %d at once", check, unwell, d.group.Size, limit)
	}
	d.groupChanged = true
	d.entry(e)
}
