package fleet

import (
	"fmt"
	"time"

	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/words"
)

// Order is in which order a rollout replaces instances.
type Order string

// The orders: mixed over the zones; one zone after another, in the group's order; the oldest
// first, wherever they are. The zero value is Mixed.
const (
	Mixed       Order = "mixed"
	ZoneByZone  Order = "zone-by-zone"
	OldestFirst Order = "oldest-first"
)

// Manner is how a rollout goes about it, besides how far and how many at once.
type Manner struct {
	Order Order `json:"order,omitempty"`
	// AtOnce replaces all at once: nobody serves meanwhile.
	AtOnce bool `json:"at_once,omitempty"`
	// Exclude are instances that stay as they are, and ExcludeSlots where they stand: who takes the place
	// of one before it is replaced stays as well.
	Exclude      []string `json:"leave_out,omitempty"`
	ExcludeSlots []int    `json:"leave_out_slots,omitempty"`
	// StartAt is when it begins to replace; zero is at once.
	StartAt time.Time `json:"start_at"`
	// Hours are those of the day in which it replaces; "" is at any: "22:00-05:00 Europe/Paris".
	Hours Hours `json:"hours,omitempty"`
}

// MostLeftOut is how many instances a rollout may leave out.
const MostLeftOut = 1000

// Waits is until when a rollout on its way replaces nothing: its time has not come, or it is
// outside of its hours. Zero is that it does.
func (r *Rollout) Waits(now time.Time, at *time.Location) time.Time {
	if !r.advances() {
		return time.Time{}
	}
	if now.Before(r.StartAt) {
		return r.StartAt
	}
	if open, next := r.Hours.Opens(now, at); !open {
		return next
	}
	return time.Time{}
}

// AwaitsHealing reports whether a rollout on its way replaces nothing since healing of the group stopped
// after it was last told to go on: the fault is likelier outside, and what is ill may serve again.
func (r *Rollout) AwaitsHealing(g *Group) bool {
	return r.advances() && !r.AtOnce && g.HealStopped.After(r.Resumed)
}

// outOfHours reports whether the rollout waits for its time, and looks again then.
func (d *deciding) outOfHours() bool {
	until := d.ro.Waits(d.now, d.location)
	d.lookAt(until)
	return !until.IsZero()
}

// soak is how long the present wave must stay good.
func (r *Rollout) soak() time.Duration { return r.Waves[r.Wave].Soaking(r.Soak) }

// Soaking is the same, for whoever shows it.
func (r *Rollout) Soaking() time.Duration { return r.soak() }

// turnOf is the zone that gets the next instance of a version by the rollout's order, -1
// where that is left to the balance of zones: the first open one that has not its part of the size yet, of new
// ones and those that stay.
func (d *deciding) turnOf(v Version, open []placement.Zone) int {
	if !d.ro.advances() || d.ro.Order != ZoneByZone || v != d.ro.To || (d.group.Spread != "" && d.group.Spread != placement.Even) {
		return -1
	}
	zones := len(d.group.Zones)
	stay, has := make([]int, zones+1), make([]int, zones+1)
	for n := range d.counts.cells {
		switch k := &d.counts.cells[n]; {
		case k.version == v:
			has[k.zone] += k.counted
		default:
			stay[k.zone] += k.pinned + k.left
		}
	}
	for z := range zones {
		part := d.group.Size / zones
		if z < d.group.Size%zones {
			part++
		}
		if open[z].Open && has[z]+stay[z] < part {
			return z
		}
	}
	return -1
}

// noteLowest keeps how many served at the lowest while the rollout goes on.
func (d *deciding) noteLowest() {
	if d.ro == nil || d.ro.Lowest < 0 {
		return
	}
	if serving := d.tally(d.ro.To).serving; serving < d.ro.Lowest {
		d.ro.Lowest, d.roChanged = serving, true
	}
}

// settle brings the settings of a rollout that replaces all at once in line.
func (r *Rollout) atOnce(g *Group) {
	if r.AtOnce {
		r.Above, r.Below = 0, g.Size
		r.Waves = r.Waves[len(r.Waves)-1:]
	}
}

// validate reports a manner that cannot be, with its field.
func (m *Manner) validate(now time.Time, instances []Instance) error {
	switch {
	case m.Order != "" && m.Order != Mixed && m.Order != ZoneByZone && m.Order != OldestFirst:
		return refuse("order", "order is %q; give mixed, zone-by-zone or oldest-first", m.Order)
	case len(m.Exclude) > MostLeftOut:
		return refuse("exclude", "%d instances are excluded; give %d at most", len(m.Exclude), MostLeftOut)
	case m.StartAt.After(now.Add(31 * 24 * time.Hour)):
		return refuse("start_at", "it would start at %s; give a time within 31 days", words.Moment(m.StartAt))
	}
	there := make(map[string]int, len(instances))
	for i := range instances {
		there[instances[i].ID] = instances[i].Slot
	}
	m.ExcludeSlots = nil
	for k, id := range m.Exclude {
		slot, is := there[id]
		if !is {
			return refuse(fmt.Sprintf("exclude/%d", k), "there is no instance %s in the group", words.Plain(id, 80))
		}
		m.ExcludeSlots = append(m.ExcludeSlots, slot)
	}
	if m.Hours != "" {
		if _, err := m.Hours.Place(); err != nil {
			return refuse("hours", "%s", err)
		}
	}
	return nil
}
