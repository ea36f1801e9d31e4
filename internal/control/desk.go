package control

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/caught"
	"unitas/internal/certificates"
	"unitas/internal/fleet/traffic"
	"unitas/internal/store"
)

// desk tells the balancer who the targets of each pool are. It has them from the
// keepers, and what makes one unfit at once from the prober and the machine driver,
// so that closing a target waits for no decision and no database. Each pool has a
// goroutine that tells the balancer the latest of it; nothing is waited for under the
// desk's lock.
type desk struct {
	balancer     balancer.Driver
	certificates certificates.Dir
	region       func(zone string) string
	log          *slog.Logger
	// told is called with the groups of a pool when the balancer took over what they set.
	told func(groups []string)

	mu    sync.Mutex
	clock int64 // counts what happens, so that what was later is known
	pools map[string]*counter
	// unfit are instances that get no requests whatever their keeper knew last, by
	// the check that finds them ill, or by endedMachine.
	unfit map[string]map[string]bool
	// awaited are the groups whose targets are not known yet after a start, by pool.
	// Listeners open once nobody is awaited, or it took too long.
	awaited   map[string]map[string]bool
	opened    bool
	listeners []store.Listener
	known     chan struct{} // closed when nobody is awaited

	listening sync.Mutex // one opens and closes listeners at a time
}

// counter is one pool at the desk.
type counter struct {
	pool    store.Pool
	targets map[string]targetsOf // by group
	left    map[string]int64     // groups that are to be closed here, and since when
	asked   int64                // the moment of the newest that the balancer is to know
	done    int64                // the moment of the newest that it knows
	there   bool                 // the pool is known, and the balancer told
	woken   chan struct{}
	ended   chan struct{} // closed when the pool is no more
	over    chan struct{} // closed when the balancer is told no more
}

// endedMachine stands in the place of a check for a machine that is no more.
const endedMachine = ""

func newDesk(b balancer.Driver, c certificates.Dir, region func(zone string) string, log *slog.Logger, told func([]string)) *desk {
	if region == nil {
		region = func(string) string { return "" }
	}
	return &desk{balancer: b, certificates: c, region: region, log: log, told: told, pools: map[string]*counter{}, unfit: map[string]map[string]bool{},
		awaited: map[string]map[string]bool{}, known: make(chan struct{})}
}

// targetsOf is what one group has in its pools. It does not change.
type targetsOf struct {
	size    int // of the group
	targets []target
}

// target is an instance with the checks that find it healthy while it serves.
type target struct {
	balancer.Target
	zone    string
	healthy []string
}

func (a targetsOf) equal(b targetsOf) bool {
	return a.size == b.size && slices.EqualFunc(a.targets, b.targets, func(a, b target) bool {
		return a.Target == b.Target && a.zone == b.zone && slices.Equal(a.healthy, b.healthy)
	})
}

// setPool takes a new or changed pool over and returns what it was.
func (d *desk) setPool(p store.Pool) (before store.Pool, had bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.counter(p.Name)
	before, had = c.pool, c.there
	c.pool, c.there = p, true
	if !had {
		caught.Go("telling the balancer of a pool", func() { d.keepTelling(p.Name, c) })
	}
	d.changed(c)
	return before, had
}

// counter is the one of a pool; the groups may be there before the pool is. The lock is
// held.
func (d *desk) counter(name string) *counter {
	c := d.pools[name]
	if c == nil {
		c = &counter{targets: map[string]targetsOf{}, woken: make(chan struct{}, 1), ended: make(chan struct{}), over: make(chan struct{})}
		d.pools[name] = c
	}
	return c
}

func (d *desk) dropPool(name string) {
	d.mu.Lock()
	c := d.pools[name]
	delete(d.pools, name)
	delete(d.awaited, name)
	d.isKnown()
	d.mu.Unlock()
	if c == nil || !c.there {
		return
	}
	close(c.ended)
	<-c.over
	d.balancer.Remove(name)
}

