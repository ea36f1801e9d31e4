package fleet

import "slices"

// makesRoom has a held rollout come back to what has proven itself while fewer serve than may: of the new
// instances that never served all but one go, which stays for a person to look at, so that as many of what
// ran before can come.
func (d *deciding) makesRoom(kept, least int) cut {
	evidence := d.evidenceOfHold()
	return cut{d.counts.counted, kept, least,
		func(in *Instance) bool { return d.neverServed(in) && in.ID != evidence },
		func(int) Cause { return Cause{Code: CodeUnproven, About: d.ro.To.String()} }}
}

// neverServed reports whether an instance of the new version never did.
func (d *deciding) neverServed(in *Instance) bool { return d.isNew(in) && in.Served.IsZero() }

// unproven reports whether nothing of the new version serves, nor did since the rollout went on, while what it
// replaces does.
func (d *deciding) unproven() bool {
	t := d.tally(d.ro.To)
	return t.serving > 0 && t.newServing == 0 && d.ro.Wave == 0 && d.ro.Times[0].Filled.IsZero() &&
		!slices.ContainsFunc(d.unsteady, func(i int) bool { return d.isNew(d.at(i)) && !d.at(i).Served.IsZero() })
}

// failedLast reports whether a version is what failed last, again and again, in some zone.
func (d *deciding) failedLast(v Version) bool {
	return slices.ContainsFunc(d.group.Setbacks, func(s Setback) bool { return s.Of == v && s.Count > 1 })
}

// evidenceOfHold is the unproven instance that a held rollout keeps: the one that it is held for, or the
// first.
func (d *deciding) evidenceOfHold() string {
	first := ""
	for _, i := range d.unsteady {
		in := d.at(i)
		if !in.State.Counts() || !d.neverServed(in) {
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
