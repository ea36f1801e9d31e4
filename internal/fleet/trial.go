package fleet

import (
	"slices"
	"time"

	"unitas/internal/fleet/placement"
)

// Doubted is until when a zone gets none of the version that failed there if another
// zone can have it: longer than a place stays empty after as many failures, so that
// what is missing is not sent where it failed.
func (s *Setback) Doubted() time.Time {
	return s.Last.Add(2 * (&Relapse{Count: s.Count + 1}).Pause())
}

// onTrial reports whether the zone failed again and again, so that one launch comes
// up there before others follow.
func (s *Setback) onTrial() bool { return s.Count > 1 }

// choices are the zones that may have what is launched.
type choices struct {
	all     []placement.Zone
	trusted []placement.Zone // with those closed that failed lately
	trial   []bool           // one at a time
}

// choices of zones for the version, counting those of the version only or all.
func (d *deciding) choices(v, only Version) *choices {
	c := &choices{all: d.zones(only)}
	c.trial = make([]bool, len(c.all))
	c.trusted = slices.Clone(c.all)
	for i := range d.group.Setbacks {
		s := &d.group.Setbacks[i]
		k := d.zoneIndex(s.Zone)
		if s.Of == v && d.now.Before(s.Doubted()) {
			c.trusted[k].Open = false
		}
		if c.trial[k] = s.onTrial(); c.trial[k] && d.comesUpIn(s.Zone) {
			c.all[k].Open, c.trusted[k].Open = false, false
		}
	}
	return c
}

// comesUpIn reports whether one may still serve in the zone in its time. One whose time
// is over may stay, for a person to look at, and is nothing to wait for.
func (d *deciding) comesUpIn(zone string) bool {
	return slices.ContainsFunc(d.ins, func(in Instance) bool {
		return in.Zone == zone && in.State.ComingUp() && d.now.Before(d.deadline(&in))
	})
}

// next is the zone for one more, which is counted there, or -1.
func (c *choices) next() int {
	z := placement.Next(c.trusted)
	if z < 0 {
		z = placement.Next(c.all)
	}
	if z < 0 {
		return z
	}
	c.all[z].Count++
	c.trusted[z].Count++
	if c.trial[z] {
		c.all[z].Open, c.trusted[z].Open = false, false
	}
	return z
}
