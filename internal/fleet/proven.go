package fleet

// makeRoom has a held rollout come back to what has proven itself while fewer serve than may: of the new
// instances that never served all but one go, which stays for a person to look at, so that as many of what
// ran before can come. It reports whether nothing of the new version is launched meanwhile.
func (d *deciding) makeRoom(helping, room int) bool {
	size := d.group.Size
	floor := size - d.ro.fewer(size)
	t := d.tally(d.ro.To)
	if d.ro.State != Held || d.ro.Back || t.serving >= floor || helping >= size {
		return false
	}
	evidence := d.evidenceOfHold()
	d.shed((size-helping)-(room-t.counted), floor, Cause{Code: CodeUnproven, About: d.ro.To.String()}, func(in *Instance) bool {
		return d.unproven(in) && in.ID != evidence
	})
	return true
}

// unproven reports whether an instance of the new version never served.
func (d *deciding) unproven(in *Instance) bool { return in.Version == d.ro.To && in.Served.IsZero() }

// evidenceOfHold is the unproven instance that a held rollout keeps: the one that it is held for, or the
// first.
func (d *deciding) evidenceOfHold() string {
	first := ""
	for _, i := range d.astir {
		in := d.at(i)
		if !in.State.Counts() || !d.unproven(in) {
			continue
		}
		if in.ID == d.ro.Cause.Instance {
			return in.ID
		}
		if first == "" {
			first = in.ID
		}
	}
	return first
}