// close ends the goroutines of all pools; listeners and targets stay as they are.
func (d *desk) close() {
	d.mu.Lock()
	pools := d.pools
	d.pools = map[string]*counter{}
	d.mu.Unlock()
	for _, c := range pools {
		if c.there {
			close(c.ended)
			<-c.over
		}
	}
}

func (d *desk) pool(name string) (store.Pool, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.pools[name]; c != nil {
		return c.pool, c.there
	}
	return store.Pool{}, false
}

// names are those of the pools that are there.
func (d *desk) names() (all []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for name, c := range d.pools {
		if c.there {
			all = append(all, name)
		}
	}
	return all
}

// changed has the balancer told of a pool. The lock is held.
func (d *desk) changed(c *counter) int64 {
	d.clock++
	c.asked = d.clock
	select {
	case c.woken <- struct{}{}:
	default:
	}
	return c.asked
}

// tellAgain is how long a balancer that did not take a pool is left alone.
const tellAgain = time.Second

// keepTelling tells until the pool is no more, after a fault of its own as well.
func (d *desk) keepTelling(name string, c *counter) {
	defer close(c.over)
	for caught.Do("telling the balancer of a pool", func() { d.tell(name, c) }) != nil {
		select {
		case <-c.ended:
			return
		case <-time.After(tellAgain):
			d.mu.Lock()
			d.changed(c)
			d.mu.Unlock()
		}
	}
}

// tell has the balancer know the latest of a pool, until the pool is no more.
func (d *desk) tell(name string, c *counter) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	caught.Go("the end of a pool", func() {
		<-c.ended
		cancel()
	})
	for {
		select {
		case <-c.ended:
			return
		case <-c.woken:
		}
		pool, groups := d.latest(name, c)
		if err := d.balancer.Sync(ctx, pool); err != nil {
			if ctx.Err() == nil {
				d.log.Warn("the balancer did not take the targets of a pool; it is told again", "pool", name, "error", err)
			}
			time.AfterFunc(tellAgain, func() {
				defer caught.Told("telling the balancer of a pool", nil)
				d.mu.Lock()
				defer d.mu.Unlock()
				d.changed(c)
			})
			continue
		}
		d.mu.Lock()
		c.done = pool.As
		maps.DeleteFunc(c.left, func(group string, since int64) bool {
			if since <= c.done {
				groups = append(groups, group)
			}
			return since <= c.done
		})
		d.mu.Unlock()
		d.told(groups)
	}
}

// latest is a pool as the balancer is to have it, with the groups that are in it.
func (d *desk) latest(name string, c *counter) (balancer.Pool, []string) {
	d.mu.Lock()
	p, as, known := c.pool, c.asked, len(d.awaited[name]) == 0
	of := maps.Clone(c.targets)
	unfit := d.unfitBy(p.Check)
	d.mu.Unlock()
	names := slices.Sorted(maps.Keys(of))
	groups := groupsOf(p, names, of, unfit)
	weights := p.Weigh(groups)
	out := balancer.Pool{Name: p.Name, As: as, LeastBusy: p.Algorithm == traffic.LeastBusy, TryAll: p.WhenNoneHealthy == traffic.TryAll, SlowStart: p.SlowStart, Known: known, Spoken: p.Targets}
	if p.Trust != "" && p.Trust != traffic.TrustHost && p.Trust != traffic.TrustAnyone {
		out.Trusted, _ = d.certificates.Files(p.Trust, "")
	}
	for _, g := range names {
		for _, t := range of[g].targets {
			t.Open, t.Weight, t.Region = isOpen(p, t, unfit), weights[t.Instance], d.region(t.zone)
			out.Targets = append(out.Targets, t.Target)
		}
	}
	return out, names
}

// unfitBy are the instances that a check finds ill, or that have no machine. The lock is
// held.
func (d *desk) unfitBy(check string) map[string]bool {
	unfit := make(map[string]bool, len(d.unfit))
	for instance, by := range d.unfit {
		unfit[instance] = by[endedMachine] || by[check]
	}
	return unfit
}

func isOpen(p store.Pool, t target, unfit map[string]bool) bool {
	return slices.Contains(t.healthy, p.Check) && !unfit[t.Instance]
}

