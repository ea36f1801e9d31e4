package control

import (
	"context"
	"errors"
	"net"
	"slices"
	"strconv"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// carryOut does what the records owe the world. Driver calls run beside the
// keeper, one at a time for each instance. It reports whether something was
// learnt on the way that should be decided on at once.
func (k *keeper) carryOut(ctx context.Context) (learnt bool) {
	for i := range k.instances {
		in := &k.instances[i]
		k.probe(in)
		switch in.Owed() {
		case fleet.Launch:
			if in.Machine.State == fleet.MachineUnknown && !k.busy[in.ID] {
				in.Machine.State = fleet.MachineStarting
				k.launch(*in)
				learnt = true
			}
		case fleet.Close:
			// Closing it found nothing in flight, so nothing will report the end of it.
			if in.Traffic.Closed && in.Traffic.InFlight == 0 {
				learnt = true
			}
		case fleet.Stop:
			if in.Machine.State != fleet.MachineCleared && !k.busy[in.ID] {
				k.stop(ctx, in.ID)
			}
		}
	}
	return learnt
}

// probe asks instances whose machines run whether they are well, and no others.
func (k *keeper) probe(in *store.Instance) {
	wanted := in.State == fleet.Settling || in.State == fleet.Serving
	switch {
	case wanted && !k.watched[in.ID]:
		k.watched[in.ID] = true
		for _, c := range k.checks {
			k.ctl.prober.Watch(in.ID, in.Address, c, in.Report(c.Name))
		}
	case !wanted && k.watched[in.ID]:
		delete(k.watched, in.ID)
		k.ctl.prober.Forget(in.ID)
	}
}

// showTargets tells the balancer which instances are targets. An instance is
// closed the moment it is known to be ill; it is opened by decisions alone.
func (k *keeper) showTargets() {
	if len(k.group.Pools) == 0 {
		return
	}
	var targets []balancer.Target
	for i := range k.instances {
		in := &k.instances[i]
		if in.State != fleet.Serving && in.State != fleet.Draining {
			continue
		}
		targets = append(targets, balancer.Target{
			Instance: in.ID, Group: k.name, Version: in.Version.String(), Address: k.endpoint(in),
			Open: in.TakesRequests(),
		})
	}
	if !slices.Equal(targets, k.shown) || k.shown == nil {
		k.ctl.setTargets(k.name, k.group.Pools, targets)
		k.shown = append([]balancer.Target{}, targets...)
	}
	for i := range k.instances {
		if in := &k.instances[i]; in.State == fleet.Draining {
			in.Traffic = fleet.Traffic{Closed: true, InFlight: k.ctl.Balancer.InFlight(in.ID)}
		}
	}
}

// endpoint is where an instance takes requests.
func (k *keeper) endpoint(in *store.Instance) string {
	k.ctl.mu.Lock()
	port := k.ctl.templates[in.Version].Port // read when the group was loaded
	k.ctl.mu.Unlock()
	return net.JoinHostPort(in.Address, strconv.Itoa(port))
}

func (k *keeper) launch(in store.Instance) {
	k.busy[in.ID] = true
	k.ctl.tasks.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
		defer cancel()
		t, err := k.ctl.template(ctx, in.Version)
		if err != nil { // the database's trouble, not the machine's
			k.ctl.warn(k.name, "the template of an instance was not read; it is tried again", err)
			time.AfterFunc(retryAfter, func() { k.tell(func(k *keeper) { k.launchAgain(in.ID) }) })
			return
		}
		fact := machine.Fact{ID: in.ID, State: fleet.MachineRunning}
		if err := k.ctl.launch(ctx, in, t); err != nil {
			fact.State, fact.Why = fleet.MachineRefused, err.Error()
		}
		k.tell(func(k *keeper) {
			delete(k.busy, in.ID)
			k.hear(fact)
		})
	})
}

func (k *keeper) launchAgain(id string) {
	delete(k.busy, id)
	if in := k.find(id); in != nil && in.Machine.State == fleet.MachineStarting {
		in.Machine = fleet.Machine{}
	}
}

func (c *Control) launch(ctx context.Context, in store.Instance, t store.Template) error {
	return c.Machines.Launch(ctx, machine.Spec{
		ID: in.ID, Group: in.Group, Zone: in.Zone, Template: in.Version.String(), Digest: t.ImageDigest, Start: t.ImageStart,
		Address: in.Address, Number: in.AddressNumber, Port: t.Port, UserData: t.UserData, Environment: t.Environment,
	})
}

func (k *keeper) stop(ctx context.Context, id string) {
	k.busy[id] = true
	k.ctl.tasks.Go(func() {
		err := k.ctl.Machines.Stop(ctx, id, stopGrace)
		if errors.Is(err, context.Canceled) {
			return // the records still owe it, and whoever keeps the group next pays
		}
		if err != nil {
			k.ctl.warn(k.name, "a machine could not be stopped; it is tried again", err)
			time.AfterFunc(retryAfter, func() { k.tell(func(k *keeper) { delete(k.busy, id) }) })
			return
		}
		k.tell(func(k *keeper) {
			delete(k.busy, id)
			k.hear(machine.Fact{ID: id, State: fleet.MachineCleared})
		})
	})
}
