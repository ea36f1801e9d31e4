package control

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"
)

// sweepEvery is how often the driver's machines are compared with the records, and
// sweepLimit how long one comparison may take.
const (
	sweepEvery = 20 * time.Second
	sweepLimit = time.Minute
)

// sweepUntil sweeps from time to time, until the context ends. It stands beside
// the renewal of leases: a machine that is slow to stop costs no lease.
func (c *Control) sweepUntil(ctx context.Context) {
	tick := time.NewTicker(c.SweepEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := c.sweep(ctx); err != nil && ctx.Err() == nil {
			c.Log.Warn("comparing machines with records failed; it is tried again", "error", err)
		}
	}
}

// sweep compares the driver's machines with the records: a machine without a
// record is stopped, a record without a machine has lost it.
func (c *Control) sweep(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, sweepLimit)
	defer cancel()
	begun := time.Now().UTC()
	facts, err := c.Machines.List(ctx)
	if err != nil {
		return err
	}
	ids := make([]string, len(facts))
	found := make(map[string]bool, len(facts))
	for i, f := range facts {
		ids[i], found[f.ID] = f.ID, true
	}
	living, err := c.Store.LivingInstances(ctx, ids)
	if err != nil {
		return err
	}
	c.mu.Lock()
	keepers := slices.Collect(maps.Values(c.keepers))
	c.mu.Unlock()
	for _, k := range keepers {
		k.tell(func(k *keeper) { k.missing(begun, found) })
	}
	for _, f := range facts {
		if living[f.ID] {
			c.machineSaid(f)
			continue
		}
		c.Log.Warn("a machine belongs to no instance and is stopped", "machine", f.ID)
		if err := c.Machines.Stop(ctx, f.ID, stopGrace); err != nil {
			return fmt.Errorf("stop the stray %s: %w", f.ID, err)
		}
	}
	return nil
}
