package rehearse

import (
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

// Behaviour is how one simulated machine behaves.
type Behaviour struct {
	// Refused is set when the driver cannot start the machine at all; Late has it
	// accepted first, and refused after Boot.
	Refused, Late bool
	// Boot is from launch until the machine runs; negative means never.
	Boot time.Duration
	// Well is from running until its checks are healthy; negative means never.
	Well time.Duration
	// Half has only the first of several checks ever find it healthy.
	Half bool
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
	// StopFails is how often it cannot be stopped before it can.
	StopFails int
}

// Machine is one simulated machine as it really is, whatever is recorded.
type Machine struct {
	Behaviour
	Launch   int
	Launched time.Time // by the clock of the decisions
	Running  bool
	Gone     bool
	// Bad are the checks that find it ill, from when.
	Bad map[string]time.Time
	// Passed are the checks that found it healthy, and Good is set once all did.
	Passed map[string]bool
	Good   bool
	// Open is set while it gets requests. It was closed at Closed, when the clock of the service was
	// ahead by Skewed; its requests take until Busy.
	Open   bool
	Closed time.Time
	Skewed time.Duration
	Busy   time.Time
	// Stopping is set once it was asked to end.
	Stopping bool
}

// Answers reports whether the machine gets requests and answers those of some pool
// well.
func (m *Machine) Answers(checks []string) bool {
	if m == nil || m.Gone || !m.Running || !m.Open {
		return false
	}
	for _, c := range checks {
		if m.Bad[c].IsZero() {
			return true
		}
	}
	return len(checks) == 0
}

// act does what the record of an instance owes the world, as far as nothing disturbs it.
func (w *World) act(id string) {
	in := w.Instance(id)
	if in == nil || in.Unpaid() == fleet.Nothing {
		return
	}
	var d Disturbance
	if w.Disturb != nil {
		d = w.Disturb()
	}
	switch {
	case d.Lost:
		w.In(d.After, w.Restart)
	case d.After > 0:
		w.In(d.After, func() { w.catchUp(id) })
	default:
		do := in.Unpaid()
		w.carryOut(do, in)
		if d.Twice {
			w.carryOut(do, in)
		}
	}
}

// catchUp does for an instance what is not done yet.
func (w *World) catchUp(id string) {
	if in := w.Instance(id); in != nil && in.Unpaid() != fleet.Nothing {
		w.carryOut(in.Unpaid(), in)
	}
}

// Restart has the service start again: what was known and is in no record is heard
// anew, and what the records owe the world is done again.
func (w *World) Restart() {
	for i := range w.View.Instances {
		in := &w.View.Instances[i]
		m := w.Machines[in.ID]
		in.Traffic = fleet.Traffic{}
		in.Machine = fleet.Machine{}
		switch {
		case m != nil && m.Launch == in.Launch && m.Running && !m.Gone:
			in.Machine.State = fleet.MachineRunning
		case in.Owed() != fleet.Launch && in.Owed() != fleet.Stop:
			in.Machine = fleet.Machine{State: fleet.MachineStopped, Why: "its machine was not found"}
		}
		w.catchUp(in.ID)
	}
	w.watched, w.left, w.View.Ledger = w.Now, w.decided, nil
}

func (w *World) carryOut(do fleet.Act, in *fleet.Instance) {
	m := w.Machines[in.ID]
	if m != nil && m.Launch != in.Launch {
		m = nil
	}
	if w.OnAct != nil {
		w.OnAct(do, in, m)
	}
	switch do {
	case fleet.Launch:
		w.launch(*in)
	case fleet.Open:
		if m != nil {
			m.Open = true
		}
	case fleet.Close:
		w.shut(in, m)
		w.finish(in, m)
	case fleet.Rest:
		w.shut(in, m)
		w.finish(in, m)
	case fleet.Stop:
		w.stop(in, m)
	}
}

// shut ends that a machine gets requests; those in flight go on.
func (w *World) shut(in *fleet.Instance, m *Machine) {
	if m != nil && m.Open {
		m.Open, m.Closed, m.Skewed, m.Busy = false, w.Now, w.Skew, w.Now.Add(m.Finish)
	}
}

// finish tells of what is in flight on an instance, now and when it is done.
func (w *World) finish(in *fleet.Instance, m *Machine) {
	id, left := in.ID, time.Duration(0)
	if m != nil {
		left = m.Busy.Sub(w.Now)
	}
	w.edit(id, func(in *fleet.Instance) { in.Traffic = fleet.Traffic{Closed: true, InFlight: 1} })
	w.In(max(left, 0), func() { w.edit(id, func(in *fleet.Instance) { in.Traffic.InFlight = 0 }) })
}

func (w *World) stop(in *fleet.Instance, m *Machine) {
	id, launch, grace := in.ID, in.Launch, time.Duration(0)
	w.shut(in, m)
	if m != nil {
		grace, m.Stopping = m.Grace, true
		if m.StopFails > 0 {
			m.StopFails--
			w.In(time.Second, func() { w.catchUp(id) })
			return
		}
	}
	w.In(grace, func() {
		if m != nil {
			m.Gone = true
		}
		w.edit(id, func(in *fleet.Instance) { in.HearMachine(fleet.Machine{State: fleet.MachineCleared, Launch: launch}) })
	})
}

// Living is how many machines there are now.
func (w *World) Living() int {
	n := 0
	for _, m := range w.Machines {
		if !m.Gone && !m.Refused {
			n++
		}
	}
	return n
}

func (w *World) launch(in fleet.Instance) {
	if old := w.Machines[in.ID]; old != nil && !old.Gone && !old.Refused {
		if old.Launch == in.Launch { // it is there already
			if old.Running {
				w.edit(in.ID, func(in *fleet.Instance) {
					in.HearMachine(fleet.Machine{State: fleet.MachineRunning, Launch: old.Launch})
				})
			}
			return
		}
		panic(fmt.Sprintf("rehearse: second machine for %s", in.ID))
	}
	m := &Machine{Behaviour: w.Fate(in), Launch: in.Launch, Launched: w.Clock(), Bad: map[string]time.Time{}, Passed: map[string]bool{}}
	w.Machines[in.ID] = m
	say := func(after time.Duration, state fleet.MachineState, why string) {
		w.In(after, func() {
			if m.Gone {
				return
			}
			switch state {
			case fleet.MachineStopped:
				w.ends(in.ID, m)
			case fleet.MachineRunning:
				m.Running = true
			}
			w.edit(in.ID, func(in *fleet.Instance) { in.HearMachine(fleet.Machine{State: state, Why: why, Launch: m.Launch}) })
		})
	}
	switch {
	case m.Late:
		say(0, fleet.MachineStarting, "")
		w.In(max(m.Boot, 0), func() { m.Refused = true })
		say(max(m.Boot, 0), fleet.MachineRefused, "the zone takes no machines")
		return
	case m.Refused:
		say(0, fleet.MachineRefused, "the zone takes no machines")
		return
	}
	say(0, fleet.MachineStarting, "")
	if m.Boot >= 0 {
		say(m.Boot, fleet.MachineRunning, "")
		if m.Well >= 0 {
			w.In(m.Boot+m.Well, func() { w.settle(in.ID, m) })
		}
	}
	if m.Vanish > 0 {
		say(m.Vanish, fleet.MachineStopped, "it was there no more")
	}
	for n, after := range m.Ill {
		w.In(after, func() { w.answer(m, in.ID, n%2 == 1, m.IllBy...) })
	}
}

// settle has the checks find a machine healthy that is, once they ask it: not while a hook
// holds it.
func (w *World) settle(id string, m *Machine) {
	if in := w.Instance(id); in != nil && in.State == fleet.HeldIn {
		return
	}
	all := w.View.Group.AllChecks()
	if m.Half {
		all = all[:min(1, len(all))]
	}
	w.answer(m, id, true, all...)
}

// Answer turns the verdicts of the checks, of all the group's when none is named,
// on one instance, as enough good or bad answers in a row would.
func (w *World) Answer(id string, good bool, checks ...string) {
	w.answer(w.Machines[id], id, good, checks...)
}

func (w *World) answer(m *Machine, id string, good bool, checks ...string) {
	if m == nil || m.Gone || w.Machines[id] != m {
		return
	}
	in := w.Instance(id)
	if in != nil && (in.State == fleet.Ordered || in.State == fleet.Booting) {
		if !m.Running {
			return
		}
		w.In(time.Millisecond, func() { w.answer(m, id, good, checks...) }) // nobody asks it yet
		return
	}
	all := w.View.Group.AllChecks()
	if len(checks) == 0 {
		checks = all
	}
	for _, c := range checks {
		if good {
			delete(m.Bad, c)
			m.Passed[c] = true
		} else if m.Bad[c].IsZero() {
			m.Bad[c] = w.Clock()
		}
	}
	m.Good = m.Good || (len(m.Bad) == 0 && !slices.ContainsFunc(all, func(c string) bool { return !m.Passed[c] }))
	w.edit(id, func(in *fleet.Instance) {
		for _, c := range checks {
			r := health.Report{Check: c, Verdict: health.Healthy, Since: w.Clock(), Why: "passed 2 of 2: 200, 200"}
			if !good {
				r.Verdict, r.Why = health.Unhealthy, "failed 3 of 3: 503, 503, 503"
			}
			if e, changed := in.HearVerdict(r); changed {
				w.note(e)
			}
		}
	})
}

// Vanish takes away the machine of one instance.
func (w *World) Vanish(id, why string) {
	if m := w.Machines[id]; m != nil && !m.Gone && !m.Refused {
		w.ends(id, m)
		w.edit(id, func(in *fleet.Instance) {
			in.HearMachine(fleet.Machine{State: fleet.MachineStopped, Why: why, Launch: m.Launch})
		})
	}
}

func (w *World) ends(id string, m *Machine) {
	m.Gone, m.Running, m.Open = true, false, false
	if in := w.Instance(id); in != nil && w.OnEnd != nil && in.Launch == m.Launch {
		w.OnEnd(in)
	}
}

// Late has the end of the machine that an instance had before its present one heard
// only now.
func (w *World) Late(id string) {
	w.edit(id, func(in *fleet.Instance) {
		in.HearMachine(fleet.Machine{State: fleet.MachineStopped, Why: "killed by signal 9", Launch: in.Launch - 1})
	})
}
