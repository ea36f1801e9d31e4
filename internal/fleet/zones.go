package fleet

import (
	"slices"
	"time"

	"unitas/internal/fleet/placement"
)

// setBack lets launches in the zone wait: 1 s after the first failure in a
// row, doubling to at most a minute. Launches that were under way together and
// fail are one failure.
func (d *deciding) setBack(in *Instance) {
	zone := in.Zone
	k := slices.IndexFunc(d.group.Setbacks, func(s Setback) bool { return s.Zone == zone })
	if k < 0 {
		d.group.Setbacks = append(d.group.Setbacks, Setback{Zone: zone})
		k = len(d.group.Setbacks) - 1
	}
	s := &d.group.Setbacks[k]
	if !s.Last.IsZero() && !in.Ordered.After(s.Last) {
		return
	}
	wait := LastBackoff
	if s.Count < 6 {
		wait = min(FirstBackoff<<s.Count, LastBackoff)
	}
	s.Count++
	s.Of, s.Last, s.Until, s.Why = in.Version, d.now, d.now.Add(wait), ""
	if in.Machine.State == MachineRefused {
		s.Why = in.Machine.Why
	}
	d.groupChanged = true
	d.entry(Entry{Kind: "zone.backing-off", Zone: zone,
		Cause:   Cause{Code: CodeZoneFails, About: zone, Numbers: Numbers{count("failures", s.Count)}},
		Numbers: Numbers{span("wait_seconds", wait)}})
}

// endSetback forgets the failures of a zone in which an instance came up.
func (d *deciding) endSetback(in *Instance) {
	k := slices.IndexFunc(d.group.Setbacks, func(s Setback) bool { return s.Zone == in.Zone })
	if k < 0 {
		return
	}
	d.entry(Entry{Kind: "zone.recovered", Zone: in.Zone, Cause: Cause{Code: CodeZoneWorks, Instance: in.ID, About: in.Zone,
		Numbers: Numbers{count("failures", d.group.Setbacks[k].Count)}}})
	d.group.Setbacks = slices.Delete(d.group.Setbacks, k, k+1)
	d.groupChanged = true
}

// Doubted is until when a zone gets none of the version that failed there if another
// zone can have it: longer than a place stays empty after as many failures, so that
// what is missing is not sent where it failed.
func (s *Setback) Doubted() time.Time {
	return s.Last.Add(2 * pauseAfter(s.Count+1))
}

// onTrial reports whether the zone failed again and again, or once while nobody serves
// there, so that one launch comes up before others follow.
func (d *deciding) onTrial(s *Setback) bool {
	return s.Count > 1 || !slices.ContainsFunc(d.counts.cells, func(k cell) bool { return k.serving > 0 && k.zone == d.zoneIndex(s.Zone) })
}

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
		if c.trial[k] = d.onTrial(s); c.trial[k] && d.comesUpIn(s.Zone) {
			c.all[k].Open, c.trusted[k].Open = false, false
		}
	}
	return c
}

// comesUpIn reports whether one may still serve in the zone in its time. One whose time
// is over may stay, for a person to look at, and is nothing to wait for.
func (d *deciding) comesUpIn(zone string) bool {
	return slices.ContainsFunc(d.astir, func(i int) bool {
		in := d.at(i)
		return in.Zone == zone && in.State.ComingUp() && !d.group.IsOverdue(d.now, in)
	})
}

// next is the zone for one more, which is counted there, or -1.
func (c *choices) next() int { return c.nextIn(-1) }

// nextIn is the same, and the zone of the number where that is open.
func (c *choices) nextIn(first int) int {
	z := first
	if first < 0 || !c.trusted[first].Open {
		z = placement.Next(c.trusted)
	}
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
