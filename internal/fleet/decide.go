package fleet

import (
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/words"
)

// Decide returns what the group of the view needs at the time now. It is a
// pure function: the same arguments give the same decision, and the view is
// not changed. Its cost is O(n log n) in the instances of the group.
//
// It never takes the serving instances below size - below by its own choice,
// never lets more than size + above count, and never picks a pinned instance
// for removal. To a frozen group nothing happens but what facts bring about.
func Decide(now time.Time, view View) Decision {
	d := begin(now, view)
	d.observe()
	if d.group.Frozen != "" {
		if d.ro != nil && d.ro.State == Soaking {
			d.turn(Moving, "the group is frozen; once it is thawed the wave soaks anew", d.waveNumbers())
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
	now    time.Time
	group  Group
	ro     *Rollout // live rollout, or nil
	ins    []Instance
	before []Instance

	groupChanged, roChanged bool
	prices                  map[string]float64
	watched                 time.Time
	stumbled                []string // zones in which a machine of the new version failed
	due                     []int    // to be healed once another serves in its place
	touched                 []int    // indexes into ins in the order of first change
	isTouched               []bool
	entries                 []Entry
	again                   time.Time
}

func begin(now time.Time, view View) *deciding {
	d := &deciding{now: now, group: view.Group, before: view.Instances, prices: view.Prices, watched: view.Watched}
	d.group.Setbacks = slices.Clone(view.Group.Setbacks)
	d.group.Relapses = slices.Clone(view.Group.Relapses)
	room := max(view.Group.Size-len(view.Instances), 0) // for all that may be ordered
	if view.Rollout != nil {
		room += view.Rollout.Above + view.Rollout.Below
	}
	d.ins = append(make([]Instance, 0, len(view.Instances)+room), view.Instances...)
	d.isTouched = make([]bool, len(d.ins), cap(d.ins))
	if view.Rollout != nil && !view.Rollout.State.Ended() {
		ro := *view.Rollout
		ro.Times = slices.Clone(ro.Times)
		d.ro = &ro
	}
	return d
}

// observe moves instances on by what drivers, probes and balancers reported.
func (d *deciding) observe() {
	for i := range d.ins {
		d.dropFormer(i)
		switch in := &d.ins[i]; in.State {
		case Ordered, Booting:
			d.observeBoot(i)
		case Settling:
			d.observeSettling(i)
		case Serving, Parked:
			if in.Machine.State == MachineStopped {
				d.lose(i)
			}
		case Draining:
			d.observeDraining(i)
		case Resting:
			d.observeResting(i)
		case Leaving, Lost:
			if in.Machine.State == MachineCleared {
				d.observeCleared(i)
			}
		}
	}
}

// dropFormer forgets what checks said that judge the group no more.
func (d *deciding) dropFormer(i int) {
	in := &d.ins[i]
	for k := range in.Reports {
		if d.group.isFormer(in.Reports[k].Check) {
			in.Reports = slices.DeleteFunc(slices.Clone(in.Reports), func(r health.Report) bool { return d.group.isFormer(r.Check) })
			d.touch(i)
			return
		}
	}
}

func (d *deciding) observeBoot(i int) {
	in := &d.ins[i]
	switch in.Machine.State {
	case MachineStarting:
		if in.State == Ordered {
			d.move(i, Booting, "its machine was accepted", nil)
		}
		d.lookAt(d.deadline(in))
	case MachineRunning:
		in.Up = d.now
		d.move(i, Settling, "its machine runs", map[string]any{"boot_seconds": seconds(d.now.Sub(in.Ordered))})
		d.observeSettling(i)
	case MachineRefused:
		d.setBack(in)
		d.stumble(i, "its machine could not be started: "+in.Machine.Why)
		d.move(i, Leaving, "its machine could not be started: "+in.Machine.Why, nil)
	case MachineStopped:
		d.lose(i)
	default:
		d.lookAt(d.deadline(in))
	}
}

func (d *deciding) observeSettling(i int) {
	in := &d.ins[i]
	if in.Machine.State == MachineStopped {
		d.lose(i)
		return
	}
	because, ok := d.wellBy(in)
	if !ok {
		d.lookAt(d.deadline(in))
		return
	}
	if in.Served.IsZero() {
		in.Served = d.now
	}
	d.endSetback(in.Zone)
	if d.group.Owing > 0 {
		d.group.Owing--
		d.groupChanged = true
	}
	d.move(i, Serving, because, map[string]any{
		"settled_seconds":     seconds(d.now.Sub(in.Up)),
		"since_order_seconds": seconds(d.now.Sub(in.Ordered)),
	})
}

// wellBy reports whether every check finds the instance healthy, and the
// answers that say so.
func (d *deciding) wellBy(in *Instance) (because string, ok bool) {
	because = "its machine runs, and no check is set"
	for n, check := range d.group.AllChecks() {
		r := in.Report(check)
		if r.Verdict != health.Healthy {
			return "", false
		}
		if n == 0 {
			because = check + " " + r.Why
		}
	}
	return because, true
}

func (d *deciding) observeDraining(i int) {
	in := &d.ins[i]
	over := in.Since.Add(d.group.Drain)
	numbers := map[string]any{"in_flight": in.Traffic.InFlight, "drained_seconds": seconds(d.now.Sub(in.Since))}
	switch {
	case in.Machine.State == MachineStopped:
		d.move(i, Leaving, "its machine ended while it drained: "+in.Machine.Why, numbers)
	case in.Traffic.Closed && in.Traffic.InFlight == 0:
		d.move(i, Leaving, "its last request is done", numbers)
	case !d.now.Before(over):
		d.move(i, Leaving, fmt.Sprintf("its drain of %s is over with %s in flight", words.Span(d.group.Drain), words.Count(in.Traffic.InFlight, "request")), numbers)
	default:
		d.lookAt(over)
	}
}

// observeCleared ends an instance, or gives it a fresh machine when that is why
// its machine was stopped.
func (d *deciding) observeCleared(i int) {
	in := &d.ins[i]
	if !in.Renew || d.group.Deleting {
		d.move(i, Gone, "its machine is stopped and cleared", nil)
		return
	}
	in.Renew, in.Machine, in.Traffic, in.Reports = false, Machine{}, Traffic{}, nil
	in.Ordered, in.Up, in.Served = d.now, time.Time{}, time.Time{}
	d.move(i, Ordered, "its machine is cleared, and a person asked for a fresh one", nil)
	d.lookAt(d.deadline(in))
}

// observeResting waits for the last requests, and takes the instance back once
// its machine runs again.
func (d *deciding) observeResting(i int) {
	in := &d.ins[i]
	switch in.Machine.State {
	case MachineStopped:
		d.lose(i)
	case MachineWoken:
		in.Machine.State = MachineRunning
		in.Up, in.Reports = d.now, nil
		d.move(i, Settling, "the picture of its files is taken and its machine runs again", map[string]any{"rested_seconds": seconds(d.now.Sub(in.Since))})
	default:
		d.lookAt(in.Since.Add(d.group.Drain))
	}
}

// MayHalt reports whether nothing keeps the machine of a resting instance from
// being halted: its last request is done, or its drain is over.
func (g *Group) MayHalt(now time.Time, in *Instance) bool {
	return in.Traffic.Closed && (in.Traffic.InFlight == 0 || !now.Before(in.Since.Add(g.Drain)))
}

// lose records that the machine of an instance vanished.
func (d *deciding) lose(i int) {
	in := &d.ins[i]
	counted := in.State.Counts()
	switch {
	case in.Served.IsZero():
		d.setBack(in)
		d.stumble(i, "its machine ended before it served: "+in.Machine.Why)
	case counted: // what is parked is a person's
		d.stumble(i, "its machine ended: "+in.Machine.Why)
	}
	d.move(i, Lost, "its machine vanished: "+in.Machine.Why, map[string]any{"age_seconds": seconds(d.now.Sub(in.Ordered))})
	if counted {
		d.failed(i, in.Why)
	}
}

// BootLimit is how long a machine may take to run: settle, at least 30 s.
func (g *Group) BootLimit() time.Duration { return max(g.Settle, 30*time.Second) }

// deadline is when an instance that comes up counts as failed.
func (d *deciding) deadline(in *Instance) time.Time {
	if in.State == Settling {
		return in.Up.Add(d.group.Settle)
	}
	return in.Ordered.Add(d.group.BootLimit())
}

// overdue reports whether an instance failed to come up in its time, and why.
func (d *deciding) overdue(in *Instance) (because string, yes bool) {
	if !in.State.ComingUp() || d.now.Before(d.deadline(in)) {
		return "", false
	}
	if in.State != Settling {
		return fmt.Sprintf("did not run within %s", words.Span(d.group.BootLimit())), true
	}
	because = fmt.Sprintf("was not healthy within the settle time of %s", words.Span(d.group.Settle))
	for _, check := range d.group.AllChecks() {
		if r := in.Report(check); r.Verdict != health.Healthy {
			why := r.Why
			if why == "" {
				why = "has no answer yet"
			}
			because += fmt.Sprintf(" (%s %s)", check, why)
			break
		}
	}
	return because, true
}

// ofRollout reports whether a failed instance is the live rollout's business:
// while it is held the instance is what a person has to look at, and while it
// reverts the instance goes anyway.
func (d *deciding) ofRollout(in *Instance) bool {
	return d.ro != nil && (d.ro.State == Held || d.ro.State == Reverting) && in.Version == d.ro.To && in.Served.IsZero()
}

// retire sends an instance on its way out: through a drain when requests may
// be in flight, at once otherwise.
func (d *deciding) retire(i int, because string, numbers map[string]any) {
	if d.ins[i].State == Serving && len(d.group.Checks) > 0 {
		d.ins[i].Traffic = Traffic{}
		d.move(i, Draining, because, numbers)
		d.lookAt(d.now.Add(d.group.Drain))
		return
	}
	d.move(i, Leaving, because, numbers)
}

// setBack lets launches in the zone wait: 1 s after the first failure in a
// row, doubling to at most a minute. Failures at one moment count once.
func (d *deciding) setBack(in *Instance) {
	zone := in.Zone
	k := slices.IndexFunc(d.group.Setbacks, func(s Setback) bool { return s.Zone == zone })
	if k < 0 {
		d.group.Setbacks = append(d.group.Setbacks, Setback{Zone: zone})
		k = len(d.group.Setbacks) - 1
	}
	s := &d.group.Setbacks[k]
	if s.Last.Equal(d.now) {
		return
	}
	wait := LastBackoff
	if s.Count < 6 {
		wait = min(FirstBackoff<<s.Count, LastBackoff)
	}
	s.Count++
	s.Of, s.Last, s.Until = in.Version, d.now, d.now.Add(wait)
	d.groupChanged = true
	d.entry(Entry{
		Kind:    "zone.backing-off",
		Text:    fmt.Sprintf("Launches in %s wait %s.", zone, words.Span(wait)),
		Because: fmt.Sprintf("launches failed %s in a row in %s", words.Count(s.Count, "time"), zone),
		Numbers: map[string]any{"failures": s.Count, "wait_seconds": seconds(wait)},
	})
}

func (d *deciding) endSetback(zone string) {
	k := slices.IndexFunc(d.group.Setbacks, func(s Setback) bool { return s.Zone == zone })
	if k < 0 {
		return
	}
	d.group.Setbacks = slices.Delete(d.group.Setbacks, k, k+1)
	d.groupChanged = true
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
	for i := range d.ins {
		if d.ins[i].Counts() && !slices.Contains(d.due, i) && (only == Version{} || d.ins[i].Version == only) {
			zs[d.zoneIndex(d.ins[i].Zone)].Count++
		}
	}
	return zs
}

// zoneIndex is the place of a zone in the group's order; the one past all is for
// what is in none of them.
func (d *deciding) zoneIndex(name string) int {
	if k := slices.Index(d.group.Zones, name); k >= 0 {
		return k
	}
	return len(d.group.Zones)
}

// lookAt asks for another decision at t.
func (d *deciding) lookAt(t time.Time) {
	if t.After(d.now) && (d.again.IsZero() || t.Before(d.again)) {
		d.again = t
	}
}

// move records a change of state with its cause.
func (d *deciding) move(i int, to State, because string, numbers map[string]any) {
	in := &d.ins[i]
	d.touch(i)
	in.State, in.Since, in.Why = to, d.now, because
	d.entry(Entry{
		Kind:     "instance." + string(to),
		Instance: in.ID,
		Text:     fmt.Sprintf("%s (%s, %s) is %s.", in.ID, in.Version, in.Zone, to),
		Because:  because,
		Numbers:  numbers,
	})
}

func (d *deciding) touch(i int) {
	if !d.isTouched[i] {
		d.isTouched[i] = true
		d.touched = append(d.touched, i)
	}
}

func (d *deciding) entry(e Entry) {
	if d.ro != nil {
		e.Rollout = d.ro.ID
	}
	d.entries = append(d.entries, e)
}

func (d *deciding) finish() Decision {
	out := Decision{Entries: d.entries, Again: d.again}
	for _, i := range d.touched {
		in := d.ins[i]
		out.Changed = append(out.Changed, in)
		if owed := in.Owed(); owed != Nothing && (i >= len(d.before) || d.before[i].Owed() != owed || !d.before[i].Ordered.Equal(in.Ordered)) {
			out.Steps = append(out.Steps, Step{Do: owed, Instance: in.ID, Why: in.Why})
		}
	}
	over := d.group.Deleting || (d.group.Alone && d.group.NextSerial > 0)
	if over && !slices.ContainsFunc(d.ins, func(in Instance) bool { return in.State != Gone }) {
		out.Finished = true
	}
	if d.groupChanged {
		out.Group = &d.group
	}
	if d.roChanged {
		out.Rollout = d.ro
	}
	return out
}
