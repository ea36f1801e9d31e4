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
	"unitas/internal/machine"
	"unitas/internal/probe"
	"unitas/internal/store"
)

// openWithin is how long after a start the listeners wait for the targets of all
// groups to be known.
const openWithin = 5 * time.Second

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
	desk     *desk
	metrics  metrics
	leaseNow chan struct{}
	tasks    sync.WaitGroup // driver calls under way

	mu        sync.Mutex
	keepers   map[string]*keeper
	owner     map[string]*keeper // by instance
	templates map[fleet.Version]store.Template
	checks    map[string]health.Check
	pictures  map[string]picture // of instances on their way to rest
}

// New makes a control; Run starts it.
func New(c Config) *Control {
	if c.SweepEvery == 0 {
		c.SweepEvery = sweepEvery
	}
	ctl := &Control{
		Config: c, desk: newDesk(c.Balancer), metrics: newMetrics(c.Metrics), leaseNow: make(chan struct{}, 1),
		keepers: map[string]*keeper{}, owner: map[string]*keeper{}, templates: map[fleet.Version]store.Template{},
		checks: map[string]health.Check{}, pictures: map[string]picture{},
	}
	ctl.prober = probe.New(ctl.verdictChanged)
	c.Machines.Watch(ctl.machineSaid)
	c.Balancer.Watch(ctl.targetIdle)
	ctl.metrics.count(c.Metrics, ctl)
	return ctl
}

// Run drives the groups until the context ends. Machines go on running then.
func (c *Control) Run(ctx context.Context) error {
	if err := c.loadPools(ctx); err != nil {
		return err
	}
	keeping, stop := context.WithCancel(context.Background())
	defer stop()
	var all sync.WaitGroup
	all.Go(func() { c.sweepUntil(keeping) })
	c.lease(keeping, &all, true)
	c.awaitTargets(ctx)
	known := c.desk.known
	open := time.NewTimer(openWithin)
	defer open.Stop()
	renew := time.NewTicker(renewEvery)
	defer renew.Stop()
	for {
		select {
		case <-ctx.Done():
			stop()
			all.Wait()
			c.prober.Close()
			c.tasks.Wait()
			c.release()
			return nil
		case <-known:
			known = nil
			open.Reset(0)
		case <-open.C:
			c.desk.openAll()
		case <-c.leaseNow:
			c.lease(keeping, &all, false)
		case <-renew.C:
			c.lease(keeping, &all, false)
			c.desk.reopen()
		}
	}
}

// awaitTargets has the listeners wait for the groups that are kept here.
func (c *Control) awaitTargets(ctx context.Context) {
	byPool, err := c.Store.GroupsByPool(ctx)
	if err != nil {
		c.Log.Warn("the groups of the pools were not read; their listeners open without waiting for targets", "error", err)
	}
	c.desk.await(byPool, func(group string) bool { return c.keeper(group) != nil })
}

// GroupChanged tells the control that the records of a group changed, or that
// there is a new one.
func (c *Control) GroupChanged(name string) {
	if k := c.keeper(name); k != nil {
		k.reloadNow()
		return
	}
	c.lookAtLeases()
}

// PoolChanged makes the balancer do what a new or changed pool says, and has its
// groups judged by its check.
func (c *Control) PoolChanged(p store.Pool) {
	before, had := c.desk.setPool(p)
	c.desk.listen(p.Name)
	if had && before.Check != p.Check {
		c.reloadAll()
	}
}

func (c *Control) reloadAll() {
	c.mu.Lock()
	keepers := slices.Collect(maps.Values(c.keepers))
	c.mu.Unlock()
	for _, k := range keepers {
		k.reloadNow()
	}
}

// PoolDeleted closes the listeners of a pool.
func (c *Control) PoolDeleted(name string) { c.desk.dropPool(name) }

// TakenOver tells why the reserve of a pool has its requests, or "".
func (c *Control) TakenOver(p store.Pool) string { return c.desk.takenOver(p) }

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
	switch {
	case c.isFormer(f):
		return
	case f.State == fleet.MachineStopped:
		c.desk.shut(f.ID, endedMachine)
	case f.State == fleet.MachineRunning, f.State == fleet.MachineWoken:
		c.desk.fit(f.ID, endedMachine)
	}
	c.tell(f.ID, func(k *keeper) { k.hear(f) })
}

// isFormer reports whether a fact is of a machine that its instance had before its
// present one.
func (c *Control) isFormer(f machine.Fact) bool {
	c.mu.Lock()
	k := c.owner[f.ID]
	c.mu.Unlock()
	if k == nil || f.Launch == 0 {
		return false
	}
	known, _ := k.facts()
	in, ok := known[f.ID]
	return ok && f.Launch < in.Launch
}

func (c *Control) verdictChanged(instance string, r health.Report) {
	if r.Verdict == health.Unhealthy {
		c.desk.shut(instance, r.Check)
	} else {
		c.desk.fit(instance, r.Check)
	}
	c.tell(instance, func(k *keeper) { k.verdict(instance, r) })
}

func (c *Control) targetIdle(instance string) {
	c.tell(instance, func(*keeper) {}) // the keeper asks for the count itself
}

// own notes which keeper answers for an instance.
func (c *Control) own(k *keeper, id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.owner[id] = k
}

// disown ends that a keeper answers for an instance; one that was released may
// have another by now.
func (c *Control) disown(k *keeper, id string) {
	c.mu.Lock()
	mine := c.owner[id] == k
	if mine {
		delete(c.owner, id)
	}
	c.mu.Unlock()
	if mine {
		c.desk.forget(id)
	}
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
	c.mu.Unlock()
	c.reloadAll()
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

// Standing is what a check says of an instance now, and on which answers; of one that
// is not asked now what was last known.
func (c *Control) Standing(instance, check string) health.Report {
	if r, ok := c.prober.Standing(instance, check); ok {
		return r
	}
	c.mu.Lock()
	k := c.owner[instance]
	c.mu.Unlock()
	r := health.Report{Check: check, Verdict: health.Unknown}
	if k != nil {
		known, _ := k.facts()
		if in, ok := known[instance]; ok {
			r = in.Report(check)
		}
	}
	if r.Why == "" {
		r.Why = "not asked now"
	}
	return r
}

func (c *Control) warn(group, what string, err error) {
	if errors.Is(err, context.Canceled) {
		return
	}
	c.Log.Warn(what, "group", group, "error", strings.TrimSpace(err.Error()))
}
