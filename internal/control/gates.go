package control

import (
	"slices"
	"time"

	"unitas/internal/fleet/gate"
)

// compareEvery is how often what new and old instances answered is compared.
const compareEvery = time.Second

// comparing is what the gates of a rollout have seen until now. Only what this service sent
// on itself is counted: of several it is a part of the traffic, which tells the same.
type comparing struct {
	rollout int64
	resumed time.Time
	looked  time.Time // on the monotonic clock
	seen    []gate.Comparison
	had     map[string]answered // by instance that counts, at the last look
}

// answered is what an instance had answered so far.
type answered struct {
	gate.Count
	counts []bool // for each gate
}

// compare takes in what was answered since the last look, as one block for each gate.
func (k *keeper) compare(now time.Time) {
	if k.rollout == nil || !k.rollout.Compares() {
		k.comparing, k.view.Seen = comparing{}, nil
		return
	}
	c, ro := &k.comparing, &k.rollout.Rollout
	if c.rollout != ro.ID || !c.resumed.Equal(ro.Resumed) || len(c.seen) != len(ro.Gates) {
		*c = comparing{rollout: ro.ID, resumed: ro.Resumed, seen: make([]gate.Comparison, len(ro.Gates))}
		for i, g := range ro.Gates {
			c.seen[i] = g.Seen
		}
	}
	if time.Since(c.looked) >= compareEvery {
		c.looked = time.Now()
		k.look(now, c)
	}
	k.view.Seen = slices.Clone(c.seen)
}

// look counts, for each gate, the answers of those that count now and did at the last look.
func (k *keeper) look(now time.Time, c *comparing) {
	ro := &k.rollout.Rollout
	blocks := make([]struct{ fresh, old gate.Count }, len(ro.Gates))
	next := make(map[string]answered, len(k.view.Instances))
	for i := range k.view.Instances {
		in := &k.view.Instances[i]
		is := answered{counts: make([]bool, len(ro.Gates))}
		any := false
		for n, g := range ro.Gates {
			is.counts[n] = in.CountsFor(now, g)
			any = any || is.counts[n]
		}
		if !any {
			continue
		}
		is.N, is.Bad = k.ctl.Balancer.Answered(in.ID)
		next[in.ID] = is
		was, had := c.had[in.ID]
		if !had || is.N < was.N || is.Bad < was.Bad { // it counts from now on, or anew
			continue
		}
		for n := range blocks {
			if !is.counts[n] || !was.counts[n] {
				continue
			}
			side := &blocks[n].old
			if in.Version == ro.To {
				side = &blocks[n].fresh
			}
			side.N += is.N - was.N
			side.Bad += is.Bad - was.Bad
		}
	}
	c.had = next
	for n, b := range blocks {
		c.seen[n] = c.seen[n].Add(b.fresh, b.old, ro.Gates[n].Margin)
		if b.fresh.N+b.old.N > 0 {
			k.fresh = true
		}
	}
}
