package fleet

// idlers are those that a rollout leaves as they are, pinned or left out, that serve nobody and will not by
// themselves: they take no place from those that do, or nothing could be replaced beside them.
func (d *deciding) idlers(yield func(Version) bool) {
	stay := 0
	for k := range d.counts.cells {
		stay += d.counts.cells[k].pinned + d.counts.cells[k].left
	}
	if stay == 0 {
		return
	}
	for _, i := range d.unsteady {
		in := d.at(i)
		if in.Counts() && d.stays(in) && !d.group.Serves(in) && (d.group.IsOverdue(d.now, in) || newestIllness(in) != nil) && !yield(in.Version) {
			return
		}
	}
}

// idle counts those of the versions.
func (d *deciding) idle(of func(Version) bool) (n int) {
	for v := range d.idlers {
		if of(v) {
			n++
		}
	}
	return n
}

func every(Version) bool { return true }

// underWay is how many there are as of a rollout on its way, without old ones that are idle.
func (d *deciding) underWay() tally {
	t := d.tally(d.ro.To)
	n := d.idle(func(v Version) bool { return v != d.ro.To })
	t.counted -= n
	t.oldStay -= n
	return t
}
