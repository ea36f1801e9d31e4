// Package rehearse runs the core on a virtual clock: the same decisions as in
// the service, carried out on simulated machines that boot, answer, fail and
// vanish by a plan. An hour of a group's life takes a few milliseconds.
package rehearse

import (
	"container/heap"
	"time"

	"unitas/internal/fleet"
)

// World is one group in virtual time.
type World struct {
	Now  time.Time
	View fleet.View
	// Fate says how the machine of a freshly launched instance behaves.
	Fate func(in fleet.Instance) Behaviour
	// Answers says how a ticket is answered that a decision opened; nil answers none.
	Answers func(in fleet.Instance, t fleet.Ticket) Answering
	// OnDecide is called with every decision before anything is done with it.
	OnDecide func(d fleet.Decision)
	// OnDecision is called with every decision after its records were taken
	// over, before anything is done about it.
	OnDecision func(before fleet.View, d fleet.Decision)
	// OnAct is called with everything that is done for an instance, with its machine as
	// it was before; nil when there was none.
	OnAct func(do fleet.Act, in *fleet.Instance, m *Machine)
	// OnEnd is called when a machine ends by itself, before that is heard.
	OnEnd func(in *fleet.Instance)
	// Disturb says what becomes of what a decision owes; nil does all at once.
	Disturb func() Disturbance
	// Skew is by how much the clock that decisions are made by is ahead.
	Skew time.Duration
	// Stop ends [World.Run] when it says so.
	Stop func() bool
	// Away is until when nobody decides: the service is down.
	Away time.Time
	// Lean has records changed where they stand: OnDecision is not shown how they were before.
	Lean bool
	// Quiet has nothing journalled but what is about the rollout.
	Quiet bool
	// Journal is everything that was decided, oldest first.
	Journal []Line
	// Ended are the rollouts that came to their end.
	Ended []fleet.Rollout
	// Finished is set once a deleted group has nothing left.
	Finished bool
	// Machines are those there are and were, by instance.
	Machines map[string]*Machine
	// Decisions counts them.
	Decisions int

	place   map[string]int // of View.Instances, by id
	watched time.Time      // since when there is no gap, whatever the clock says
	froze   time.Time      // when the group was frozen last
	freezes [][2]time.Time // those that are over
	decided time.Time      // when was decided last, and left, when before the gap
	left    time.Time
	events  events
	asked   map[string]bool // tickets that are being answered
	ordinal int
	over    int // instances of the view that are gone, and were not dropped yet
}

// Disturbance is what becomes of an act: it is lost with the service that was to do it,
// which starts again After; or it is late by After; or it is done Twice.
type Disturbance struct {
	Lost, Twice bool
	After       time.Duration
}

// Line is a journal entry with its time.
type Line struct {
	At time.Time
	fleet.Entry
}

// New makes a world at the time now.
func New(now time.Time, view fleet.View, fate func(fleet.Instance) Behaviour) *World {
	w := &World{Now: now, View: view, Fate: fate, Machines: map[string]*Machine{}, place: map[string]int{}, asked: map[string]bool{}}
	for i := range view.Instances {
		w.place[view.Instances[i].ID] = i
	}
	return w
}

// Clock is the time that decisions are made by.
func (w *World) Clock() time.Time { return w.Now.Add(w.Skew) }

// At has f called at the time t, or at once when that is past. Events at the
// same time are called in the order in which they were asked for.
func (w *World) At(t time.Time, f func()) {
	if t.Before(w.Now) {
		t = w.Now
	}
	w.ordinal++
	heap.Push(&w.events, event{t, w.ordinal, f})
}

// In has f called after a time.
func (w *World) In(after time.Duration, f func()) { w.At(w.Now.Add(after), f) }

// Run lets time pass until the given time, deciding whenever a fact changed.
func (w *World) Run(until time.Time) {
	w.Decide()
	for len(w.events) > 0 && !w.events[0].at.After(until) && (w.Stop == nil || !w.Stop()) {
		e := heap.Pop(&w.events).(event)
		w.Now = e.at
		e.do()
		for len(w.events) > 0 && w.events[0].at.Equal(w.Now) { // facts that arrive together are decided together
			heap.Pop(&w.events).(event).do()
		}
		w.Decide()
	}
	if w.Stop == nil || !w.Stop() {
		w.Now = until
	}
}

