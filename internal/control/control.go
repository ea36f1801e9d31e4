// Package control drives the groups: it holds their leases, builds their views
// from records and facts, has the core decide, writes the decision down, and
// carries it out.
//
// Its words: a keeper drives one group while it holds the group's lease. The tenure is the holding of
// leases, the term for how long may be acted before one runs out, the roster which keeper keeps which
// group, elsewhere what is known of those that others keep; deposed is who has no lease any more. The
// desk tells the balancer who the targets of each pool are; a target is quiet when no request of this
// replica is in flight at it. The sweeper compares machines with records, the sampler measures
// instances, the herald tells who asked to hear; an errand is an open ticket that somebody is to be
// told of. A group is stuck when its decisions cannot be written.
package control

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/balancer"
	"unitas/internal/caught"
	"unitas/internal/certificates"
	"unitas/internal/clock"
	"unitas/internal/feed"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/metric"
	"unitas/internal/machine"
	"unitas/internal/notice"
	"unitas/internal/probe"
	"unitas/internal/store"
)

// openWithin is how long after a start the listeners wait for the targets of all
// groups to be known.
const openWithin = 5 * time.Second

// openLook is how often is looked whether the balancer knows them as well.
const openLook = 5 * time.Millisecond

// Config is what the control needs.
type Config struct {
	Store    *store.Store
	Feed     *feed.Feed // of the store
	Machines machine.Driver
	Balancer balancer.Driver
	// Self is this service among those on the same database; its id stays the same when
	// it is started again.
	Self    store.Replica
	Log     *slog.Logger
	Metrics prometheus.Registerer
	// Certificates are those that listeners may use.
	Certificates certificates.Dir
	// Region is where a zone lies; nowhere when nil.
	Region func(zone string) string
	// Clock is what waits are measured by; one of this host when nil.
	Clock *clock.Clock
	// SweepEvery is how often machines are compared with records; 20 s when 0.
	SweepEvery time.Duration
	// StrayGrace is how long a machine that no record knows runs on; 10 min when 0, none when negative.
	StrayGrace time.Duration
	// URL is where people reach the console; notices link there.
	URL string
	// Mailer sends mail; nil when no server is known.
	Mailer *notice.Mailer
	// Finish lets the requests under way end, for as long as they may; with nil nobody waits for them.
	Finish func()
	// SampleEvery is how often instances are measured; [metric.Every] when 0, never when
	// negative.
	SampleEvery time.Duration
}

// Control drives the groups that this replica has leased.
type Control struct {
	Config
	prober    *probe.Prober
	desk      *desk
	roster    *roster
	library   *library
	elsewhere *elsewhere
	term      *term
	others    others
	launches  gates
	pictures  pictures
	sender    *notice.Sender
	metrics   metrics
	leaseNow  chan struct{}
	loading   sync.Mutex     // of listeners, by one at a time
	acts      sync.WaitGroup // driver calls under way
	opened    atomic.Bool    // the listeners were opened
	// lastSamples are those of the last round.
	lastSamples atomic.Pointer[[]store.Sample]
	strays      strays
	away        outage
	// acting is set once it is known that the records may be acted on (see onlyLooks).
	acting, saidRestored atomic.Bool
}

// New makes a control; Run starts it.
func New(c Config) *Control {
	if c.SweepEvery == 0 {
		c.SweepEvery = sweepEvery
	}
	if c.StrayGrace == 0 {
		c.StrayGrace = strayGrace
	}
	if c.SampleEvery == 0 {
		c.SampleEvery = metric.Every
	}
	if c.Clock == nil {
		c.Clock = clock.New()
	}
	if c.Self.Since.IsZero() {
		c.Self.Since = c.Clock.Now()
	}
	ctl := &Control{
		Config: c, roster: newRoster(), library: newLibrary(c.Store), term: newTerm(), metrics: newMetrics(c.Metrics), leaseNow: make(chan struct{}, 1),
		launches: gates{at: launchesAt, all: map[string]chan struct{}{}}, pictures: pictures{all: map[string]picture{}}, sender: notice.New(),
	}
	ctl.elsewhere = newElsewhere(ctl)
	ctl.desk = newDesk(c.Balancer, c.Certificates, c.Region, c.Log, ctl.deskTold)
	ctl.prober = probe.New(ctl.verdictChanged)
	c.Store.OnWrite(ctl.wrote)
	c.Machines.Watch(ctl.machineSaid)
	c.Balancer.Watch(ctl.targetIdle)
	c.Balancer.WatchAside(ctl.targetAside)
	ctl.metrics.count(c.Metrics, ctl)
	return ctl
}

