package control

import (
	"context"
	"errors"
	"maps"
	"sync"
	"time"

	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/store"
)

// elsewhere is what this replica knows of groups that others keep: every replica has all
// targets, so that each can take the requests of any. It reads them from the records
// whenever it hears that they changed, and tells whoever keeps a group once a target that
// was closed has no request here any more.
type elsewhere struct {
	ctl   *Control
	woken chan struct{}

	mu      sync.Mutex
	due     map[string]bool          // groups to be looked at
	all     bool                     // all are
	closing map[string]closingTarget // by instance
}

// closingTarget is a target of another's group that gets no new requests.
type closingTarget struct {
	group string
	since time.Time
	asked map[string]int64 // what the balancer is to know first
	epoch int64            // of the lease under which it was said; 0 while it was not
}

func newElsewhere(c *Control) *elsewhere {
	return &elsewhere{ctl: c, woken: make(chan struct{}, 1), due: map[string]bool{}, closing: map[string]closingTarget{}}
}

// look has a group looked at soon.
func (e *elsewhere) look(group string) {
	e.mu.Lock()
	e.due[group] = true
	e.mu.Unlock()
	e.wake()
}

// lookAtAll has all groups looked at soon.
func (e *elsewhere) lookAtAll() {
	e.mu.Lock()
	e.all = true
	e.mu.Unlock()
	e.wake()
}

func (e *elsewhere) wake() {
	select {
	case e.woken <- struct{}{}:
	default:
	}
}

// run looks at what is due until the context ends.
func (e *elsewhere) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-e.woken:
		}
		for group := range e.takeDue(ctx) {
			if e.ctl.roster.of(group) != nil {
				continue
			}
			var err error
			if fault := caught.Do("the groups that others keep", func() { err = e.read(ctx, group) }); fault != nil {
				err = fault
			}
			if err != nil && ctx.Err() == nil {
				e.ctl.warn(group, "the targets of a group that another keeps were not read; it is tried again", err)
				time.AfterFunc(retryAfter, caught.Func("the groups that others keep", func() { e.look(group) }))
			}
		}
		e.sayQuiet(ctx)
	}
}

// takeDue is what is to be looked at.
func (e *elsewhere) takeDue(ctx context.Context) map[string]bool {
	e.mu.Lock()
	due, all := e.due, e.all
	e.due, e.all = map[string]bool{}, false
	e.mu.Unlock()
	if !all {
		return due
	}
	byPool, err := e.ctl.Store.GroupsByPool(ctx)
	if err != nil {
		e.ctl.warn("", "the groups were not listed; it is tried again", err)
		time.AfterFunc(retryAfter, caught.Func("the groups that others keep", e.lookAtAll))
	}
	for _, groups := range byPool {
		for _, group := range groups {
			due[group] = true
		}
	}
	return due
}

// read takes the targets of a group from its records.
func (e *elsewhere) read(ctx context.Context, group string) error {
	l, err := e.ctl.Store.Load(ctx, group)
	if errors.Is(err, store.ErrNotFound) {
		e.ctl.desk.leave(group, nil)
		e.forget(group)
		return nil
	}
	if err != nil {
		return err
	}
	ports, _, err := e.ctl.library.ports(ctx, versionsOf(l))
	if err != nil {
		return err
	}
	asked := e.ctl.desk.leave(group, l.Group.Pools)
	of := targetsIn(l.Group, len(l.Instances), func(i int) (*fleet.Instance, string) {
		in := &l.Instances[i]
		return &in.Instance, endpoint(in.Address, ports[in.Version])
	})
	if e.ctl.roster.of(group) != nil { // taken up meanwhile
		return nil
	}
	maps.Copy(asked, e.ctl.desk.set(group, l.Group.Pools, of))
	e.mu.Lock()
	defer e.mu.Unlock()
	there := map[string]bool{}
	for i := range l.Instances {
		in := &l.Instances[i]
		if !isClosed(&in.Instance) {
			continue
		}
		there[in.ID] = true
		had := e.closing[in.ID]
		if !had.since.Equal(in.Since) || had.epoch != l.Group.Epoch {
			e.closing[in.ID] = closingTarget{group: group, since: in.Since, asked: maps.Clone(asked)}
		}
	}
	for id, one := range e.closing {
		if one.group == group && !there[id] {
			delete(e.closing, id)
		}
	}
	return nil
}

// forget ends that anything is said of a group that is no more.
func (e *elsewhere) forget(group string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for id, one := range e.closing {
		if one.group == group {
			delete(e.closing, id)
		}
	}
}

// sayQuiet tells of the targets that are closed and have no request here any more.
func (e *elsewhere) sayQuiet(ctx context.Context) {
	e.mu.Lock()
	var quiet []store.Quiet
	for id, one := range e.closing {
		if one.epoch != 0 || !e.ctl.desk.knows(one.asked) {
			continue
		}
		if n, known := e.ctl.Balancer.InFlight(id); known && n == 0 {
			quiet = append(quiet, store.Quiet{Instance: id, Group: one.group, Since: one.since})
		}
	}
	e.mu.Unlock()
	if len(quiet) == 0 {
		return
	}
	epochs, err := e.ctl.Store.TellQuiet(ctx, quiet)
	if err != nil {
		if ctx.Err() == nil {
			e.ctl.warn("", "that targets are quiet was not told; it is tried again", err)
			time.AfterFunc(retryAfter, caught.Func("the groups that others keep", e.wake))
		}
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, q := range quiet {
		if one, ok := e.closing[q.Instance]; ok && one.since.Equal(q.Since) {
			one.epoch = epochs[q.Group]
			e.closing[q.Instance] = one
		}
	}
}
