package control

import (
	"context"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/store"
)

// Picture is one group as it is known now.
type Picture struct {
	Group     store.Group
	Instances []store.Instance
	Rollout   *store.Rollout
	Usual     fleet.Usual
	Holds     map[string]fleet.Usual // by hook
	Stuck     Stuck
	Seen      []gate.Comparison // by the gates of the rollout until now
	// Sizing is what the rules go by, as far as the keeper is here.
	Sizing fleet.Sizing
}

// View is the picture as the core sees it.
func (p Picture) View() fleet.View {
	v := fleet.View{Group: p.Group.Group, Seen: p.Seen, Usual: p.Usual.Median, Slow: p.Usual.Slow, Holds: p.Holds, Prices: p.Group.Prices, Stuck: p.Stuck.Why, Sizing: p.Sizing,
		Instances: store.Bare(p.Instances)}
	if p.Rollout != nil {
		v.Rollout, v.Location = &p.Rollout.Rollout, Location(&p.Rollout.Rollout)
	}
	return v
}

// Location is where the hours of a rollout are those of the day; nil where it has none.
func Location(ro *fleet.Rollout) *time.Location {
	place, err := ro.Hours.Place()
	if err != nil {
		return nil
	}
	at, err := time.LoadLocation(place)
	if err != nil {
		return nil
	}
	return at
}

// Around is what besides its own settings decides whether those of a group will
// hurt.
func (c *Control) Around(ctx context.Context, p Picture) fleet.Around {
	a := fleet.Around{Usual: p.Usual.Median, Slow: p.Usual.Slow}
	if name := p.Group.Heal.Check(); name != "" && p.Group.Heal != fleet.HealTraffic {
		if check, err := c.library.check(ctx, name); err == nil {
			a.Heals = &check
		}
	}
	if t, err := c.library.template(ctx, p.Group.Template); err == nil {
		a.Open = []int{}
		for _, port := range t.Ports {
			if port.Protocol != "udp" {
				a.Open = append(a.Open, port.Port)
			}
		}
	}
	for _, name := range p.Group.Pools {
		pool, ok := c.desk.pool(name)
		if !ok {
			continue
		}
		if check, err := c.library.check(ctx, pool.Check); err == nil {
			a.Pools = append(a.Pools, fleet.PoolAround{Name: name, Zones: pool.Zones, Check: check})
		}
	}
	return a
}

// Keeps reports whether this replica keeps a group.
func (c *Control) Keeps(group string) bool { return c.roster.of(group) != nil }

// HasOthers reports whether another replica is alive.
func (c *Control) HasOthers() bool { return c.others.any() }

// Picture returns a group as its keeper knows it, with the facts that are in
// no record; from the records alone when another replica keeps it. It returns
// [store.ErrNotFound] when there is no such group.
func (c *Control) Picture(ctx context.Context, name string) (Picture, error) {
	instances, known := c.instancesNow(name)
	load := c.Store.Load
	if known {
		load = c.Store.LoadHead
	}
	l, err := load(ctx, name)
	if err != nil {
		return Picture{}, err
	}
	if known {
		l.Instances = instances
	}
	return c.picture(l), nil
}

// Pictures returns a page of groups by name, each as [Control.Picture] does. The
// instances of groups that are kept here are not read again.
func (c *Control) Pictures(ctx context.Context, page store.Page) ([]Picture, error) {
	known := map[string][]store.Instance{}
	all, err := c.Store.LoadAll(ctx, page, func(group string) bool {
		instances, ok := c.instancesNow(group)
		if ok {
			known[group] = instances
		}
		return ok
	})
	pictures := make([]Picture, len(all))
	for i, l := range all {
		if instances, ok := known[l.Group.Name]; ok {
			l.Instances = instances
		}
		pictures[i] = c.picture(l)
	}
	return pictures, err
}

func (c *Control) instancesNow(group string) ([]store.Instance, bool) {
	k := c.roster.of(group)
	if k == nil {
		return nil, false
	}
	instances, ok := k.instancesNow()
	return slices.Clone(instances), ok
}

func (c *Control) picture(l store.Loaded) Picture {
	p := Picture{Group: l.Group, Instances: l.Instances, Rollout: l.Rollout}
	p.Usual = c.Usual(l.Group.Name)
	p.Holds = c.Holds(l.Group.Name)
	if k := c.roster.of(l.Group.Name); k != nil {
		p.Stuck = k.stuckNow()
		if s := k.shown.Load(); s != nil {
			p.Sizing = s.sizing
		}
		if p.Rollout != nil {
			p.Seen = k.shown.Load().seenOf(&p.Rollout.Rollout)
		}
	}
	c.AddFacts(p.Instances)
	return p
}

// Usual is how long instances of a group take, zero when it is not kept here.
func (c *Control) Usual(group string) (u fleet.Usual) {
	if k := c.roster.of(group); k != nil {
		u = k.usual()
	}
	return u
}

// Holds are how long each hook of a group usually holds, nil when it is not kept here.
func (c *Control) Holds(group string) map[string]fleet.Usual {
	if k := c.roster.of(group); k != nil {
		if s := k.shown.Load(); s != nil {
			return s.holds
		}
	}
	return nil
}

// AddFacts adds to records of instances what is known of them besides: what
// the last answers were, their machines, and their requests in flight.
func (c *Control) AddFacts(instances []store.Instance) {
	now := time.Now()
	for i := range instances {
		in := &instances[i]
		in.Traffic.InFlight, _ = c.Balancer.InFlight(in.ID)
		k := c.roster.of(in.Group)
		if k == nil {
			continue
		}
		s := k.shown.Load()
		if known := s.instance(in.ID); known != nil {
			in.Machine, in.Reports = known.Machine, known.Reports
			in.Overdue = s.group.IsOverdue(now, &known.Instance)
		}
	}
}
