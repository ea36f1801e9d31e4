package control

import (
	"context"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"unitas/internal/caught"
	"unitas/internal/machine"
)

// How often leases are renewed, how long they last without, and how much earlier than the
// database the replica itself takes them for run out.
const (
	renewEvery  = 2 * time.Second
	leaseFor    = 7 * time.Second
	leaseMargin = time.Second
	renewLimit  = leaseFor / 2
)

// tenure renews this replica's life and takes and gives up groups, in a goroutine of its
// own and on connections of its own, until the context ends. keepers run in all.
func (c *Control) tenure(ctx context.Context, all *sync.WaitGroup) {
	tick := time.NewTicker(renewEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.leaseNow:
		case <-tick.C:
		}
		c.lease(ctx, all, false)
	}
}

// lease renews this replica's life, takes the groups that nobody keeps up to its share,
// gives up what is over its share, and has every group that is its own by the records
// kept. again takes those as well that it had before it was started.
func (c *Control) lease(keeping context.Context, all *sync.WaitGroup, again bool) {
	ctx, cancel := context.WithTimeout(keeping, renewLimit)
	defer cancel()
	asked := time.Now()
	alive, err := c.Store.Renew(ctx, c.Self, leaseFor)
	c.away.look(err)
	if err != nil {
		c.Log.Warn("the lease was not renewed; no group is kept without it", "error", err)
		return
	}
	c.term.renewed(asked, leaseFor-leaseMargin)
	c.sayBack(ctx)
	c.others.set(slices.DeleteFunc(alive, func(id string) bool { return id == c.Self.ID }))
	if c.onlyLooks(ctx) {
		return
	}
	if _, err := c.Store.Lease(ctx, c.Self.ID, again); err != nil {
		c.Log.Warn("no groups were leased", "error", err)
		return
	}
	leased, surplus, err := c.Store.Leased(ctx, c.Self.ID)
	if err != nil {
		c.Log.Warn("what is leased was not read", "error", err)
		return
	}
	c.take(keeping, ctx, all, c.compare(leased))
	for _, name := range surplus {
		c.giveUp(ctx, name)
	}
}

// take has groups kept that this replica has leased, by the epochs of their leases.
func (c *Control) take(keeping, ctx context.Context, all *sync.WaitGroup, unkept map[string]int64) {
	if len(unkept) == 0 {
		return
	}
	// Listed now and not earlier: what ran when the lease was taken is the question.
	facts, err := c.Machines.List(ctx)
	if err != nil {
		c.Log.Warn("the machines were not listed, so groups that were leased are not kept yet; it is tried again", "error", err)
		return
	}
	found := make(map[string]machine.Fact, len(facts))
	for _, f := range facts {
		found[f.ID] = f
	}
	for name, epoch := range unkept {
		k := newKeeper(c, name, epoch, found)
		var own context.Context
		own, k.stop = context.WithCancel(keeping)
		c.roster.add(k)
		all.Go(func() {
			defer caught.Told("a keeper", nil)
			defer k.stop()
			defer close(k.gone)
			if k.runContained(own) {
				c.dismiss(k)
				return
			}
			c.replace(keeping, k)
		})
	}
}

// compare holds the leases against the keepers and returns the groups that have
// none. A keeper whose lease is not the present one reads its records, and ends.
func (c *Control) compare(leased map[string]int64) (unkept map[string]int64) {
	unkept = map[string]int64{}
	for name, epoch := range leased {
		switch k := c.roster.of(name); {
		case k == nil:
			unkept[name] = epoch
		case k.epoch != epoch:
			k.reloadNow()
		}
	}
	for _, k := range c.roster.all() {
		if _, mine := leased[k.name]; !mine {
			k.reloadNow()
		}
	}
	return unkept
}

// giveUp ends the keeping of a group in which nothing is under way, and lets another
// replica have it; a busy one is left for the next time. Its targets get their requests
// meanwhile.
func (c *Control) giveUp(ctx context.Context, group string) {
	k := c.roster.of(group)
	if k == nil || k.acts.Load() > 0 {
		return
	}
	k.stop()
	select {
	case <-k.gone:
	case <-ctx.Done():
		return // it is taken up again, or given up the next time
	}
	if err := c.Store.GiveUp(ctx, c.Self.ID, group, k.epoch); err != nil {
		c.Log.Warn("a group was not given up; it is kept on", "group", group, "error", err)
	}
}

// runContained runs the keeper, and reports whether it came to its end. A fault of the
// service itself is no business of other groups: it is logged, counted and said.
func (k *keeper) runContained(ctx context.Context) (ended bool) {
	defer func() {
		fault := recover()
		if fault == nil {
			return
		}
		k.ctl.metrics.faults.Inc()
		k.stuck.Store(&Stuck{Since: k.now(), Why: "the service itself erred; the group is taken up again at once"})
		k.ctl.Log.Error("a group's keeper erred and is started again", "group", k.name, "fault", fmt.Sprint(fault), "stack", string(debug.Stack()))
	}()
	k.run(ctx)
	return true
}

// replace has a group taken up anew whose keeper erred. Its targets stay as they are
// until then, and its instances are asked anew.
func (c *Control) replace(ctx context.Context, k *keeper) {
	select {
	case <-ctx.Done():
		return
	case <-time.After(retryAfter):
	}
	c.prober.Forget(c.roster.disown(k, k.ids()...)...)
	c.roster.drop(k)
	c.lookAtLeases()
}

// dismiss takes a keeper off the books. Whoever has the lease of its group now is
// looked up at once; until he says otherwise its targets are those of the records.
func (c *Control) dismiss(k *keeper) {
	k.forget(k.ids()...)
	c.roster.drop(k)
	c.elsewhere.look(k.name)
	c.lookAtLeases()
}

// ids are the instances of the group, for when the keeper has ended.
func (k *keeper) ids() []string {
	ids := make([]string, 0, len(k.kept))
	for id := range k.kept {
		ids = append(ids, id)
	}
	return ids
}

// lookAtLeases has the leases looked at soon.
func (c *Control) lookAtLeases() {
	select {
	case c.leaseNow <- struct{}{}:
	default:
	}
}

func (c *Control) release() {
	c.term.over()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := c.Store.Release(ctx, c.Self.ID); err != nil {
		c.Log.Warn("the leases were not given up; they run out by themselves", "error", err)
	}
}

// resign gives up all leases, but stays known.
func (c *Control) resign() {
	c.term.over()
	ctx, cancel := context.WithTimeout(context.Background(), renewLimit)
	defer cancel()
	c.Self.Stopping = true
	if err := c.Store.Resign(ctx, c.Self.ID); err != nil {
		c.Log.Warn("the leases were not given up; they run out by themselves", "error", err)
	}
}

// stayKnown keeps a replica alive that has resigned, until the context ends.
func (c *Control) stayKnown(ctx context.Context) {
	tick := time.NewTicker(renewEvery)
	defer tick.Stop()
	for {
		limited, cancel := context.WithTimeout(ctx, renewLimit)
		if _, err := c.Store.Renew(limited, c.Self, leaseFor); err != nil && ctx.Err() == nil {
			c.Log.Warn("this service may not be known to others while its requests end; the database does not answer", "error", err)
		}
		cancel()
		c.elsewhere.wake() // what is quiet by now
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
