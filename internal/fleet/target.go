package fleet

import "slices"

// target is what a group is brought to now: first some go of what there is too much of, then some come of
// what is missing. It says how many, of what and why; [deciding.carryOut] does it, and nothing else takes
// away what is well, or launches.
type target struct {
	goal Goal
	// Least go on serving, where it is the group itself that takes some away, and no more than most are there.
	least, most int
	wants       []want
	cuts        []cut
	// Room is how many may come at all, once those that go have gone.
	room func() int
	adds []add
	// Spare is how many of those come in the stead of what is to be healed; nil while something is replaced.
	// Where it is not, one at a time moves for the balance of zones as well.
	spare func(left int) int
}

// want is how many of a version there are in the end of what is under way.
type want struct {
	version Version
	n       int
}

// cut is one reason for which some go: of what has counts so many are kept, and least of all go on serving.
type cut struct {
	has         func() int
	kept, least int
	who         func(*Instance) bool
	cause       func(has int) Cause // of as many as are there
}

// add is one reason for which some come: of what has counts so many are wanted. They may have to wait where
// instances of the same slot failed before.
type add struct {
	version Version
	has     func() int
	wanted  int
	waits   bool
	purpose Purpose
	cause   func() Cause
}

// target is what is wanted now.
func (d *deciding) target() target {
	switch {
	case d.group.Deleting:
		return d.nothing()
	case d.ro == nil:
		return d.itsSize()
	case d.replaces():
		return d.ofWave()
	case d.ro.State == Reverting:
		return d.asBefore()
	}
	return d.asItIs()
}

// carryOut brings the group nearer to the target.
func (d *deciding) carryOut(t target) {
	for _, c := range t.cuts {
		for { // each that goes may make another too many: one that would have come back is one less to wait for
			there := d.counts.counted()
			n := c.has() - c.kept
			d.shed(n, c.least, c.cause(there), c.who)
			if n <= 0 || d.counts.counted() == there {
				break
			}
		}
	}
	if t.room == nil {
		return
	}
	left, all := t.room(), true
	for _, a := range t.adds {
		lacks := min(a.wanted-a.has(), left)
		if a.waits {
			lacks = d.afford(lacks)
		}
		came := d.order(lacks, a.version, a.purpose, a.cause())
		left -= came
		all = all && came == max(lacks, 0)
	}
	if t.spare == nil {
		return
	}
	if all {
		d.relieve(t.spare(left))
	}
	d.balance()
}

func anyone(*Instance) bool { return true }

// stays reports whether a rollout leaves an instance as it is: it is pinned, or was left out.
func (d *deciding) stays(in *Instance) bool { return in.Pinned || d.counts.leavesOut(in) }

func (d *deciding) isNew(in *Instance) bool { return in.Version == d.ro.To }
func (d *deciding) isOld(in *Instance) bool { return in.Version != d.ro.To && !d.stays(in) }

// cuts to most of all: what a rollout left out goes last.
func (d *deciding) cutsTo(most, least int) []cut {
	all := cut{d.counts.counted, most, least, anyone, d.roomCause}
	if !d.counts.leaves() {
		return []cut{all}
	}
	others := all
	others.who = func(in *Instance) bool { return !d.stays(in) }
	return []cut{others, all}
}

// nothing is wanted of a group that is being deleted.
func (d *deciding) nothing() target {
	return target{goal: GoalGone, cuts: []cut{{d.counts.counted, 0, -1, anyone, func(int) Cause { return Cause{Code: CodeGroupGoes} }}}}
}

// spares is how many may be over the size while nothing is replaced, for those that are to be healed or the
// balance of zones.
func (d *deciding) spares() int { return min(max(len(d.due), d.balancing()), d.group.Above) }

// itsSize is what a group wants without a rollout. Those that come back are too many only once they serve.
func (d *deciding) itsSize() target {
	size, extra := d.group.Size, d.spares()
	stay := func() int { return d.counts.counted() - d.returning() }
	return target{
		goal: GoalSize, least: size, most: size + extra, wants: d.asShared(size),
		cuts:  []cut{{stay, size + extra, size, anyone, d.sizeCause}},
		room:  func() int { return d.afford(size + extra - d.counts.counted()) },
		adds:  []add{{d.group.Template, d.counts.counted, size, false, ForSize, d.short}},
		spare: func(left int) int { return left },
	}
}

// ofWave is what a rollout on its way wants: old ones go as far as enough others serve, new ones come as far
// as there is room. For as long as nothing of the new version ever served, and old ones do, what is missing of
// those that must serve is filled with what ran before.
func (d *deciding) ofWave() target {
	size, to, from := d.group.Size, d.ro.To, d.ro.From
	least, most := d.ro.Between(size)
	most += d.idle(func(v Version) bool { return v != to })
	wanted := d.waveEndsWith(d.underWay(), d.ro.Waves[d.ro.Wave].Of(size))
	olds := func() int { return d.underWay().old() }
	news := func() int { return d.tally(to).newCounted - len(d.stuck()) }
	before := size - wanted
	unproven := d.unproven()
	if unproven {
		before = max(before, least)
	}
	adds := []add{
		{to, news, wanted, false, ForRollout, func() Cause { return d.waveWants(wanted) }},
		{from, olds, before, true, ForSize, d.short},
	}
	if unproven && !d.failedLast(from) { // where both fail they take turns
		slices.Reverse(adds)
	}
	return target{
		goal: GoalWave, least: least, most: most, wants: []want{{to, wanted}, {from, size - wanted}},
		cuts: append([]cut{
			{olds, before, least, d.isOld, func(int) Cause { return Cause{Code: CodeReplaced, About: to.String()} }},
			{news, size, least, d.isNew, d.sizeCause},
		}, d.cutsTo(most, least)...),
		room: func() int { return most - d.counts.counted() },
		adds: adds,
	}
}

