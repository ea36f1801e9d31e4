package fleet

import (
	"slices"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/placement"
)

// Ledger is the look at every instance of a group, kept from one decision to the next:
// how many there are by zone and version, and which of them do more than serve. With
// one that is kept up to date ([Ledger.Note], [Ledger.Keep]) a decision costs what has
// changed; without one [Decide] makes its own.
type Ledger struct {
	zones, asked []string // what it was made for
	counts       counts
	marks        []mark // by instance of the view
	unsteady     int    // how many are
}

// mark is how an instance was counted: its cell in the low bits, and above them for each
// count whether it is one.
type mark uint32

const (
	there mark = 1 << (16 + iota)
	counted
	serving
	pinned
	giving
	left
	unsteady
	cellOf mark = 1<<16 - 1
)

// one is 1 when the mark is set.
func (m mark) one(of mark) int {
	if m&of != 0 {
		return 1
	}
	return 0
}

func when(yes bool, m mark) mark {
	if yes {
		return m
	}
	return 0
}

// counts are how many instances there are, by zone and version.
type counts struct {
	cells []cell
	there int // that are not gone
	last  int // the cell that was used last
	out   exclusion
}

// cell counts the instances of one version in one zone.
type cell struct {
	zone    int // in the group's order; the one past all is for what is in none of them
	version Version
	counted int
	serving int
	pinned  int // of counted
	left    int // of counted: the rollout left them out, and they are not pinned
	giving  int // of serving: might be sent away for another zone
}

func (c *counts) of(zone int, v Version) int {
	if c.last < len(c.cells) {
		if k := &c.cells[c.last]; k.zone == zone && k.version == v {
			return c.last
		}
	}
	for n := range c.cells {
		if k := &c.cells[n]; k.zone == zone && k.version == v {
			c.last = n
			return n
		}
	}
	c.last = len(c.cells)
	c.cells = append(c.cells, cell{zone: zone, version: v})
	return c.last
}

// take counts what is marked in (by is 1) or out (-1).
func (c *counts) take(m mark, by int) {
	c.there += by * m.one(there)
	k := &c.cells[m&cellOf]
	k.counted += by * m.one(counted)
	k.serving += by * m.one(serving)
	k.pinned += by * m.one(pinned)
	k.left += by * m.one(left)
	k.giving += by * m.one(giving)
}

// counted is how many count in all.
func (c *counts) counted() (n int) {
	for k := range c.cells {
		n += c.cells[k].counted
	}
	return n
}

// versions are those of which any counts.
func (c *counts) versions() (all []Version) {
	for k := range c.cells {
		if v := c.cells[k].version; c.cells[k].counted > 0 && !slices.Contains(all, v) {
			all = append(all, v)
		}
	}
	return all
}

// markOf is how an instance counts now.
func (c *counts) markOf(g *Group, zones, asked []string, in *Instance) mark {
	m := mark(c.of(zoneIndex(zones, in.Zone), in.Version))
	if isSteady(asked, in) {
		switch {
		case in.Pinned:
			return m | there | counted | serving | pinned
		case c.leavesOut(in):
			return m | there | counted | serving | left
		}
		return m | there | counted | serving | giving
	}
	if in.State == Gone {
		return m
	}
	m |= there
	if (in.State != Leaving && in.State != Lost) || in.Machine.State == MachineCleared { // else it waits for its machine alone
		m |= unsteady
	}
	if in.Counts() {
		out := !in.Pinned && c.leavesOut(in)
		m |= counted | when(in.Pinned, pinned) | when(out, left)
		if g.Serves(in) {
			m |= serving | when(!in.Pinned && !out && !in.Renew && !in.Awaits, giving)
		}
	}
	return m
}

// NewLedger takes the one look at every instance of the view.
func NewLedger(v *View) *Ledger {
	l := &Ledger{zones: v.Group.Zones, asked: v.Group.AllChecks(), marks: make([]mark, 0, len(v.Instances))}
	l.counts.cells = make([]cell, 0, 2*len(l.zones)+2)
	for i := range v.Instances {
		m := l.counts.markOf(&v.Group, l.zones, l.asked, &v.Instances[i])
		l.marks = append(l.marks, m)
		l.counts.take(m, 1)
		l.unsteady += m.one(unsteady)
	}
	return l
}

// Note takes in that the record or a fact of an instance of the view is another, or that
// it is new at the end.
func (l *Ledger) Note(v *View, i int) {
	if i == len(l.marks) {
		l.marks = append(l.marks, 0)
	} else {
		l.counts.take(l.marks[i], -1)
	}
	l.unsteady -= l.marks[i].one(unsteady)
	m := l.counts.markOf(&v.Group, l.zones, l.asked, &v.Instances[i])
	l.marks[i] = m
	l.counts.take(m, 1)
	l.unsteady += m.one(unsteady)
}

// Keep forgets the instances of the view for which keep is false; the others move up.
func (l *Ledger) Keep(keep func(i int) bool) {
	kept := l.marks[:0]
	for i, m := range l.marks {
		if keep(i) {
			kept = append(kept, m)
			continue
		}
		l.counts.take(m, -1)
		l.unsteady -= m.one(unsteady)
	}
	l.marks = kept
}

// Count is how many instances of a version count, and how many of them serve; of all
// versions when none is given.
func (l *Ledger) Count(v Version) (counted, serving int) {
	for n := range l.counts.cells {
		if k := &l.counts.cells[n]; v == (Version{}) || k.version == v {
			counted += k.counted
			serving += k.serving
		}
	}
	return counted, serving
}

// Fits reports whether the ledger is one of the group as it is set now.
func (l *Ledger) Fits(v *View) bool {
	return l != nil && len(l.marks) == len(v.Instances) && slices.Equal(l.zones, v.Group.Zones) && slices.Equal(l.asked, v.Group.AllChecks())
}

// survey begins with the counts of the ledger, and those that do more than serve.
func (d *deciding) survey(view *View) {
	l := view.Ledger
	if !l.Fits(view) {
		l = NewLedger(view)
	}
	d.asked = l.asked
	d.counts = l.counts
	d.counts.cells = append(make([]cell, 0, len(l.counts.cells)+len(l.zones)+1), l.counts.cells...)
	d.countLeftOut(l)
	d.unsteady = make([]int, 0, l.unsteady)
	if l.unsteady == 0 {
		return
	}
	for i := range l.marks {
		if l.marks[i]&unsteady != 0 {
			d.unsteady = append(d.unsteady, i)
		}
	}
}

// isSteady reports whether an instance serves and there is nothing else to say of it:
// its machine runs, and exactly the checks that are asked find it healthy.
func isSteady(asked []string, in *Instance) bool {
	if in.State != Serving || in.Machine.State == MachineStopped || in.Renew || in.Awaits {
		return false
	}
	for k := range in.Reports {
		if r := &in.Reports[k]; r.Verdict != health.Healthy || !slices.Contains(asked, r.Check) {
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
	oldStay          int // pinned, or left out of the rollout
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
			t.oldStay += k.pinned + k.left
		}
	}
	return t
}

// countedOf counts those of a version.
func (d *deciding) countedOf(v Version) func() int {
	return func() int { return d.tally(v).newCounted }
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
func zoneIndex(zones []string, name string) int {
	for k := range zones {
		if zones[k] == name {
			return k
		}
	}
	return len(zones)
}

func (d *deciding) zoneIndex(name string) int { return zoneIndex(d.group.Zones, name) }
