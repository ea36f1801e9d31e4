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
	k := d.setbackOf(zone)
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
	d.stall(in, s.Why)
	d.entry(Entry{Kind: "zone.backing-off", Zone: zone,
		Cause:   Cause{Code: CodeZoneFails, About: zone, Numbers: Numbers{count("failures", s.Count)}},
		Numbers: Numbers{span("wait_seconds", wait)}})
}

// doubtZone notes that an instance which served failed before it had proven itself in its zone: others
// get what is launched, if they can have it.
func (d *deciding) doubtZone(in *Instance) {
	k := d.setbackOf(in.Zone)
	if k < 0 {
		d.group.Setbacks = append(d.group.Setbacks, Setback{Zone: in.Zone})
		k = len(d.group.Setbacks) - 1
	}
	s := &d.group.Setbacks[k]
	if !in.Ordered.After(s.BriefLast) && s.Brief > 0 { // it was there when another failed: that is one time
		return
	}
	s.Brief++
	s.Of, s.BriefLast, d.groupChanged = in.Version, d.now, true
}

// trustZone forgets that: an instance has proven itself there.
func (d *deciding) trustZone(zone string) {
	if k := d.setbackOf(zone); k >= 0 && d.group.Setbacks[k].Brief > 0 {
		d.group.Setbacks[k].Brief, d.group.Setbacks[k].BriefLast, d.groupChanged = 0, time.Time{}, true
		d.dropSetback(k)
	}
}

// forgetDoubts drops what is known of zones in which nothing failed for much longer than it is doubted.
func (d *deciding) forgetDoubts() {
	for k := len(d.group.Setbacks) - 1; k >= 0; k-- {
		if s := &d.group.Setbacks[k]; s.Brief > 0 && !d.now.Before(s.BriefLast.Add(LastProof)) {
			s.Brief, s.BriefLast, d.groupChanged = 0, time.Time{}, true
			d.dropSetback(k)
		}
	}
}

// dropSetback forgets a zone of which nothing is held against it any more.
func (d *deciding) dropSetback(k int) {
	if s := &d.group.Setbacks[k]; s.Count == 0 && s.Brief == 0 {
		d.group.Setbacks = slices.Delete(d.group.Setbacks, k, k+1)
	}
}

func (d *deciding) setbackOf(zone string) int {
	return slices.IndexFunc(d.group.Setbacks, func(s Setback) bool { return s.Zone == zone })
}

// endSetback forgets the failures of a zone in which an instance came up.
func (d *deciding) endSetback(in *Instance) {
	k := d.setbackOf(in.Zone)
	if k < 0 || d.group.Setbacks[k].Count == 0 {
		return
	}
	d.entry(Entry{Kind: "zone.recovered", Zone: in.Zone, Cause: Cause{Code: CodeZoneWorks, Instance: in.ID, About: in.Zone,
		Numbers: Numbers{count("failures", d.group.Setbacks[k].Count)}}})
	s := &d.group.Setbacks[k]
	*s = Setback{Zone: s.Zone, Of: s.Of, Brief: s.Brief, BriefLast: s.BriefLast}
	d.dropSetback(k)
	d.groupChanged = true
}

// Doubted is until when a zone gets none of the version that failed there if another
// zone can have it: longer than a place stays empty after as many failures, so that
// what is missing is not sent where it failed. Where it failed again after it had served, that is
// as long as it would have had to serve.
func (s *Setback) Doubted() time.Time {
	return later(s.Last.Add(2*pauseAfter(s.Count+1)), s.brittle())
}

// brittle is until when a zone is doubted in which instances served and failed again and again.
func (s *Setback) brittle() time.Time {
	if s.Brief < 2 {
		return time.Time{}
	}
	return s.BriefLast.Add(FirstProof)
}

// onTrial reports whether the zone failed again and again, or once while nobody serves
// there, so that one launch comes up before others follow.
func (d *deciding) onTrial(s *Setback) bool {
	return s.Count > 1 || s.Count > 0 && !slices.ContainsFunc(d.counts.cells, func(k cell) bool { return k.serving > 0 && k.zone == d.zoneIndex(s.Zone) })
}

// choices are the zones that may have what is launched.
type choices struct {
	all     []placement.Zone
	trusted []placement.Zone // with those closed that failed lately
	trial   []bool           // one at a time
}

// choicesOf are those of a version: while one replaces another, the new one is spread evenly by itself, since
// the old ones around it are on their way out.
func (d *deciding) choicesOf(v Version) *choices {
	if d.ro != nil && d.ro.destination() == v {
		return d.choices(v, v)
	}
	return d.choices(v, Version{})
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
// is over may stay, for a person to look at, and is nothing to wait for; nor is one that a hook holds, whose machine runs.
func (d *deciding) comesUpIn(zone string) bool {
	return slices.ContainsFunc(d.unsteady, func(i int) bool {
		in := d.at(i)
		return in.Zone == zone && in.State.ComingUp() && in.State != HeldIn && !d.group.IsOverdue(d.now, in)
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
