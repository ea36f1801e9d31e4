// Package control drives the groups: it holds their leases, builds their views
// from records and facts, has the core decide, writes the decision down, and
// carries it out.
package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/balancer"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/traffic"
	"unitas/internal/machine"
	"unitas/internal/probe"
	"unitas/internal/store"
)

// How often leases are renewed and how long they last without, and how often
// the driver's machines are compared with the records.
const (
	renewEvery = 2 * time.Second
	leaseFor   = 7 * time.Second
	sweepEvery = 20 * time.Second
)

// Config is what the control needs.
type Config struct {
	Store    *store.Store
	Machines machine.Driver
	Balancer balancer.Driver
	// Replica names this service among those on the same database; it stays
	// the same when the service is started again.
	Replica string
	Log     *slog.Logger
	Metrics prometheus.Registerer
	// SweepEvery is how often machines are compared with records; 20 s when 0.
	SweepEvery time.Duration
}

// Control drives the groups that this replica has leased.
type Control struct {
	Config
	prober   *probe.Prober
	metrics  metrics
	leaseNow chan struct{}
	tasks    sync.WaitGroup // driver calls under way

	mu        sync.Mutex
	keepers   map[string]*keeper
	owner     map[string]*keeper // by instance
	pools     map[string]store.Pool
	targets   map[string]map[string]targetsOf // by pool and group
	templates map[fleet.Version]store.Template
	checks    map[string]health.Check
	machines  map[string]machine.Fact // what was found at the start
	pictures  map[string]picture      // of instances on their way to rest
}

// targetsOf is what one group has in a pool.
type targetsOf struct {
	size    int // of the group
	targets []balancer.Target
}

// New makes a control; Run starts it.
func New(c Config) *Control {
	if c.SweepEvery == 0 {
		c.SweepEvery = sweepEvery
	}
	ctl := &Control{
		Config: c, metrics: newMetrics(c.Metrics), leaseNow: make(chan struct{}, 1),
		keepers: map[string]*keeper{}, owner: map[string]*keeper{}, pools: map[string]store.Pool{},
		targets: map[string]map[string]targetsOf{}, templates: map[fleet.Version]store.Template{},
		checks: map[string]health.Check{}, machines: map[string]machine.Fact{}, pictures: map[string]picture{},
	}
	ctl.prober = probe.New(ctl.verdictChanged)
	c.Machines.Watch(ctl.machineSaid)
	c.Balancer.Watch(ctl.targetIdle)
	prober := ctl.prober
	c.Metrics.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{
		Name: "unitas_probes_total", Help: "Questions that health checks asked.",
	}, func() float64 { return float64(prober.Asked()) }))
	return ctl
}

// Run drives the groups until the context ends. Machines go on running then.
func (c *Control) Run(ctx context.Context) error {
	facts, err := c.Machines.List(ctx)
	if err != nil {
		return fmt.Errorf("find the machines: %w", err)
	}
	for _, f := range facts {
		c.machines[f.ID] = f
	}
	if err := c.loadPools(ctx); err != nil {
		return err
	}
	keeping, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	c.lease(keeping, &all, true)
	renew, sweep := time.NewTicker(renewEvery), time.NewTicker(c.SweepEvery)
	defer renew.Stop()
	defer sweep.Stop()
	for {
		select {
		case <-ctx.Done():
			stop()
			all.Wait()
			c.prober.Close()
			c.tasks.Wait()
			c.release()
			return nil
		case <-c.leaseNow:
			c.lease(keeping, &all, false)
		case <-renew.C:
			c.lease(keeping, &all, false)
			c.reopenListeners()
		case <-sweep.C:
			if err := c.sweep(ctx); err != nil {
				c.Log.Warn("comparing machines with records failed; it is tried again", "error", err)
			}
		}
	}
}

func (c *Control) release() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := c.Store.Release(ctx, c.Replica); err != nil {
		c.Log.Warn("the leases were not given up; they run out by themselves", "error", err)
	}
}