// groupsOf are the groups of a pool as they share its requests.
func groupsOf(p store.Pool, names []string, of map[string]targetsOf, unfit map[string]bool) []traffic.Group {
	groups := make([]traffic.Group, 0, len(names))
	for _, name := range names {
		g := traffic.Group{Name: name, Size: of[name].size, Targets: make([]traffic.Target, len(of[name].targets))}
		for i, t := range of[name].targets {
			g.Targets[i] = traffic.Target{Instance: t.Instance, Open: isOpen(p, t, unfit)}
		}
		groups = append(groups, g)
	}
	return groups
}

// set makes the targets of one group in its pools those given. It returns by pool when
// that was, for [desk.knows].
func (d *desk) set(group string, pools []string, of targetsOf) map[string]int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	asked := make(map[string]int64, len(pools))
	for _, name := range pools {
		c := d.counter(name)
		if !c.targets[group].equal(of) || c.targets[group].targets == nil {
			c.targets[group] = of
		}
		d.toldOf(name, group)
		asked[name] = d.changed(c)
	}
	return asked
}

// leave takes a group out of the pools that are not among those given. It returns by
// pool when that was.
func (d *desk) leave(group string, but []string) map[string]int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	asked := map[string]int64{}
	for name, c := range d.pools {
		if _, in := c.targets[group]; !in || slices.Contains(but, name) {
			continue
		}
		delete(c.targets, group)
		if c.left == nil {
			c.left = map[string]int64{}
		}
		asked[name] = d.changed(c)
		c.left[group] = asked[name]
	}
	for name := range d.awaited {
		if !slices.Contains(but, name) {
			d.toldOf(name, group)
		}
	}
	return asked
}

// knows reports whether the balancer knows all that was set until then, by pool. What it
// knows it forgets to ask for again.
func (d *desk) knows(asked map[string]int64) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	maps.DeleteFunc(asked, func(name string, at int64) bool { c := d.pools[name]; return c == nil || !c.there || c.done >= at })
	return len(asked) == 0
}

// shut closes an instance at once in the pools that ask the check, in all for
// endedMachine, until fit is called for the same.
func (d *desk) shut(instance, check string) {
	d.mu.Lock()
	if d.unfit[instance] == nil {
		d.unfit[instance] = map[string]bool{}
	}
	d.unfit[instance][check] = true
	d.clock++
	as, names := d.clock, d.asking(check)
	for _, name := range names {
		d.changed(d.pools[name]) // its weight is the others' now
	}
	d.mu.Unlock()
	for _, name := range names {
		d.balancer.Shut(name, instance, as)
	}
}

// asking are the pools that ask a check, all for endedMachine. The lock is held.
func (d *desk) asking(check string) []string {
	var names []string
	for name, c := range d.pools {
		if c.there && (check == endedMachine || c.pool.Check == check) {
			names = append(names, name)
		}
	}
	return names
}

// fit takes back what shut said; keepers open their targets themselves.
func (d *desk) fit(instance, check string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	was := d.unfit[instance][check]
	delete(d.unfit[instance], check)
	if len(d.unfit[instance]) == 0 {
		delete(d.unfit, instance)
	}
	if !was {
		return
	}
	for _, name := range d.asking(check) { // a keeper that never heard of it has nothing new to say
		d.changed(d.pools[name])
	}
}

// forget ends all that is known of instances.
func (d *desk) forget(instances ...string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range instances {
		delete(d.unfit, id)
	}
}

// takenOver tells why the reserve of a pool has its requests, or "".
func (d *desk) takenOver(p store.Pool) string {
	d.mu.Lock()
	c := d.pools[p.Name]
	if c == nil {
		d.mu.Unlock()
		return ""
	}
	of := maps.Clone(c.targets)
	unfit := d.unfitBy(p.Check)
	d.mu.Unlock()
	switch byReserve, byAll, why := p.TakenOver(groupsOf(p, slices.Sorted(maps.Keys(of)), of, unfit)); {
	case byAll:
		return "everybody shares the requests, the reserve as well: " + why
	case byReserve:
		return "the reserve has taken over: " + why
	}
	return ""
}
