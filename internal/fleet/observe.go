package fleet

import (
	"slices"
	"time"

	"unitas/internal/fleet/health"
)

// observe moves instances on by what drivers, probes and balancers reported.
func (d *deciding) observe() {
	for _, i := range d.unsteady {
		d.dropFormer(i)
		d.dropOpen(i)
		switch in := d.at(i); in.State {
		case Ordered, Booting:
			d.observeBoot(i)
		case HeldIn, HeldOut:
			d.observeHeld(i)
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
	if len(d.at(i).Reports) == 0 {
		return
	}
	former := func(r health.Report) bool { return d.group.isFormer(r.Check) }
	if in := d.at(i); slices.ContainsFunc(in.Reports, former) {
		d.change(i, func(in *Instance) { in.Reports = slices.DeleteFunc(slices.Clone(in.Reports), former) })
	}
}

func (d *deciding) observeBoot(i int) {
	in := d.at(i)
	switch in.Machine.State {
	case MachineStarting:
		if in.State == Ordered {
			d.move(i, Booting, Cause{Code: CodeAccepted})
		}
		d.lookAt(d.deadline(in))
	case MachineRunning:
		d.change(i, func(in *Instance) { in.Up = d.now })
		d.start(i)
	case MachineRefused:
		cause := Cause{Code: CodeRefused, Words: in.Machine.Why}
		d.setBack(in)
		d.stumble(i, cause)
		d.move(i, Leaving, cause)
	case MachineStopped:
		d.lose(i)
	default:
		d.lookAt(d.deadline(in))
	}
}

// start is that the machine of an instance runs.
func (d *deciding) start(i int) {
	booted := span("boot_seconds", d.now.Sub(d.at(i).Ordered))
	if d.group.hasHooks(AtLaunch) {
		d.move(i, HeldIn, Cause{Code: CodeRuns}, booted)
		d.observeHeld(i)
		return
	}
	d.move(i, Settling, Cause{Code: CodeRuns}, booted)
	d.observeSettling(i)
}

func (d *deciding) observeSettling(i int) {
	in := d.at(i)
	if in.Machine.State == MachineStopped {
		d.lose(i)
		return
	}
	cause, ok := d.wellBy(in)
	if !ok {
		d.lookAt(d.deadline(in))
		return
	}
	d.endSetback(in)
	d.makeGood(in.Slot)
	d.comesBack(in)
	d.change(i, func(in *Instance) {
		if in.Served.IsZero() {
			in.Served = d.now
		}
	})
	d.move(i, Serving, cause, span("settled_seconds", d.now.Sub(in.settles())), span("since_order_seconds", d.now.Sub(in.Ordered)))
}

// wellBy reports whether every check finds the instance healthy, and the
// answers that say so.
func (d *deciding) wellBy(in *Instance) (because Cause, ok bool) {
	because = Cause{Code: CodeUnasked}
	for n, check := range d.group.AllChecks() {
		r := in.Report(check)
		if r.Verdict != health.Healthy {
			return Cause{}, false
		}
		if n == 0 {
			because = checked(r)
		}
	}
	return because, true
}

// checked is the cause that a report is.
func checked(r health.Report) Cause {
	return Cause{Code: CodeChecked, About: r.Check, Words: r.Why}
}

func (d *deciding) observeDraining(i int) {
	in := d.at(i)
	over := in.Since.Add(d.group.Drain)
	inFlight := count("in_flight", in.Traffic.InFlight)
	drained := span("drained_seconds", d.now.Sub(in.Since))
	switch {
	case in.Machine.State == MachineStopped:
		d.move(i, Leaving, Cause{Code: CodeEndedInIt, Words: in.Machine.Why}, inFlight, drained)
	case in.Traffic.Closed && in.Traffic.InFlight == 0:
		d.move(i, d.group.afterDrain(in), Cause{Code: CodeLastRequest}, drained)
		d.observeOut(i)
	case !d.now.Before(over):
		d.move(i, d.group.afterDrain(in), Cause{Code: CodeDrainOver, Numbers: Numbers{span("drain_seconds", d.group.Drain), inFlight}}, drained)
		d.observeOut(i)
	default:
		d.lookAt(over)
	}
}

// observeOut opens the tickets of one that has come to its retire hooks.
func (d *deciding) observeOut(i int) {
	if d.at(i).State == HeldOut {
		d.observeHeld(i)
	}
}

// observeCleared ends an instance, or gives it a fresh machine when that is why
// its machine was stopped.
func (d *deciding) observeCleared(i int) {
	if in := d.at(i); !in.Renew || d.group.Deleting {
		d.move(i, Gone, Cause{Code: CodeCleared})
		return
	}
	d.change(i, func(in *Instance) {
		in.Launch++
		in.Renew, in.Machine, in.Traffic, in.Reports, in.Tickets = false, Machine{}, Traffic{}, nil, nil
		in.Ordered, in.Up, in.Served = d.now, time.Time{}, time.Time{}
	})
	d.move(i, Ordered, Cause{Code: CodeFresh})
	d.lookAt(d.deadline(d.at(i)))
}

// RestLimit is how long after its drain an instance may rest: the copying of its
// files takes minutes at most.
const RestLimit = 30 * time.Minute

// observeResting waits for the last requests, and takes the instance back once
// its machine runs again.
func (d *deciding) observeResting(i int) {
	in := d.at(i)
	switch in.Machine.State {
	case MachineStopped:
		d.lose(i)
	case MachineWoken:
		rested := span("rested_seconds", d.now.Sub(in.Since))
		d.change(i, func(in *Instance) { in.Machine.State, in.Up, in.Reports = MachineRunning, d.now, nil })
		d.move(i, Settling, Cause{Code: CodeWoken}, rested)
		d.observeSettling(i)
	default:
		d.lookAt(in.Since.Add(d.group.Drain))
		d.lookAt(in.Since.Add(d.group.Drain + RestLimit))
	}
}

// MayHalt reports whether nothing keeps the machine of a resting instance from
// being halted: its last request is done, or its drain is over.
func (g *Group) MayHalt(now time.Time, in *Instance) bool {
	return (in.Traffic.Closed && in.Traffic.InFlight == 0) || !now.Before(in.Since.Add(g.Drain))
}

// lose records that the machine of an instance vanished.
func (d *deciding) lose(i int) {
	in := d.at(i)
	cause := Cause{Code: CodeVanished, Words: in.Machine.Why}
	counted := in.State.Counts()
	if in.Served.IsZero() {
		d.setBack(in)
	}
	if counted { // what is parked is a person's
		d.stumble(i, cause)
	}
	d.move(i, Lost, cause, span("age_seconds", d.now.Sub(in.Ordered)))
	if counted {
		d.failed(i, cause)
	}
}

// BootLimit is how long a machine may take to run: settle, at least 30 s.
func (g *Group) BootLimit() time.Duration { return max(g.Settle, 30*time.Second) }

// settles is since when an instance settles: its machine runs, and no hook holds it.
func (i *Instance) settles() time.Time {
	return later(i.Since, i.Up)
}

// deadline is when an instance that comes up counts as failed. Only watched time counts: it has all
// of its time from when somebody looks again.
func (g *Group) deadline(in *Instance) time.Time {
	if in.State == Settling {
		return later(in.settles(), g.Watched).Add(g.Settle)
	}
	return later(in.Ordered, g.Watched).Add(g.BootLimit())
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func (d *deciding) deadline(in *Instance) time.Time { return d.group.deadline(in) }

// IsOverdue reports whether an instance failed to come up in its time.
func (g *Group) IsOverdue(now time.Time, in *Instance) bool {
	if in.State == HeldIn { // its tickets have deadlines of their own
		return in.failedTicket(AtLaunch) != nil
	}
	return in.State.ComingUp() && !now.Before(g.deadline(in))
}

// Overdue reports whether an instance failed to come up in its time, and why.
func (g *Group) Overdue(now time.Time, in *Instance) (because Cause, yes bool) {
	if !g.IsOverdue(now, in) {
		return Cause{}, false
	}
	if t := in.failedTicket(AtLaunch); t != nil && in.State == HeldIn {
		return hookFailed(t), true
	}
	if in.State != Settling {
		return Cause{Code: CodeNotUp, Numbers: Numbers{span("limit_seconds", g.BootLimit())}}, true
	}
	because = Cause{Code: CodeNotHealthy, Numbers: Numbers{span("settle_seconds", g.Settle)}}
	for _, check := range g.AllChecks() {
		if r := in.Report(check); r.Verdict != health.Healthy {
			because.About, because.Words = check, r.Why
			break
		}
	}
	return because, true
}
