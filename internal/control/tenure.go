package control

import (
	"context"
	"fmt"
	"maps"
	"runtime/debug"
	"sync"
	"time"

	"unitas/internal/machine"
)

// How often leases are renewed and how long they last without.
const (
	renewEvery = 2 * time.Second
	leaseFor   = 7 * time.Second
)

// lease renews this replica's life, takes the groups that nobody keeps, and has
// every group that is this replica's by the records kept. again takes those as well
// that it had before it was started.
func (c *Control) lease(keeping context.Context, all *sync.WaitGroup, again bool) {
	ctx, cancel := context.WithTimeout(keeping, leaseFor/2)
	defer cancel()
	if err := c.Store.Renew(ctx, c.Replica, leaseFor); err != nil {
		c.Log.Warn("the lease was not renewed; the database does not answer", "error", err)
		return
	}
	if _, err := c.Store.Lease(ctx, c.Replica, again); err != nil {
		c.Log.Warn("no groups were leased", "error", err)
		return
	}
	leased, err := c.Store.Leased(ctx, c.Replica)
	if err != nil {
		c.Log.Warn("what is leased was not read", "error", err)
		return
	}
	unkept := c.compare(leased)
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
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, name := range unkept {
		k := newKeeper(c, name, found)
		c.keepers[name] = k
		all.Go(func() {
			if k.runContained(keeping) {
				c.dismiss(k)
				return
			}
			c.replace(keeping, k)
		})
	}
}

// compare holds the leases against the keepers and returns the groups that have
// none. A keeper whose lease is not the present one reads its records, and ends.
func (c *Control) compare(leased map[string]int64) (unkept []string) {
	c.mu.Lock()
	keepers := maps.Clone(c.keepers)
	c.mu.Unlock()
	for name, epoch := range leased {
		k := keepers[name]
		if k == nil {
			unkept = append(unkept, name)
		} else if had := k.epoch.Load(); had != 0 && had != epoch {
			k.reloadNow()
		}
	}
	for name, k := range keepers {
		if _, mine := leased[name]; !mine {
			k.reloadNow()
		}
	}
	return unkept
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
		k.setStuck(Stuck{Since: time.Now().UTC(), Why: "the service itself erred; the group is taken up again at once"})
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
	c.mu.Lock()
	delete(c.keepers, k.name)
	maps.DeleteFunc(c.owner, func(id string, owner *keeper) bool {
		if owner == k {
			c.prober.Forget(id)
		}
		return owner == k
	})
	c.mu.Unlock()
	c.lookAtLeases()
}

// dismiss takes a keeper off the books. Whoever has the lease of its group now is
// looked up at once.
func (c *Control) dismiss(k *keeper) {
	c.mu.Lock()
	delete(c.keepers, k.name)
	maps.DeleteFunc(c.owner, func(id string, owner *keeper) bool {
		if owner == k {
			c.prober.Forget(id)
			c.desk.forget(id)
		}
		return owner == k
	})
	c.mu.Unlock()
	c.desk.leave(k.name)
	c.lookAtLeases()
}

// lookAtLeases has the leases looked at soon.
func (c *Control) lookAtLeases() {
	select {
	case c.leaseNow <- struct{}{}:
	default:
	}
}

func (c *Control) release() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := c.Store.Release(ctx, c.Replica); err != nil {
		c.Log.Warn("the leases were not given up; they run out by themselves", "error", err)
	}
}