// Run drives the groups until the context ends. Machines go on running then. It gives its leases up
// first, and stays known to the others while its requests end (see Config.Finish), so that none of
// them stops a machine under one.
func (c *Control) Run(ctx context.Context) error {
	events := c.Feed.Follow()
	if err := c.loadAll(ctx); err != nil {
		return err
	}
	keeping, stop := context.WithCancel(context.Background())
	defer stop()
	known, leave := context.WithCancel(context.Background())
	defer leave()
	var all, beside sync.WaitGroup
	all.Go(caught.Loop(keeping, "the sweep of machines", func() { c.sweepUntil(keeping) }))
	beside.Go(caught.Loop(known, "following what changed", func() { c.follow(known, events) }))
	beside.Go(caught.Loop(known, "the groups that others keep", func() { c.elsewhere.run(known) }))
	all.Go(caught.Loop(keeping, "watching the clock", func() { c.watchClock(keeping) }))
	all.Go(caught.Loop(keeping, "telling notices", func() { c.herald(keeping) }))
	if c.SampleEvery > 0 {
		all.Go(caught.Loop(keeping, "measuring instances", func() { newSampler(c).run(keeping) }))
	}
	c.lease(keeping, &all, true)
	all.Go(caught.Loop(keeping, "the leases", func() { c.tenure(keeping, &all) }))
	c.awaitActing(ctx)
	c.awaitTargets(ctx)
	c.openDoors(ctx)
	<-ctx.Done()
	stop()
	all.Wait()
	c.prober.Close()
	c.acts.Wait()
	c.resign()
	if c.Finish != nil {
		beside.Go(caught.Loop(known, "staying known", func() { c.stayKnown(known) }))
		c.elsewhere.lookAtAll()
		c.Finish()
	}
	leave()
	beside.Wait()
	c.desk.close()
	c.release()
	return nil
}

// openDoors opens the listeners once the targets of all groups are known or it took too
// long, and tries those again that could not be opened, until the context ends. Where
// there are others it waits until they know of this one: they ask it before they stop a
// machine.
func (c *Control) openDoors(ctx context.Context) {
	if c.others.any() {
		select {
		case <-ctx.Done():
			return
		case <-time.After(renewEvery + renewEvery/2):
		}
	}
	select {
	case <-ctx.Done():
		return
	case <-c.desk.known:
	case <-time.After(openWithin):
	}
	limit, look := time.After(openWithin), time.NewTicker(openLook)
	defer look.Stop()
	for waits := true; waits && !c.desk.settled(); {
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		case <-limit:
			waits = false
		}
	}
	c.desk.openAll()
	c.opened.Store(true)
	again := time.NewTicker(renewEvery)
	defer again.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-again.C:
			c.desk.reopen()
		}
	}
}

// IsOpen reports whether the listeners of the pools were opened, in as far as they could.
func (c *Control) IsOpen() bool { return c.opened.Load() }

// awaitTargets has the listeners wait for the groups of the pools.
func (c *Control) awaitTargets(ctx context.Context) {
	byPool, err := c.Store.GroupsByPool(ctx)
	if err != nil {
		c.Log.Warn("the groups of the pools were not read; their listeners open without waiting for targets", "error", err)
	}
	c.desk.await(byPool)
}

// TakenOver tells why the reserve of a pool has its requests, or "".
func (c *Control) TakenOver(p store.Pool) string { return c.desk.takenOver(p) }

// tell has a fact about an instance taken in by the keeper of its group.
func (c *Control) tell(instance string, f fact) {
	if k := c.roster.owning(instance); k != nil {
		k.tell(f)
	}
}

func (c *Control) machineSaid(f machine.Fact) {
	k := c.roster.owning(f.ID)
	if k == nil {
		return
	}
	if known := k.shown.Load().instance(f.ID); known != nil && f.Launch != 0 && f.Launch < known.Launch {
		return // of a machine that it had before its present one
	}
	switch f.State {
	case fleet.MachineStopped:
		c.desk.shut(f.ID, endedMachine)
	case fleet.MachineRunning, fleet.MachineWoken:
		c.desk.fit(f.ID, endedMachine)
	}
	k.tell(ofMachine{f})
}

func (c *Control) verdictChanged(instance string, r health.Report) {
	if r.Verdict == health.Unhealthy {
		c.desk.shut(instance, r.Check)
	} else {
		c.desk.fit(instance, r.Check)
	}
	c.tell(instance, ofCheck{instance, r, c.Clock.Moment()})
}

// targetIdle has whoever closed a target ask for its count.
func (c *Control) targetIdle(instance string) {
	if k := c.roster.owning(instance); k != nil {
		k.tell(ofTraffic{})
		return
	}
	c.elsewhere.wake()
}

// targetAside has the keeper of an instance know how its pools judge it. Only a group that heals
// by that takes it in.
func (c *Control) targetAside(instance string, nth int, why string) {
	if r, heard := fleet.SetAside(nth, why); heard {
		c.tell(instance, ofCheck{instance, r, c.Clock.Moment()})
	}
}

// deskTold has the keepers of groups know that the balancer took over what they set.
func (c *Control) deskTold(groups []string) {
	away := false
	for _, group := range groups {
		if k := c.roster.of(group); k != nil {
			if k.awaits.Load() {
				k.tell(ofTraffic{})
			}
			continue
		}
		away = true
	}
	if away {
		c.elsewhere.wake()
	}
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
	r := health.Report{Check: check, Verdict: health.Unknown}
	if k := c.roster.owning(instance); k != nil {
		if in := k.shown.Load().instance(instance); in != nil {
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
