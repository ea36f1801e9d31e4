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
			d.turn(Moving, Cause{Code: CodeGroupFrozen}, d.waveNumbers()...)
		}
		return d.finish()
	}
	d.judgeRollout()
	d.heal()
	for {
		d.reconcile()
		if !d.advanceRollout() {
			break
		}
	}
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
	// astir are those that do more than serve, in order, and what became so.
	astir  []int
	counts counts

	groupChanged, roChanged bool
	prices                  map[string]float64
	watched                 time.Time
	stumbled                []string // zones in which a machine of the new version failed
	due                     []int    // to be healed once another serves in its place
	touched                 []int    // indexes in the order of first change
	entries                 []Entry
	again                   time.Time
}

func begin(now time.Time, view View) *deciding {
	d := &deciding{now: now, group: view.Group, before: view.Instances, prices: view.Prices, watched: view.Watched}
	if d.watched.After(now) { // the clock was set back since
		d.watched = now
	}
	d.group.Setbacks = slices.Clone(view.Group.Setbacks)
	d.group.Slots = slices.Clone(view.Group.Slots)
	if view.Rollout != nil && !view.Rollout.State.Ended() {
		ro := *view.Rollout
		ro.Times = slices.Clone(ro.Times)
		d.ro = &ro
	}
	d.survey()
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
	d.counts.take(d, in, -1)
	if i < len(d.before) && (d.own == nil || d.own[i] == nil) {
		if d.own == nil {
			d.own = make([]*Instance, len(d.before))
		}
		fresh := *in
		in = &fresh
		d.own[i] = in
		d.touched = append(d.touched, i)
		if d.group.isSteady(&d.before[i]) {
			d.astir = append(d.astir, i)
		}
	}
	f(in)
	d.counts.take(d, in, 1)
}

// add records a new instance and returns its number.
func (d *deciding) add(in Instance) int {
	i := d.len()
	d.added = append(d.added, &in)
	d.touched = append(d.touched, i)
	d.astir = append(d.astir, i)
	d.counts.take(d, &in, 1)
	return i
}

// move records a change of state with its cause.
func (d *deciding) move(i int, to State, cause Cause, measured ...Number) {
	was := d.at(i).State
	d.change(i, func(in *Instance) { in.State, in.Since, in.Cause = to, d.now, cause })
	in := d.at(i)
	d.entry(Entry{Kind: to.life().kind, Instance: in.ID, Version: in.Version, Zone: in.Zone, Was: string(was), Cause: cause, Numbers: measured})
}

// retire sends an instance on its way out.
func (d *deciding) retire(i int, cause Cause, measured ...Number) {
	to := d.group.out(d.at(i))
	d.move(i, to, cause, measured...)
	if to == Draining {
		d.change(i, func(in *Instance) { in.Traffic = Traffic{} })
		d.lookAt(d.now.Add(d.group.Drain))
	}
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
	d.entries = append(d.entries, e)
}

func (d *deciding) finish() Decision {
	out := Decision{Entries: joined(d.entries), Again: d.again}
	if len(d.touched) > 0 {
		out.Changed = make([]Instance, 0, len(d.touched))
	}
	for _, i := range d.touched {
		out.Changed = append(out.Changed, *d.at(i))
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

// More than joinOver entries of which all the same is to be said are one; those of
// the first joinKinds that differ are looked at.
const (
	joinOver  = 8
	joinKinds = 32
)

// joined makes one entry of many equal ones, in the place of the first.
func joined(all []Entry) []Entry {
	if len(all) <= joinOver {
		return all
	}
	kinds := make([]int, 0, joinKinds) // the first entry of each
	of := make([]int, len(all))        // which of kinds an entry is, or -1
	n := make([]int, joinKinds)
	for i := range all {
		of[i] = -1
		if all[i].Instance == "" || len(all[i].Instances) > 0 {
			continue
		}
		k := slices.IndexFunc(kinds, func(k int) bool { return all[k].sameAs(&all[i]) })
		if k < 0 && len(kinds) < joinKinds {
			kinds = append(kinds, i)
			k = len(kinds) - 1
		}
		if of[i] = k; k >= 0 {
			n[k]++
		}
	}
	out := make([]Entry, 0, len(all))
	place := make([]int, len(kinds))
	for i := range all {
		k := of[i]
		switch {
		case k < 0 || n[k] <= joinOver:
			out = append(out, all[i])
		case kinds[k] == i:
			place[k] = len(out)
			e := all[i]
			e.Instances, e.Instance, e.Zone = make([]string, 0, n[k]), "", ""
			e.Instances = append(e.Instances, all[i].Instance)
			out = append(out, e)
		default:
			e := &out[place[k]]
			e.Instances = append(e.Instances, all[i].Instance)
			if !slices.Equal(e.Numbers, all[i].Numbers) {
				e.Numbers = nil // of each another
			}
		}
	}
	return out
}

// sameAs reports whether the same is to be said of another instance.
func (e *Entry) sameAs(o *Entry) bool {
	return e.Kind == o.Kind && e.Was == o.Was && e.Version == o.Version && e.Rollout == o.Rollout && e.Cause.Is(o.Cause)
}
