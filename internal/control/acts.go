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
		if in.State == fleet.Draining && in.Traffic.Closed && in.Traffic.InFlight == 0 {
			learnt = true // closing it found nothing in flight, so nothing will report the end of it
		}
		switch in.Unpaid() {
		case fleet.Launch:
			if !k.busy[in.ID] {
				in.Machine.State = fleet.MachineStarting
				k.launch(*in)
				learnt = true
			}
		case fleet.Rest:
			if !k.busy[in.ID] && k.group.MayHalt(time.Now(), &in.Instance) {
				k.rest(ctx, in.ID)
			}
		case fleet.Stop:
			if !k.busy[in.ID] {
				k.stop(ctx, in.ID, in.Launch)
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
		k.ctl.desk.forget(in.ID)
	}
}

// showTargets tells the desk which instances are targets, and which checks find
// them healthy.
func (k *keeper) showTargets() {
	if !k.loaded {
		return
	}
	of := targetsOf{size: k.group.Size, targets: []target{}}
	for i := range k.instances {
		in := &k.instances[i]
		if in.State != fleet.Serving && in.State != fleet.Draining && in.State != fleet.Resting && in.State != fleet.Parked {
			continue
		}
		t := target{Target: balancer.Target{
			Instance: in.ID, Group: k.name, Version: in.Version.String(), Address: k.endpoint(in),
			Last: in.State == fleet.Serving && in.Machine.State != fleet.MachineStopped,
		}}
		for _, check := range k.group.Checks {
			if in.TakesRequests(check) {
				t.healthy = append(t.healthy, check)
			}
		}
		of.targets = append(of.targets, t)
	}
	if k.shown.targets == nil || !of.equal(k.shown) {
		k.ctl.desk.set(k.name, k.group.Pools, of)
		k.shown = of
	}
	for i := range k.instances {
		if in := &k.instances[i]; in.State == fleet.Draining || in.State == fleet.Resting || in.State == fleet.Parked {
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
		fact := machine.Fact{ID: in.ID, State: fleet.MachineRunning, Launch: in.Launch}
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
	spec := machine.Spec{
		ID: in.ID, Launch: in.Launch, Group: in.Group, Zone: in.Zone, Template: in.Version.String(), Image: t.ImageRef().String(), Digest: t.ImageDigest,
		Start: t.ImageStart, Address: in.Address, Number: in.AddressNumber, Addresses: t.Addresses, Port: t.Port, CPUs: t.CPUs,
		MemoryBytes: t.MemoryBytes, DiskBytes: t.DiskBytes, Labels: maps.Clone(t.Labels), UserData: t.UserData,
		Environment: maps.Clone(t.ImageEnvironment),
	}
	if spec.Environment == nil {
		spec.Environment = map[string]string{}
	}
	maps.Copy(spec.Environment, t.Environment)
	return c.Machines.Launch(ctx, c.override(spec, in.Overrides, t))
}

// override applies what a person wanted otherwise for one instance.
func (c *Control) override(spec machine.Spec, o store.Overrides, t store.Template) machine.Spec {
	if o.UserData != nil {
		spec.UserData = *o.UserData
	}
	if o.Image != "" {
		spec.Image, spec.Digest, spec.Start = o.Image, o.Digest, o.Start
		spec.Environment = maps.Clone(o.Environment)
		if spec.Environment == nil {
			spec.Environment = map[string]string{}
		}
		maps.Copy(spec.Environment, t.Environment)
	}
	if len(o.Labels) > 0 {
		if spec.Labels == nil {
			spec.Labels = map[string]string{}
		}
		maps.Copy(spec.Labels, o.Labels)
	}
	return spec
}

// rest halts the machine of a resting instance, has its files looked at by
// whoever asked for the rest, and wakes it. After a restart nobody asks any
// more, and it is only woken.
func (k *keeper) rest(ctx context.Context, id string) {
	k.busy[id] = true
	k.ctl.tasks.Go(func() {
		look, asked := k.ctl.asked(id)
		var err error
		if asked {
			if err = k.ctl.Machines.Halt(ctx, id, stopGrace); err == nil {
				err = look.take()
			}
			look.done <- err
		}
		fact := machine.Fact{ID: id, State: fleet.MachineWoken}
		if err := k.ctl.Machines.Wake(context.WithoutCancel(ctx), id); err != nil {
			fact.State, fact.Why = fleet.MachineStopped, "it could not be woken: "+err.Error()
		}
		k.tell(func(k *keeper) {
			delete(k.busy, id)
			k.hear(fact)
		})
	})
}

// picture is what somebody wants to do with the files of an instance at rest.
type picture struct {
	take func() error
	done chan error
}

func (c *Control) asked(id string) (picture, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	p, ok := c.pictures[id]
	delete(c.pictures, id)
	return p, ok
}

// AtRest drains an instance, halts its machine, has take look at its files and
// brings it back. It returns when take is done.
func (c *Control) AtRest(ctx context.Context, actor, id, group string, take func() error) error {
	k := c.keeper(group)
	if k == nil {
		return &fleet.Refusal{Text: fmt.Sprintf("the group %s is kept by another service on this database; ask that one", group)}
	}
	p := picture{take: take, done: make(chan error, 1)}
	c.mu.Lock()
	_, twice := c.pictures[id]
	if !twice {
		c.pictures[id] = p
	}
	c.mu.Unlock()
	if twice {
		return &fleet.Refusal{Text: fmt.Sprintf("a picture of %s at rest is being taken already", id)}
	}
	now := time.Now().UTC()
	if err := c.Store.ChangeInstance(ctx, now, actor, id, store.AnyRevision, func(g fleet.Group, in fleet.Instance, rolling bool) (fleet.Instance, fleet.Entry, error) {
		return g.RestInstance(now, in, rolling)
	}); err != nil {
		c.asked(id)
		return err
	}
	k.reloadNow()
	select {
	case err := <-p.done:
		return err
	case <-ctx.Done():
		c.asked(id)
		return context.Cause(ctx)
	}
}

func (k *keeper) stop(ctx context.Context, id string, launch int) {
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
			k.hear(machine.Fact{ID: id, State: fleet.MachineCleared, Launch: launch})
		})
	})
}
