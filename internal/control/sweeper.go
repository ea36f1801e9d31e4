package control

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/machine"
	"unitas/internal/store"
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
		if c.onlyLooks(ctx) {
			continue
		}
		if err := c.sweep(ctx); err != nil && ctx.Err() == nil {
			c.Log.Warn("comparing machines with records failed; it is tried again", "error", err)
		}
	}
}

// sweep compares the driver's machines with the records: a machine whose instance is gone is
// stopped, one that no record knows is told and stopped after its grace, a record without a
// machine has lost it.
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
	recorded, err := c.Store.RecordedInstances(ctx, unknown)
	if err != nil {
		return err
	}
	var strays, doomed []string
	for _, id := range unknown {
		living, known := recorded[id]
		if living || c.roster.owning(id) != nil { // another replica's, or new
			continue
		}
		if doomed = append(doomed, id); !known {
			strays = append(strays, id)
		}
	}
	for _, id := range c.strays.keep(strays) {
		c.sayStray(ctx, id, "machine.stray", fmt.Sprintf("The machine %s belongs to no instance; it is stopped in %s.", id, words.Span(c.StrayGrace)))
	}
	for _, id := range doomed { // what is told comes before what takes its time
		since, stray := c.strays.since(id)
		if stray && time.Since(since) < c.StrayGrace {
			continue
		}
		if stray && !c.others.areAfter(c.Self.ID) {
			continue // the first of them stops it, and says so
		}
		c.Log.Warn("a machine belongs to no instance and is stopped", "machine", id)
		if err := c.Machines.Stop(ctx, machine.Order{ID: id}, stopGrace); err != nil {
			return fmt.Errorf("stop the stray %s: %w", id, err)
		}
		if stray {
			c.sayStray(ctx, id, "machine.stopped", fmt.Sprintf("The machine %s, which belonged to no instance, is stopped.", id))
		}
	}
	return nil
}

// sayStray writes of a stray into the journal; of several services that see it the first alone.
func (c *Control) sayStray(ctx context.Context, id, kind, text string) {
	if !c.others.areAfter(c.Self.ID) {
		return
	}
	if err := c.Store.Record(ctx, c.Clock.Now(), store.Service, "", fleet.Entry{Kind: kind, Instance: id, Text: text, Cause: fleet.Because("no record knows it")}); err != nil {
		c.warn("", "of a machine without a record was not written", err)
	}
}

// strayGrace is how long a machine that no record knows runs on: long enough for a person to see that
// the records are another's, and not the machine.
const strayGrace = 10 * time.Minute

// Stray is a machine that no record knows.
type Stray struct {
	Machine string
	Stops   time.Duration // from now
}

// strays are those that the last sweep found, with since when on the monotonic clock.
type strays struct {
	mu  sync.Mutex
	all map[string]time.Time
}

// since is since when a machine is known to be a stray.
func (s *strays) since(id string) (since time.Time, stray bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	since, stray = s.all[id]
	return since, stray
}

// keep has those be the strays that are known, and returns the new ones.
func (s *strays) keep(now []string) (fresh []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := make(map[string]time.Time, len(now))
	for _, id := range now {
		since, had := s.all[id]
		if !had {
			since = time.Now()
			fresh = append(fresh, id)
		}
		all[id] = since
	}
	s.all = all
	return fresh
}

// drop forgets one that is gone.
func (s *strays) drop(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.all, id)
}

// Strays are the machines that no record knows, by name.
func (c *Control) Strays() []Stray {
	c.strays.mu.Lock()
	defer c.strays.mu.Unlock()
	var all []Stray
	for id, since := range c.strays.all {
		all = append(all, Stray{id, max(0, c.StrayGrace-time.Since(since))})
	}
	slices.SortFunc(all, func(a, b Stray) int { return strings.Compare(a.Machine, b.Machine) })
	return all
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
