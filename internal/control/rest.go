package control

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// rest halts the machine of a resting instance, has its files looked at by
// whoever asked for the rest, and wakes it. After a restart nobody asks any
// more, and it is only woken.
func (k *keeper) rest(ctx context.Context, in store.Instance, o machine.Order) (*fleet.Machine, error) {
	machines, can := k.ctl.Machines.(machine.Halter)
	if !can {
		return nil, errors.New("the machines of this service cannot be halted")
	}
	if look, asked := k.ctl.pictures.take(in.ID); asked {
		err := machines.Halt(ctx, o, stopGrace)
		if err == nil {
			err = look.take()
		}
		look.done <- err
	}
	m := &fleet.Machine{State: fleet.MachineWoken}
	if err := machines.Wake(context.WithoutCancel(ctx), o); errors.Is(err, machine.ErrDeposed) {
		return nil, err
	} else if err != nil {
		m.State, m.Why = fleet.MachineStopped, "it could not be woken: "+err.Error()
	}
	return m, nil
}

// picture is what somebody wants to do with the files of an instance at rest.
type picture struct {
	take func() error
	done chan error
}

// pictures are of instances on their way to rest.
type pictures struct {
	mu  sync.Mutex
	all map[string]picture
}

// add notes that a picture is to be taken, unless one of the instance is already.
func (p *pictures) add(id string, one picture) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, twice := p.all[id]; twice {
		return false
	}
	p.all[id] = one
	return true
}

func (p *pictures) take(id string) (picture, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	one, ok := p.all[id]
	delete(p.all, id)
	return one, ok
}

// AtRest drains an instance, halts its machine, has take look at its files and
// brings it back. It returns when take is done.
func (c *Control) AtRest(ctx context.Context, actor, id, group string, take func() error) error {
	if c.roster.of(group) == nil {
		return &fleet.Refusal{Text: fmt.Sprintf("the group %s is kept by another service on this database; ask that one", group)}
	}
	p := picture{take: take, done: make(chan error, 1)}
	if !c.pictures.add(id, p) {
		return &fleet.Refusal{Text: fmt.Sprintf("a picture of %s at rest is being taken already", id)}
	}
	now := time.Now().UTC()
	if err := c.Store.ChangeInstance(ctx, now, actor, id, store.AnyRevision, func(g fleet.Group, in fleet.Instance, rolling bool) (fleet.Instance, fleet.Entry, error) {
		return g.RestInstance(now, in, rolling)
	}); err != nil {
		c.pictures.take(id)
		return err
	}
	select {
	case err := <-p.done:
		return err
	case <-ctx.Done():
		c.pictures.take(id)
		return context.Cause(ctx)
	}
}
