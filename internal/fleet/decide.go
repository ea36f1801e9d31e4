package fleet

import (
	"slices"
	"time"
)

// Decide returns what the group of the view needs at the time now. It is a
// pure function: the same arguments give the same decision, and the view is
// not changed.
//
// Its cost is one short look at every instance, and for the rest follows what
// changes: sending some away is O(n) in the instances of the group, and everything
// else goes by those that do not simply serve.
//
// It never takes the serving instances below size - below by its own choice,
// never lets more than size + above count, and never picks a pinned instance
// for removal. To a frozen group nothing happens but what facts bring about.
func Decide(now time.Time, view View) Decision {
	d := begin(now, view)
	d.observe()
	if d.group.Frozen != "" {
		if d.ro != nil && d.ro.State == Soaking {
			d.turn(Moving, d.waveCause(CodeGroupFrozen), d.waveNumbers()...)
		}
		return d.finish()
	}
	if d.unbegun() {
		return d.without()
	}
	d.scale()
	d.judgeRollout()
	d.judgeGates()
	d.noteDoubts()
	d.heal()
	d.freshen()
	for {
		d.reconcile()
		if !d.advanceRollout() {
			break
		}
	}
	return d.finish()
}

// unbegun reports whether the live rollout waits for its time and nothing of it is there.
func (d *deciding) unbegun() bool {
	return d.ro != nil && d.ro.State == Moving && !d.ro.Back && !d.group.Deleting && d.ro.Wave == 0 && d.ro.From != d.ro.To && d.outOfHours() && d.tally(d.ro.To).newCounted == 0
}

// without decides as for a group without its rollout: one that only waits changes nothing of how the group
// is sized, balanced and healed.
func (d *deciding) without() Decision {
	ro := d.ro
	d.ro = nil
	d.scale()
	d.heal()
	d.freshen()
	d.reconcile()
	d.ro = ro
	d.retake()
	return d.finish()
}

// deciding is one decision in the making: the view as it will be.
type deciding struct {
	now   time.Time
	group Group
	ro    *Rollout // live rollout, or nil
	// before are the instances of the view, own those of them that change (nil until
	// one does), and added are new. They are numbered in this order.
	before []Instance
	own    []*Instance
	added  []*Instance
	slab   []Instance // where own and added are kept
	asked  []string   // all checks of the group
	// unsteady are those that do more than serve, in order, and what became so.
	unsteady []int
	counts   counts

	groupChanged, roChanged bool
	supposed                bool // a replay of rules: there are no instances, and all are taken to serve
	prices                  map[string]float64
	location                *time.Location
	sizing                  Sizing
	stumbled                []string // zones in which a machine of the new version failed
	turned                  bool     // one that served goes for a fresh machine
	due                     []int    // to be healed once another serves in its place
	touched                 []int    // indexes in the order of first change
	journal                 journal
	again                   time.Time
}

func begin(now time.Time, view View) *deciding {
	d := &deciding{now: now, group: view.Group, before: view.Instances, prices: view.Prices, location: view.Location, sizing: view.Sizing}
	if d.group.Watched = view.Watched; view.Watched.After(now) { // the clock was set back since
		d.group.Watched = now
	}
	d.group.Setbacks = slices.Clone(view.Group.Setbacks)
	d.group.Slots = slices.Clone(view.Group.Slots)
	if view.Rollout != nil && !view.Rollout.State.Ended() {
		ro := *view.Rollout
		ro.Times = slices.Clone(ro.Times)
		ro.Gates = withSeen(ro.Gates, view.Seen)
		d.ro = &ro
	}
	d.survey(&view)
	return d
}

// len is how many instances there are; they are numbered from 0.
func (d *deciding) len() int { return len(d.before) + len(d.added) }

// at is the instance of the number as it will be, to be read only.
func (d *deciding) at(i int) *Instance {
	switch {
	case i >= len(d.before):
		return d.added[i-len(d.before)]
	case d.own != nil && d.own[i] != nil:
		return d.own[i]
	}
	return &d.before[i]
}

// change lets f change an instance.
func (d *deciding) change(i int, f func(in *Instance)) {
	in := d.at(i)
	was := d.counts.markOf(&d.group, d.group.Zones, d.asked, in)
	d.counts.take(was, -1)
	if i < len(d.before) && (d.own == nil || d.own[i] == nil) {
		if d.own == nil {
			d.own = make([]*Instance, len(d.before))
		}
		in = d.ownCopy(in)
		d.own[i] = in
		d.touched = append(d.touched, i)
		if was&unsteady == 0 {
			d.unsteady = append(d.unsteady, i)
		}
	}
	f(in)
	d.counts.take(d.counts.markOf(&d.group, d.group.Zones, d.asked, in), 1)
}

// add records a new instance and returns its number.
func (d *deciding) add(in Instance) int {
	i := d.len()
	d.added = append(d.added, d.ownCopy(&in))
	d.touched = append(d.touched, i)
	d.unsteady = append(d.unsteady, i)
	d.counts.take(d.counts.markOf(&d.group, d.group.Zones, d.asked, &in), 1)
	return i
}

// ownCopy copies an instance to where it may be changed.
func (d *deciding) ownCopy(in *Instance) *Instance {
	if len(d.slab) == cap(d.slab) { // who points into the one before goes on doing so
		d.slab = make([]Instance, 0, min(max(2*cap(d.slab), 4), 512))
	}
	d.slab = append(d.slab, *in)
	return &d.slab[len(d.slab)-1]
}

// move records a change of state with its cause.
func (d *deciding) move(i int, to State, cause Cause, measured ...Number) {
	was := d.at(i).State
	d.change(i, func(in *Instance) { in.State, in.Since, in.Cause = to, d.now, cause })
	in := d.at(i)
	d.entry(Entry{Kind: to.life().kind, Instance: in.ID, Version: in.Version, Zone: in.Zone, Was: was.Shown(), Cause: cause, Numbers: measured})
	d.leftHooks(i)
}

// retire sends an instance on its way out.
func (d *deciding) retire(i int, cause Cause, measured ...Number) {
	to := d.group.out(d.at(i))
	d.move(i, to, cause, measured...)
	if to == Draining {
		d.change(i, func(in *Instance) { in.Traffic = Traffic{} })
		d.lookAt(d.now.Add(max(d.group.Drain, time.Millisecond)))
	}
	d.observeOut(i)
}

// lookAt asks for another decision at t.
func (d *deciding) lookAt(t time.Time) {
	if t.After(d.now) && (d.again.IsZero() || t.Before(d.again)) {
		d.again = t
	}
}

func (d *deciding) entry(e Entry) {
	if d.ro != nil {
		e.Rollout = d.ro.ID
	}
	d.journal.add(e)
}

func (d *deciding) finish() Decision {
	d.noteLowest()
	out := Decision{Entries: d.journal.entries(), Again: d.again}
	if len(d.touched) > 0 {
		out.Changed = make([]*Instance, 0, len(d.touched))
	}
	for _, i := range d.touched {
		out.Changed = append(out.Changed, d.at(i))
	}
	over := d.group.Deleting || (d.group.Alone && d.group.NextSerial > 0)
	out.Finished = over && d.counts.there == 0
	if d.groupChanged {
		out.Group = &d.group
	}
	if d.roChanged {
		out.Rollout = d.ro
	}
	return out
}