// Decide decides once and carries the decision out.
func (w *World) Decide() {
	if w.Finished || w.Now.Before(w.Away) {
		return
	}
	w.decided = w.Now
	if !w.watched.IsZero() {
		w.View.Watched = w.watched.Add(w.Skew)
	}
	if !w.View.Ledger.Fits(&w.View) {
		w.View.Ledger = fleet.NewLedger(&w.View)
	}
	d := fleet.Decide(w.Clock(), w.View)
	if w.OnDecide != nil {
		w.OnDecide(d)
	}
	w.Decisions++
	before := w.View
	was := make([]fleet.State, len(d.Changed))
	for k, in := range d.Changed {
		if old := w.Instance(in.ID); old != nil {
			was[k] = old.State
		}
	}
	if !d.Quiet() {
		w.take(d)
	}
	if w.OnDecision != nil {
		w.OnDecision(before, d)
	}
	for k := range d.Changed {
		w.act(d.Changed[k].ID)
		w.askAbout(d.Changed[k])
		if in := d.Changed[k]; in.State == fleet.Settling && was[k] == fleet.HeldIn {
			if m := w.Machines[in.ID]; m != nil && m.Launch == in.Launch && m.Well >= 0 {
				w.In(m.Well, func() { w.settle(in.ID, m) })
			}
		}
	}
	if !d.Again.IsZero() {
		w.At(d.Again.Add(-w.Skew), func() {})
	}
}

// take writes the records of the decision.
func (w *World) take(d fleet.Decision) {
	ins := w.View.Instances
	if !w.Lean { // whoever holds the view before keeps it
		ins = make([]fleet.Instance, len(w.View.Instances), len(w.View.Instances)+len(d.Changed))
		copy(ins, w.View.Instances)
	}
	for _, in := range d.Changed {
		i, known := w.place[in.ID]
		if !known {
			i = len(ins)
			w.place[in.ID] = i
			ins = append(ins, *in)
		}
		ins[i] = *in
	}
	w.View.Instances = ins
	for _, in := range d.Changed {
		w.View.Ledger.Note(&w.View, w.place[in.ID])
	}
	w.dropGone(d)
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
	w.Finished = d.Finished
	w.note(d.Entries...)
}

// dropGone forgets those that a decision ended: in a lean world once they are many.
func (w *World) dropGone(d fleet.Decision) {
	for _, in := range d.Changed {
		if in.State == fleet.Gone {
			w.over++
			delete(w.place, in.ID)
			if w.Lean {
				delete(w.Machines, in.ID)
			}
		}
	}
	if w.over > 0 && (!w.Lean || 4*w.over > len(w.View.Instances)) {
		w.drop(func(in *fleet.Instance) bool { return in.State == fleet.Gone })
		w.over = 0
	}
}

// drop forgets instances that are no more.
func (w *World) drop(out func(*fleet.Instance) bool) {
	ins := w.View.Instances
	w.View.Ledger.Keep(func(i int) bool { return !out(&ins[i]) })
	kept := make([]fleet.Instance, 0, len(ins))
	for i := range ins {
		if out(&ins[i]) {
			delete(w.place, ins[i].ID)
			continue
		}
		w.place[ins[i].ID] = len(kept)
		kept = append(kept, ins[i])
	}
	w.View.Instances = kept
}

func (w *World) note(entries ...fleet.Entry) {
	for _, e := range entries {
		if w.Quiet && e.Rollout == 0 {
			continue
		}
		w.Journal = append(w.Journal, Line{w.Now, e})
	}
}

// edit lets f change the record of an instance, or what is known of it.
func (w *World) edit(id string, f func(in *fleet.Instance)) {
	i, ok := w.place[id]
	if !ok {
		return
	}
	f(&w.View.Instances[i])
	if w.View.Ledger.Fits(&w.View) {
		w.View.Ledger.Note(&w.View, i)
	}
}

// count is how many instances of a version count, and how many serve; of all when none is
// given.
func (w *World) count(v fleet.Version) (counted, serving int) {
	if !w.View.Ledger.Fits(&w.View) {
		w.View.Ledger = fleet.NewLedger(&w.View)
	}
	return w.View.Ledger.Count(v)
}

// Instance returns the record of an instance, or nil when it is gone.
func (w *World) Instance(id string) *fleet.Instance {
	if i, ok := w.place[id]; ok {
		return &w.View.Instances[i]
	}
	return nil
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
