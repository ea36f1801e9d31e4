package fleet

// exclusion is what the live rollout left out: instances by their names, and who takes the place of one of
// them in its slot, but for what runs the new version.
type exclusion struct {
	ids   map[string]bool
	slots map[int]bool
	to    Version
}

// leaves reports whether anything is left out.
func (c *counts) leaves() bool { return len(c.out.ids) > 0 }

// leavesOut reports whether an instance is left out.
func (c *counts) leavesOut(in *Instance) bool {
	return c.leaves() && in.Version != c.out.to && (c.out.ids[in.ID] || c.out.slots[in.Slot])
}

// leftOut is how many are, and not pinned.
func (c *counts) leftOut() (n int) {
	for k := range c.cells {
		n += c.cells[k].left
	}
	return n
}

// countLeftOut counts anew those that the rollout left out: a ledger knows of no rollout.
func (d *deciding) countLeftOut(l *Ledger) {
	if d.ro == nil || len(d.ro.Exclude) == 0 {
		return
	}
	out := exclusion{make(map[string]bool, len(d.ro.Exclude)), make(map[int]bool, len(d.ro.ExcludeSlots)), d.ro.To}
	for _, id := range d.ro.Exclude {
		out.ids[id] = true
	}
	for _, slot := range d.ro.ExcludeSlots {
		out.slots[slot] = true
	}
	d.counts.out = out
	for i := range d.before {
		if in := &d.before[i]; d.counts.leavesOut(in) {
			d.counts.take(l.marks[i], -1)
			d.counts.take(d.counts.markOf(&d.group, l.zones, l.asked, in), 1)
		}
	}
}