// lease renews this replica's life and takes the groups that nobody keeps.
func (c *Control) lease(keeping context.Context, all *sync.WaitGroup, again bool) {
	ctx, cancel := context.WithTimeout(keeping, leaseFor/2)
	defer cancel()
	if err := c.Store.Renew(ctx, c.Replica, leaseFor); err != nil {
		c.Log.Warn("the lease was not renewed; the database does not answer", "error", err)
		return
	}
	names, err := c.Store.Lease(ctx, c.Replica, again)
	if err != nil {
		c.Log.Warn("no groups were leased", "error", err)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, name := range names {
		if old := c.keepers[name]; old != nil {
			old.reloadNow()
			continue
		}
		k := newKeeper(c, name)
		c.keepers[name] = k
		all.Go(func() {
			k.run(keeping)
			c.dismiss(k)
		})
	}
}

// dismiss takes a keeper off the books.
func (c *Control) dismiss(k *keeper) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.keepers, k.name)
	maps.DeleteFunc(c.owner, func(id string, owner *keeper) bool {
		if owner == k {
			c.prober.Forget(id)
		}
		return owner == k
	})
	for _, groups := range c.targets {
		delete(groups, k.name)
	}
}

// GroupChanged tells the control that the records of a group changed, or that
// there is a new one.
func (c *Control) GroupChanged(name string) {
	if k := c.keeper(name); k != nil {
		k.reloadNow()
		return
	}
	select {
	case c.leaseNow <- struct{}{}:
	default:
	}
}

// PoolChanged makes the balancer do what a new or changed pool says, and has its
// groups judged by its check.
func (c *Control) PoolChanged(p store.Pool) {
	c.mu.Lock()
	before, had := c.pools[p.Name]
	c.pools[p.Name] = p
	c.applyPool(p.Name)
	var judged []*keeper
	if had && before.Check != p.Check {
		judged = slices.Collect(maps.Values(c.keepers))
	}
	c.mu.Unlock()
	for _, k := range judged {
		k.reloadNow()
	}
}

// PoolDeleted closes the listeners of a pool.
func (c *Control) PoolDeleted(name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.pools, name)
	delete(c.targets, name)
	c.Balancer.Remove(name)
}

func (c *Control) loadPools(ctx context.Context) error {
	page := store.Page{Limit: 1000}
	for {
		pools, err := c.Store.Pools(ctx, page)
		if err != nil {
			return fmt.Errorf("load the pools: %w", err)
		}
		for _, p := range pools {
			c.PoolChanged(p)
		}
		if len(pools) < page.Limit {
			return nil
		}
		page.After = store.Cursor{pools[len(pools)-1].Name}
	}
}

// reopenListeners tries again those that could not be opened.
func (c *Control) reopenListeners() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for name := range c.pools {
		if s, ok := c.Balancer.Stats(name); ok && s.Troubled() {
			c.applyPool(name)
		}
	}
}

// setTargets makes the targets of one group in its pools those given.
func (c *Control) setTargets(group string, pools []string, of targetsOf) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, name := range pools {
		if c.targets[name] == nil {
			c.targets[name] = map[string]targetsOf{}
		}
		c.targets[name][group] = of
		c.applyPool(name)
	}
}

// applyPool tells the balancer all targets of a pool. The lock is held.
func (c *Control) applyPool(name string) {
	p, ok := c.pools[name]
	if !ok {
		return
	}
	out := balancer.Pool{Name: p.Name, LeastBusy: p.Choose == traffic.LeastBusy, TryAll: p.Nobody == traffic.TryAll, SlowStart: p.SlowStart}
	for _, l := range p.Listeners {
		out.Listeners = append(out.Listeners, balancer.Listener{Address: l.Address, Certificate: l.Certificate, Key: l.Key})
	}
	groups := c.groupsOf(name)
	weights := p.Weigh(groups)
	for _, g := range groups {
		for _, t := range c.targets[name][g.Name].targets {
			t.Weight = weights[t.Instance]
			out.Targets = append(out.Targets, t)
		}
	}
	c.Balancer.Apply(out)
}

// groupsOf are the groups of a pool as they share its requests. The lock is held.
func (c *Control) groupsOf(pool string) []traffic.Group {
	groups := make([]traffic.Group, 0, len(c.targets[pool]))
	for _, name := range slices.Sorted(maps.Keys(c.targets[pool])) {
		of := c.targets[pool][name]
		g := traffic.Group{Name: name, Size: of.size, Targets: make([]traffic.Target, len(of.targets))}
		for i, t := range of.targets {
			g.Targets[i] = traffic.Target{Instance: t.Instance, Open: t.Open}
		}
		groups = append(groups, g)
	}
	return groups
}

