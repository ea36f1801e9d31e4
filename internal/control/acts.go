package control

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"strconv"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// How long acts may take, and how many machines are launched in one zone at once.
const (
	launchLimit = 5 * time.Minute
	stopLimit   = 2 * time.Minute
	launchesAt  = 16
)

// carryOut does what the records owe the world. Driver calls run beside the
// keeper, one at a time for each instance, and end with the lease. It reports whether
// something was learnt on the way that should be decided on at once.
func (k *keeper) carryOut() (learnt bool) {
	k.dropErrands()
	for i := range k.view.Instances {
		in := &k.view.Instances[i]
		one := k.kept[in.ID]
		k.probe(in, one)
		if in.State == fleet.Draining && in.Traffic.Closed && in.Traffic.InFlight == 0 {
			learnt = true // closing it found nothing in flight, so nothing will report the end of it
		}
		if in.State == fleet.HeldIn || in.State == fleet.HeldOut {
			k.announce(in, one)
		}
		if one.busy {
			continue
		}
		switch in.Unpaid() {
		case fleet.Launch:
			k.edit(in.ID, func(in *fleet.Instance) { in.Machine.State = fleet.MachineStarting })
			k.act(one, launchLimit, k.launch)
			learnt = true
		case fleet.Rest:
			if k.group.MayHalt(k.now(), in) {
				k.act(one, stopLimit, k.rest)
			}
		case fleet.Stop:
			k.act(one, stopLimit, k.clear)
		}
	}
	return learnt
}

// act has something done to the machine of an instance beside the keeper, who hears how it
// ended. What came to nothing is tried again.
func (k *keeper) act(one *kept, limit time.Duration, do func(ctx context.Context, in store.Instance, o machine.Order) (*fleet.Machine, error)) {
	one.busy = true
	in := k.record(one)
	o := machine.Order{ID: in.ID, Group: k.name, Epoch: k.epoch}
	term := k.ctl.term.context()
	k.acts.Add(1)
	k.ctl.acts.Go(func() {
		defer caught.Told("an act on a machine", nil)
		defer k.acts.Add(-1)
		ctx, cancel := context.WithTimeout(term, limit)
		defer cancel()
		var then *fleet.Machine
		var err error
		if fault := caught.Do("an act on a machine", func() { then, err = do(ctx, in, o) }); fault != nil {
			err = fault
		}
		if err != nil {
			k.ctl.warn(k.name, "an act on a machine did not succeed; it is tried again", fmt.Errorf("%s: %w", in.ID, err))
			time.AfterFunc(retryAfter, caught.Func("an act on a machine", func() { k.tell(ofAct{id: in.ID, then: then}) }))
			return
		}
		k.tell(ofAct{id: in.ID, then: then})
	})
}

// launch starts a machine. That a driver refuses is a fact about the machine; that nobody
// could ask it is none.
func (k *keeper) launch(ctx context.Context, in store.Instance, o machine.Order) (*fleet.Machine, error) {
	t, err := k.ctl.library.template(ctx, in.Version)
	if err != nil {
		return nil, fmt.Errorf("read its template: %w", err)
	}
	done, err := k.ctl.launches.enter(ctx, in.Zone)
	if err != nil {
		return nil, err
	}
	defer done()
	m := &fleet.Machine{State: fleet.MachineRunning, Launch: in.Launch}
	err = k.ctl.Machines.Launch(ctx, o, specOf(in, t))
	switch {
	case errors.Is(err, machine.ErrDeposed), err != nil && k.ctl.term.ended(ctx):
		return nil, err
	case err != nil:
		m.State, m.Why = fleet.MachineRefused, err.Error()
	}
	return m, nil
}

func (k *keeper) clear(ctx context.Context, in store.Instance, o machine.Order) (*fleet.Machine, error) {
	if err := k.ctl.Machines.Stop(ctx, o, stopGrace); err != nil {
		return nil, err
	}
	return &fleet.Machine{State: fleet.MachineCleared, Launch: in.Launch}, nil
}

// probe asks instances whose machines run whether they are well, and no others.
func (k *keeper) probe(in *fleet.Instance, one *kept) {
	wanted := in.State == fleet.Settling || in.State == fleet.Serving
	switch {
	case wanted && !one.watched:
		one.watched = true
		for _, c := range k.checks {
			k.ctl.prober.Watch(in.ID, one.rest.Address, c, in.Report(c.Name))
		}
	case !wanted && one.watched:
		one.watched = false
		k.ctl.prober.Forget(in.ID)
		k.ctl.desk.forget(in.ID)
	}
}

// showTargets tells the desk which instances are targets, and which checks find
// them healthy.
func (k *keeper) showTargets() {
	if !k.loaded {
		return
	}
	of := targetsIn(k.group, len(k.view.Instances), func(i int) (*fleet.Instance, string) {
		in := &k.view.Instances[i]
		return in, endpoint(k.kept[in.ID].rest.Address, k.ports[in.Version])
	})
	if k.targets.targets == nil || !of.equal(k.targets) {
		maps.Copy(k.closing, k.ctl.desk.set(k.name, k.group.Pools, of))
		k.targets = of
	}
	k.awaits.Store(true) // before it is asked, so that no answer is missed
	closed := k.ctl.desk.knows(k.closing)
	k.awaits.Store(!closed)
	for i := range k.view.Instances {
		in := &k.view.Instances[i]
		if !isClosed(in) {
			continue
		}
		now := fleet.Traffic{Closed: closed && k.ctl.others.quiet(k.kept[in.ID].quiet)}
		var known bool
		if now.InFlight, known = k.ctl.Balancer.InFlight(in.ID); !known {
			now.Closed = false
		}
		if now != in.Traffic {
			k.edit(in.ID, func(in *fleet.Instance) { in.Traffic = now })
		}
	}
}

// isClosed reports whether an instance is a target that gets no new requests.
func isClosed(in *fleet.Instance) bool {
	return in.State == fleet.Draining || in.State == fleet.Resting || in.State == fleet.Parked
}

// targetsIn are the targets among n instances of a group.
func targetsIn(g store.Group, n int, at func(i int) (in *fleet.Instance, endpoint string)) targetsOf {
	of := targetsOf{size: g.Size, targets: []target{}}
	for i := range n {
		in, endpoint := at(i)
		if in.State != fleet.Serving && !isClosed(in) {
			continue
		}
		t := target{zone: in.Zone, Target: balancer.Target{
			Instance: in.ID, Group: g.Name, Version: in.Version.String(), Address: endpoint,
			Last: in.State == fleet.Serving && in.Machine.State != fleet.MachineStopped,
		}}
		for _, check := range g.Checks {
			if in.TakesRequests(check) {
				t.healthy = append(t.healthy, check)
			}
		}
		of.targets = append(of.targets, t)
	}
	return of
}

// endpoint is where an instance takes requests.
func endpoint(address string, port int) string {
	return net.JoinHostPort(address, strconv.Itoa(port))
}
