package control

import (
	"context"
	"maps"
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
			k.run(keeping)
			c.dismiss(k)
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
