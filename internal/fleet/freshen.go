package fleet

// freshen has the next of those whose fresh machine a person asked for go its way out. They go one
// after another, by their numbers, so that never more than one is missing for it; one that does not
// serve goes at once.
func (d *deciding) freshen() {
	if d.group.Deleting {
		return
	}
	next := -1
	for _, i := range d.unsteady {
		switch in := d.at(i); {
		case !in.Awaits || in.Pinned || !in.State.Counts() || in.State == Resting:
		case !d.group.Serves(in):
			d.refresh(i)
		case next < 0 || in.Serial < d.at(next).Serial:
			next = i
		}
	}
	if next >= 0 && d.tally(d.group.Template).serving >= d.group.Size {
		d.turned = true
		d.refresh(next)
	}
}

// refresh begins to give an instance a fresh machine under its name.
func (d *deciding) refresh(i int) {
	d.change(i, func(in *Instance) { in.Renew, in.Awaits = true, false })
	d.retire(i, Cause{Code: CodeTurn})
}