// TakenOver tells why the reserve of a pool has its requests, or "".
func (c *Control) TakenOver(p store.Pool) string {
	c.mu.Lock()
	groups := c.groupsOf(p.Name)
	c.mu.Unlock()
	switch byReserve, byAll, why := p.TakenOver(groups); {
	case byAll:
		return "everybody shares the requests, the reserve as well: " + why
	case byReserve:
		return "the reserve has taken over: " + why
	}
	return ""
}

// tell has a fact about an instance taken in by the keeper of its group.
func (c *Control) tell(instance string, fact func(k *keeper)) {
	c.mu.Lock()
	k := c.owner[instance]
	c.mu.Unlock()
	if k != nil {
		k.tell(fact)
	}
}

func (c *Control) machineSaid(f machine.Fact) {
	c.tell(f.ID, func(k *keeper) { k.hear(f) })
}

func (c *Control) verdictChanged(instance string, r health.Report) {
	c.tell(instance, func(k *keeper) { k.verdict(instance, r) })
}

func (c *Control) targetIdle(instance string) {
	c.tell(instance, func(*keeper) {}) // the keeper asks for the count itself
}

// sweep compares the driver's machines with the records: a machine without a
// record is stopped, a record without a machine has lost it.
func (c *Control) sweep(ctx context.Context) error {
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
	c.mu.Lock()
	keepers := slices.Collect(maps.Values(c.keepers))
	c.mu.Unlock()
	for _, k := range keepers {
		k.tell(func(k *keeper) { k.missing(begun, found) })
	}
	return nil
}

// found is what the driver said at the start of the machine of an instance.
func (c *Control) found(id string) (machine.Fact, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f, ok := c.machines[id]
	return f, ok
}

// own notes which keeper answers for an instance.
func (c *Control) own(k *keeper, id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.owner[id] = k
}

// disown ends that a keeper answers for an instance; one that was released may
// have another by now.
func (c *Control) disown(k *keeper, id string, gone bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.owner[id] == k {
		delete(c.owner, id)
	}
	if gone {
		delete(c.machines, id)
	}
}

// Releasing notes that the machine of an instance runs, for the keeper that the
// instance gets once it is released.
func (c *Control) Releasing(id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.machines[id] = machine.Fact{ID: id, State: fleet.MachineRunning}
}

// template reads a template version; they never change, so once is enough.
func (c *Control) template(ctx context.Context, v fleet.Version) (store.Template, error) {
	c.mu.Lock()
	t, ok := c.templates[v]
	c.mu.Unlock()
	if ok {
		return t, nil
	}
	t, err := c.Store.Template(ctx, v)
	if err == nil {
		c.mu.Lock()
		c.templates[v] = t
		c.mu.Unlock()
	}
	return t, err
}

// check reads a check; CheckChanged forgets it.
func (c *Control) check(ctx context.Context, name string) (health.Check, error) {
	c.mu.Lock()
	check, ok := c.checks[name]
	c.mu.Unlock()
	if ok {
		return check, nil
	}
	row, err := c.Store.Check(ctx, name)
	if err == nil {
		c.mu.Lock()
		c.checks[name] = row.Check
		c.mu.Unlock()
	}
	return row.Check, err
}

// CheckChanged tells the control that a check asks otherwise from now on.
func (c *Control) CheckChanged(name string) {
	c.mu.Lock()
	delete(c.checks, name)
	keepers := slices.Collect(maps.Values(c.keepers))
	c.mu.Unlock()
	for _, k := range keepers {
		k.reloadNow()
	}
}

func (c *Control) keeper(group string) *keeper {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.keepers[group]
}

// Answers are the last answers of an instance to a check, newest last.
func (c *Control) Answers(instance, check string) []health.Answer {
	return c.prober.Answers(instance, check)
}

func (c *Control) warn(group, what string, err error) {
	if errors.Is(err, context.Canceled) {
		return
	}
	c.Log.Warn(what, "group", group, "error", strings.TrimSpace(err.Error()))
}