func (d *deciding) waveWants(wanted int) Cause {
	return Cause{Code: CodeWave, About: d.ro.To.String(), Numbers: Numbers{
		count("wave", d.ro.Wave+1), count("waves", len(d.ro.Waves)), count("serving", d.tally(d.ro.To).newServing), count("wanted", wanted)}}
}

// asItIs is what a rollout wants that is held, or waits: nothing is replaced, losses are made good. The new
// version is launched only as far as complete waves went, and not at all when its machines fail, when it was
// on its way back, or when too few serve.
func (d *deciding) asItIs() target {
	size, to := d.group.Size, d.ro.To
	least, extra := size-d.ro.mayMiss(size), 0
	if d.calm() { // what replaces nothing looks after the group as if it were not there
		extra = d.spares()
	}
	now := d.tally(to)
	beside := min(d.ro.Above, now.newCounted) // over the size is room only for the new ones that are there
	most := size + max(d.ro.Above, min(extra+beside, d.group.Above))
	// New instances that do not serve are no help: they may be what failed.
	helping := func() int { t := d.tally(to); return t.old() + t.newServing }
	t := target{
		goal: GoalHeld, least: least, most: most, wants: d.asShared(size),
		room: func() int { return d.afford(min(size-helping(), most-d.counts.counted())) },
	}
	if d.calm() {
		stay := func() int { return d.counts.counted() - d.returning() }
		t.cuts = append(t.cuts, cut{stay, size + beside + extra, size, d.isOld, d.sizeCause})
	}
	t.cuts = append(t.cuts, d.cutsTo(most, least)...)
	if d.ro.Back {
		t.adds = d.addsBack(ForSize, func(share) Cause { return d.heldShort(helping()) })
		return t
	}
	passed := 0
	if d.ro.Wave > 0 && d.ro.Stumbles < d.mayStumble() && d.ro.Cause.Code != CodeStumbled {
		passed = d.ro.Waves[d.ro.Wave-1].Of(size)
	}
	if d.ro.State == Held && now.serving < least && helping() < size {
		passed = 0
		t.cuts = append(t.cuts, d.makesRoom(most-(size-helping()), least))
	}
	cause := func() Cause { return d.heldShort(helping()) }
	t.adds = []add{
		{to, func() int { return d.tally(to).newCounted }, passed, false, ForSize, cause},
		{d.ro.From, helping, size, false, ForSize, cause},
	}
	if d.calm() && size <= helping() {
		t.spare = func(int) int { return min(extra, most-d.counts.counted()) }
	}
	return t
}

func (d *deciding) heldShort(helping int) Cause {
	cause := d.sizeCause(helping)
	if d.ro.State == Held {
		cause.Code = CodeHeldShort
	}
	return cause
}

// asBefore is what a rollout wants that goes back: what there is over what ran before goes as far as enough
// others serve, and what is missing of it comes as far as there is room.
func (d *deciding) asBefore() target {
	size := d.group.Size
	least, most := d.ro.Between(size)
	most += d.idle(every)
	all, _ := d.onWayBack()
	back := Cause{Code: CodeReplaced, About: d.ro.BackTo(size)}
	goes := func(int) Cause { return back }
	of := func(in *Instance) bool { return goesBackTo(all, in.Version) }
	t := target{
		goal: GoalBack, least: least, most: most,
		cuts: []cut{{d.placed(func(v Version) bool { return !goesBackTo(all, v) }), 0, least, func(in *Instance) bool { return !of(in) && !d.stays(in) }, goes}},
		room: func() int {
			_, t := d.onWayBack()
			return d.afford(min(size-t.oldStay-t.newCounted, most-d.counts.counted()))
		},
		adds: d.addsBack(ForRollout, func(s share) Cause {
			return Cause{Code: CodeBack, About: s.Version.String(), Numbers: Numbers{count("serving", s.serving), count("wanted", s.N)}}
		}),
	}
	for _, s := range all {
		t.wants = append(t.wants, want{s.Version, s.N})
		why := goes
		if len(all) == 1 {
			why = d.sizeCause
		}
		t.cuts = append(t.cuts, cut{d.placedOf(s.Version), s.N, least, func(in *Instance) bool { return in.Version == s.Version && !d.stays(in) }, why})
	}
	t.cuts = append(t.cuts, d.cutsTo(most, least)...)
	return t
}

// addsBack are what is missing of the versions that ran before.
func (d *deciding) addsBack(purpose Purpose, cause func(share) Cause) (adds []add) {
	all, _ := d.onWayBack()
	for _, s := range all {
		adds = append(adds, add{s.Version, d.placedOf(s.Version), s.N, false, purpose, func() Cause { return cause(s) }})
	}
	return adds
}

// asShared is that the versions stay as they are, and what is missing of the size is what is launched: a new
// one that does not serve is no help.
func (d *deciding) asShared(size int) []want {
	usual, left := d.usual(), size
	var all []want
	for _, v := range d.counts.versions() {
		if v == usual {
			continue
		}
		t := d.tally(v)
		all = append(all, want{v, t.newCounted})
		if d.ro != nil && v == d.ro.To {
			left -= t.newServing
		} else {
			left -= t.newCounted
		}
	}
	return append(all, want{usual, max(left, 0)})
}
