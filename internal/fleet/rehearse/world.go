// Package rehearse runs the core on a virtual clock: the same decisions as in
// the service, carried out on simulated machines that boot, answer, fail and
// vanish by a plan. An hour of a group's life takes a few milliseconds.
package rehearse

import (
	"container/heap"
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

// Behaviour is how one simulated machine behaves.
type Behaviour struct {
	// Refused is set when the driver cannot start the machine at all.
	Refused bool
	// Boot is from launch until the machine runs; negative means never.
	Boot time.Duration
	// Well is from running until its checks are healthy; negative means never.
	Well time.Duration
	// Vanish is from launch until the machine is gone; 0 means it stays.
	Vanish time.Duration
	// Ill are times after launch at which its verdict turns over:
	// unhealthy, healthy again, and so on.
	Ill []time.Duration
	// IllBy are the checks that turn over then; all of the group's when none is named.
	IllBy []string
	// Finish is how long its requests in flight take once it drains.
	Finish time.Duration
	// Grace is how long it takes to stop.
	Grace time.Duration
}

// World is one group in virtual time.
type World struct {
	Now  time.Time
	View fleet.View
	// Fate says how the machine of a freshly launched instance behaves.
	Fate func(in fleet.Instance) Behaviour
	// OnDecision is called with every decision after its records were taken
	// over, before its steps are carried out.
	OnDecision func(before fleet.View, d fleet.Decision)
	// Journal is everything that was decided, oldest first.
	Journal []Line
	// Ended are the rollouts that came to their end.
	Ended []fleet.Rollout

	events   events
	ordinal  int
	machines map[string]*machine
}

// Line is a journal entry with its time.
type Line struct {
	At time.Time
	fleet.Entry
}

type machine struct {
	Behaviour
	launched time.Time
	gone     bool
}

// New makes a world at the time now.
func New(now time.Time, view fleet.View, fate func(fleet.Instance) Behaviour) *World {
	return &World{Now: now, View: view, Fate: fate, machines: map[string]*machine{}}
}

// At has f called at the time t, or at once when that is past. Events at the
// same time are called in the order in which they were asked for.
func (w *World) At(t time.Time, f func()) {
	if t.Before(w.Now) {
		t = w.Now
	}
	w.ordinal++
	heap.Push(&w.events, event{t, w.ordinal, f})
}

// Run lets time pass until the given time, deciding whenever a fact changed.
func (w *World) Run(until time.Time) {
	w.Decide()
	for len(w.events) > 0 && !w.events[0].at.After(until) {
		e := heap.Pop(&w.events).(event)
		w.Now = e.at
		e.do()
		for len(w.events) > 0 && w.events[0].at.Equal(w.Now) { // facts that arrive together are decided together
			heap.Pop(&w.events).(event).do()
		}
		w.Decide()
	}
	w.Now = until
}

// Decide decides once and carries the decision out.
func (w *World) Decide() {
	d := fleet.Decide(w.Now, w.View)
	before := w.View
	w.take(d)
	if w.OnDecision != nil {
		w.OnDecision(before, d)
	}
	for _, s := range d.Steps {
		w.carryOut(s)
	}
	if !d.Again.IsZero() {
		w.At(d.Again, func() {})
	}
}

// take writes the records of the decision.
func (w *World) take(d fleet.Decision) {
	ins := make([]fleet.Instance, 0, len(w.View.Instances)+len(d.Changed))
	changed := map[string]fleet.Instance{}
	for _, in := range d.Changed {
		changed[in.ID] = in
	}
	for _, in := range w.View.Instances {
		if c, ok := changed[in.ID]; ok {
			in = c
			delete(changed, in.ID)
		}
		if in.State != fleet.Gone {
			ins = append(ins, in)
		}
	}
	for _, in := range d.Changed {
		if _, isNew := changed[in.ID]; isNew && in.State != fleet.Gone {
			ins = append(ins, in)
		}
	}
	w.View.Instances = ins
	if d.Group != nil {
		w.View.Group = *d.Group
	}
	if d.Rollout != nil {
		w.View.Rollout = d.Rollout
		if d.Rollout.State.Ended() {
			w.Ended = append(w.Ended, *d.Rollout)
			w.View.Rollout = nil
		}
	}
	for _, e := range d.Entries {
		w.Journal = append(w.Journal, Line{w.Now, e})
	}
}

// Instance returns the record of an instance, or nil when it is gone.
func (w *World) Instance(id string) *fleet.Instance {
	for i := range w.View.Instances {
		if w.View.Instances[i].ID == id {
			return &w.View.Instances[i]
		}
	}
	return nil
}

// Machines is how many machines there are now.
func (w *World) Machines() int {
	n := 0
	for _, m := range w.machines {
		if !m.gone && !m.Refused {
			n++
		}
	}
	return n
}

func (w *World) carryOut(s fleet.Step) {
	switch s.Do {
	case fleet.Launch:
		w.launch(*w.Instance(s.Instance))
	case fleet.Close:
		w.fact(s.Instance, func(in *fleet.Instance) { in.Traffic = fleet.Traffic{Closed: true, InFlight: 1} })
		finish := time.Duration(0)
		if m := w.machines[s.Instance]; m != nil {
			finish = m.Finish
		}
		w.At(w.Now.Add(finish), func() {
			w.fact(s.Instance, func(in *fleet.Instance) { in.Traffic.InFlight = 0 })
		})
	case fleet.Stop:
		grace := time.Duration(0)
		if m := w.machines[s.Instance]; m != nil {
			grace = m.Grace
		}
		w.At(w.Now.Add(grace), func() {
			if m := w.machines[s.Instance]; m != nil {
				m.gone = true
			}
			w.fact(s.Instance, func(in *fleet.Instance) { in.HearMachine(fleet.Machine{State: fleet.MachineCleared}) })
		})
	}
}

func (w *World) fact(id string, change func(*fleet.Instance)) {
	if in := w.Instance(id); in != nil {
		change(in)
	}
}

func (w *World) launch(in fleet.Instance) {
	if old := w.machines[in.ID]; old != nil && !old.gone && !old.Refused {
		panic(fmt.Sprintf("rehearse: second machine for %s", in.ID))
	}
	m := &machine{Behaviour: w.Fate(in), launched: w.Now}
	w.machines[in.ID] = m
	say := func(after time.Duration, state fleet.MachineState, why string) {
		w.At(w.Now.Add(after), func() {
			if m.gone {
				return
			}
			if state == fleet.MachineStopped {
				m.gone = true
			}
			w.fact(in.ID, func(in *fleet.Instance) { in.HearMachine(fleet.Machine{State: state, Why: why}) })
		})
	}
	if m.Refused {
		say(0, fleet.MachineRefused, "the zone takes no machines")
		return
	}
	say(0, fleet.MachineStarting, "")
	if m.Boot >= 0 {
		say(m.Boot, fleet.MachineRunning, "")
		if m.Well >= 0 {
			w.At(w.Now.Add(m.Boot+m.Well), func() { w.Answer(in.ID, true) })
		}
	}
	if m.Vanish > 0 {
		say(m.Vanish, fleet.MachineStopped, "it was there no more")
	}
	for n, after := range m.Ill {
		w.At(w.Now.Add(after), func() { w.Answer(in.ID, n%2 == 1, m.IllBy...) })
	}
}

// Answer turns the verdicts of the checks, of all the group's when none is named,
// on one instance, as enough good or bad answers in a row would.
func (w *World) Answer(id string, good bool, checks ...string) {
	m := w.machines[id]
	if m == nil || m.gone {
		return
	}
	in := w.Instance(id)
	if in != nil && (in.State == fleet.Ordered || in.State == fleet.Booting) {
		w.At(w.Now.Add(time.Millisecond), func() { w.Answer(id, good, checks...) }) // nobody asks it yet
		return
	}
	if len(checks) == 0 {
		checks = w.View.Group.AllChecks()
	}
	w.fact(id, func(in *fleet.Instance) {
		for _, c := range checks {
			r := health.Report{Check: c, Verdict: health.Healthy, Since: w.Now, Why: "passed 2 of 2: 200, 200"}
			if !good {
				r.Verdict, r.Why = health.Unhealthy, "failed 3 of 3: 503, 503, 503"
			}
			if e, changed := in.HearVerdict(r); changed {
				w.Journal = append(w.Journal, Line{w.Now, e})
			}
		}
	})
}

// Vanish takes away the machine of one instance.
func (w *World) Vanish(id, why string) {
	if m := w.machines[id]; m != nil && !m.gone {
		m.gone = true
		w.fact(id, func(in *fleet.Instance) { in.HearMachine(fleet.Machine{State: fleet.MachineStopped, Why: why}) })
	}
}

// Rest has a person put an instance to rest, when that may be: it finishes its
// requests, its machine halts for the time, and is woken.
func (w *World) Rest(id string, halted time.Duration) {
	in := w.Instance(id)
	if in == nil {
		return
	}
	rests, e, err := w.View.Group.RestInstance(w.Now, *in, w.View.Rollout != nil)
	if err != nil {
		return
	}
	*in = rests
	in.Traffic = fleet.Traffic{Closed: true, InFlight: 1}
	w.Journal = append(w.Journal, Line{w.Now, e})
	m := w.machines[id]
	w.At(w.Now.Add(min(m.Finish, w.View.Group.Drain)+halted), func() {
		if in := w.Instance(id); in != nil && in.State == fleet.Resting && !m.gone {
			in.HearMachine(fleet.Machine{State: fleet.MachineWoken})
			if m.Well >= 0 {
				w.At(w.Now.Add(m.Well), func() { w.Answer(id, true) })
			}
		}
	})
}

// Tell has a person tell an instance something, when that may be.
func (w *World) Tell(id string, c fleet.InstanceCommand) {
	in := w.Instance(id)
	if in == nil {
		return
	}
	told, e, err := w.View.Group.TellInstance(w.Now, *in, c, "")
	if err != nil {
		return
	}
	owed := in.Owed()
	*in = told
	w.Journal = append(w.Journal, Line{w.Now, e})
	if in.Owed() != owed && in.Owed() != fleet.Nothing {
		in.Traffic = fleet.Traffic{}
		w.carryOut(fleet.Step{Do: in.Owed(), Instance: id, Why: e.Because})
	}
	if c == fleet.CommandRecreate {
		in.Traffic = fleet.Traffic{Closed: true}
	}
	if m := w.machines[id]; c == fleet.CommandUnpark && m.Well >= 0 {
		w.At(w.Now.Add(m.Well), func() { w.Answer(id, true) })
	}
}

// Release has a person let an instance go, when that may be: its machine runs on
// and is nobody's business any more.
func (w *World) Release(id string, replace bool) {
	in := w.Instance(id)
	if in == nil {
		return
	}
	g, _, e, err := w.View.Group.Release(w.Now, *in, replace, "")
	if err != nil {
		return
	}
	w.View.Group = g
	w.View.Instances = slices.DeleteFunc(slices.Clone(w.View.Instances), func(o fleet.Instance) bool { return o.ID == id })
	w.machines[id].gone = true
	w.Journal = append(w.Journal, Line{w.Now, e})
}

type event struct {
	at      time.Time
	ordinal int
	do      func()
}

type events []event

func (e events) Len() int      { return len(e) }
func (e events) Swap(i, j int) { e[i], e[j] = e[j], e[i] }
func (e events) Less(i, j int) bool {
	if e[i].at.Equal(e[j].at) {
		return e[i].ordinal < e[j].ordinal
	}
	return e[i].at.Before(e[j].at)
}
func (e *events) Push(x any) { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	old := *e
	last := old[len(old)-1]
	*e = old[:len(old)-1]
	return last
}
