package control

import (
	"context"
	"fmt"
	"time"

	"unitas/internal/machine"
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
	begun := c.Clock.Moment()
	facts, err := c.Machines.List(ctx)
	if err != nil {
		return err
	}
	found := make(map[string]bool, len(facts))
	var unknown []string
	for _, f := range facts {
		found[f.ID] = true
		if c.roster.owning(f.ID) == nil {
			unknown = append(unknown, f.ID)
		}
	}
	for _, k := range c.roster.all() {
		if list := (ofList{begun, found}); k.misses(list) {
			k.tell(list)
		}
	}
	for _, f := range facts {
		c.seen(f)
	}
	if len(unknown) == 0 {
		return nil
	}
	living, err := c.Store.LivingInstances(ctx, unknown)
	if err != nil {
		return err
	}
	for _, id := range unknown {
		if living[id] || c.roster.owning(id) != nil { // another replica's, or new
			continue
		}
		c.Log.Warn("a machine belongs to no instance and is stopped", "machine", id)
		if err := c.Machines.Stop(ctx, machine.Order{ID: id}, stopGrace); err != nil {
			return fmt.Errorf("stop the stray %s: %w", id, err)
		}
	}
	return nil
}

// misses reports whether a machine that is shown to run is not on a list. Only then is the
// keeper told: a quiet group is left alone.
func (k *keeper) misses(list ofList) bool {
	s := k.shown.Load()
	if s == nil {
		return false
	}
	at := k.ctl.Clock.At(list.at, s.offset)
	for i := range s.all {
		if isMissing(&s.all[i].Instance, at, list.found) {
			return true
		}
	}
	return false
}

// seen takes in what a list says of one machine, when that is not known already.
func (c *Control) seen(f machine.Fact) {
	k := c.roster.owning(f.ID)
	if k == nil {
		return
	}
	if known := k.shown.Load().instance(f.ID); known == nil || known.Machine.State != f.State {
		c.machineSaid(f)
	}
}
