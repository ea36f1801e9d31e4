package control

import (
	"time"

	"unitas/internal/clock"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/machine"
)

// fact is something that a keeper is told. It is one of the types below.
type fact interface{ isFact() }

type (
	// ofMachine is what the driver said of a machine.
	ofMachine struct{ machine.Fact }
	// ofCheck is a changed verdict.
	ofCheck struct {
		id string
		health.Report
		at clock.Reading
	}
	// ofRecords says that the records of the group are to be read again.
	ofRecords struct{}
	// ofList is which machines there were when they were listed.
	ofList struct {
		at    clock.Reading
		found map[string]bool
	}
	// ofAct is how an act of the keeper's own ended, and what is known of the machine now.
	ofAct struct {
		id string
		// then is what the act made of the machine; nil when nothing came of it and it is
		// to be tried again.
		then *fleet.Machine
	}
	// ofTraffic says that a target has had its last request, or that the balancer took
	// over what it was told.
	ofTraffic struct{}
	// ofOther is another replica's word that a target which was closed at since has none of
	// its requests in flight.
	ofOther struct {
		id, replica string
		since       time.Time
	}
	// ofClock says that the clock was set.
	ofClock struct{}
	// ofFault is a fault of the service's own, for tests.
	ofFault struct{}
)

func (ofMachine) isFact() {}
func (ofCheck) isFact()   {}
func (ofRecords) isFact() {}
func (ofList) isFact()    {}
func (ofAct) isFact()     {}
func (ofTraffic) isFact() {}
func (ofOther) isFact()   {}
func (ofClock) isFact()   {}
func (ofFault) isFact()   {}

// take takes a fact in.
func (k *keeper) take(f fact) {
	switch f := f.(type) {
	case ofMachine:
		k.hear(f.ID, fleet.Machine{State: f.State, Why: f.Why, Launch: f.Launch})
	case ofCheck:
		if f.Check == string(fleet.HealTraffic) && k.group.Heal != fleet.HealTraffic {
			return
		}
		f.Since = k.ctl.Clock.At(f.at, k.offset)
		k.judge(f.id, f.Report)
	case ofRecords:
		k.stale = true
	case ofList:
		k.missing(f)
	case ofAct:
		k.ended(f)
	case ofTraffic, ofClock:
		k.urgent = true
	case ofOther:
		k.quiet(f)
	case ofErrand:
		k.errandOver(f)
	case ofSamples:
		k.measure(f)
	case ofFault:
		panic("a fault")
	}
}

// hear takes in what is known of a machine.
func (k *keeper) hear(id string, m fleet.Machine) {
	k.edit(id, func(in *fleet.Instance) { in.HearMachine(m) })
}

// judge takes in a changed verdict, to be written with the next decision.
func (k *keeper) judge(id string, r health.Report) {
	k.edit(id, func(in *fleet.Instance) {
		if e, changed := in.HearVerdict(r); changed {
			k.spoil(id)
			k.noted = append(k.noted, e)
		}
	})
}

// missing loses the machines that ran before the list was made and are not on it.
func (k *keeper) missing(f ofList) {
	for i := range k.view.Instances {
		in := &k.view.Instances[i]
		if isMissing(in, k.ctl.Clock.At(f.at, k.offset), f.found) && !k.kept[in.ID].busy {
			k.edit(in.ID, func(in *fleet.Instance) { in.Machine = notFound })
		}
	}
}

// isMissing reports whether a machine that was up before a time should have been found then.
func isMissing(in *fleet.Instance, at time.Time, found map[string]bool) bool {
	return !found[in.ID] && !in.Up.IsZero() && in.Up.Before(at) && in.Machine.State == fleet.MachineRunning
}

var notFound = fleet.Machine{State: fleet.MachineStopped, Why: "its machine was not found"}

// ended takes in how an act ended.
func (k *keeper) ended(f ofAct) {
	one := k.kept[f.id]
	if one == nil {
		return
	}
	one.busy = false
	if f.then != nil {
		k.hear(f.id, *f.then)
		return
	}
	k.edit(f.id, func(in *fleet.Instance) {
		if in.Machine.State == fleet.MachineStarting {
			in.Machine = fleet.Machine{}
		}
	})
}

// quiet notes that another replica has no request of a target any more.
func (k *keeper) quiet(f ofOther) {
	if one := k.kept[f.id]; one != nil && f.since.Equal(k.view.Instances[one.at].Since) {
		if one.quiet == nil {
			one.quiet = map[string]bool{}
		}
		one.quiet[f.replica] = true
		k.urgent = true
	}
}
