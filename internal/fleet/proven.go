package fleet

import "slices"

// makesRoom has a held rollout come back to what has proven itself while fewer serve than may: of the new
// instances that never served all but one go, which stays for a person to look at, so that as many of what
// ran before can come.
func (d *deciding) makesRoom(kept, least int) cut {
	evidence := d.evidenceOfHold()
	return cut{d.counts.counted, kept, least,
		func(in *Instance) bool { return d.unproven(in) && in.ID != evidence },
		func(int) Cause { return Cause{Code: CodeUnproven, About: d.ro.To.String()} }}
}

// unproven reports whether an instance of the new version never served.
func (d *deciding) unproven(in *Instance) bool { return d.isNew(in) && in.Served.IsZero() }

// everServed reports whether anything of the new version serves, or did since the rollout went on.
func (d *deciding) everServed() bool {
	v := d.ro.To
	return d.ro.Wave > 0 || !d.ro.Times[0].Filled.IsZero() || d.tally(v).newServing > 0 || slices.ContainsFunc(d.astir, func(i int) bool {
		in := d.at(i)
		return in.Version == v && !in.Served.IsZero()
	})
}

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
