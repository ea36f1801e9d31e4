package fleet

import (
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/placement"
)

// counts are how many instances there are, by zone and version. They follow every
// change, so that nobody counts them again.
type counts struct {
	cells []cell
	there int // that are not gone
	last  int // the cell that was used last
}

// cell counts the instances of one version in one zone.
type cell struct {
	zone    int // in the group's order; the one past all is for what is in none of them
	version Version
	counted int
	serving int
	pinned  int // of counted
	giving  int // of serving: might be sent away for another zone
	parked  int
}

func (c *counts) of(zone int, v Version) *cell {
	if c.last < len(c.cells) {
		if k := &c.cells[c.last]; k.zone == zone && k.version == v {
			return k
		}
	}
	for n := range c.cells {
		if k := &c.cells[n]; k.zone == zone && k.version == v {
			c.last = n
			return k
		}
	}
	c.last = len(c.cells)
	c.cells = append(c.cells, cell{zone: zone, version: v})
	return &c.cells[c.last]
}

// take counts an instance in (by is 1) or out (-1).
func (c *counts) take(d *deciding, in *Instance, by int) {
	if in.State == Gone {
		return
	}
	c.there += by
	k := c.of(d.zoneIndex(in.Zone), in.Version)
	if in.State == Parked {
		k.parked += by
	}
	if !in.Counts() {
		return
	}
	k.counted += by
	if in.Pinned {
		k.pinned += by
	}
	if d.group.Serves(in) {
		k.serving += by
		if !in.Pinned && !in.Renew {
			k.giving += by
		}
	}
}

// survey takes the one look at every instance: it counts them and finds those that do
// more than serve.
func (d *deciding) survey() {
	d.counts.cells = make([]cell, 0, 2*len(d.group.Zones)+2)
	for i := range d.before {
		in := &d.before[i]
		if !d.group.isSteady(in) {
			d.astir = append(d.astir, i)
			d.counts.take(d, in, 1)
			continue
		}
		d.counts.there++
		k := d.counts.of(d.zoneIndex(in.Zone), in.Version)
		k.counted++
		k.serving++
		if in.Pinned {
			k.pinned++
		} else {
			k.giving++
		}
	}
}

// isSteady reports whether an instance serves and there is nothing else to say of it:
// its machine runs, and exactly the group's checks find it healthy.
func (g *Group) isSteady(in *Instance) bool {
	if in.State != Serving || in.Machine.State == MachineStopped || in.Renew {
		return false
	}
	for k := range in.Reports {
		if r := &in.Reports[k]; r.Verdict != health.Healthy || g.isFormer(r.Check) {
			return false
		}
	}
	return true
}

// tally is how many instances there are, in the words of a rollout: new ones
// run the version that is being moved to, old ones any other.
type tally struct {
	counted, serving int
	newCounted       int
	newServing       int
	oldPinned        int
}

func (t tally) old() int { return t.counted - t.newCounted }

func (d *deciding) tally(to Version) tally {
	var t tally
	for n := range d.counts.cells {
		k := &d.counts.cells[n]
		t.counted += k.counted
		t.serving += k.serving
		if k.version == to {
			t.newCounted += k.counted
			t.newServing += k.serving
		} else {
			t.oldPinned += k.pinned
		}
	}
	return t
}

// zones counts the instances of each zone that count for the size and are of
// the version only, when one is given. What is in none of the group's zones any
// more is a last one by itself, never open. Those that are to be replaced do not
// count: another takes their place.
func (d *deciding) zones(only Version) []placement.Zone {
	zs := make([]placement.Zone, len(d.group.Zones)+1)
	for k, name := range d.group.Zones {
		zs[k] = placement.Zone{Name: name, Open: true}
		for _, s := range d.group.Setbacks {
			if s.Zone == name && d.now.Before(s.Until) {
				zs[k].Open = false
			}
		}
	}
	placement.Rank(zs[:len(d.group.Zones)], d.group.Spread, d.prices)
	zs[len(d.group.Zones)].Rank = placement.Outside
	all := only == Version{}
	for n := range d.counts.cells {
		if k := &d.counts.cells[n]; all || k.version == only {
			zs[k.zone].Count += k.counted
		}
	}
	for _, i := range d.due {
		if in := d.at(i); in.Counts() && (all || in.Version == only) {
			zs[d.zoneIndex(in.Zone)].Count--
		}
	}
	return zs
}

// zoneIndex is the place of a zone in the group's order; the one past all is for
// what is in none of them.
func (d *deciding) zoneIndex(name string) int {
	for k := range d.group.Zones {
		if d.group.Zones[k] == name {
			return k
		}
	}
	return len(d.group.Zones)
}
