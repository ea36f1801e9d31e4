package control

import (
	"maps"
	"slices"
	"sync"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
	"unitas/internal/store"
)

// desk tells the balancer who the targets of each pool are. It has them from the
// keepers, and what makes one unfit at once from the prober and the machine driver,
// so that closing a target waits for no decision and no database. Nothing is waited
// for under its lock.
type desk struct {
	balancer balancer.Driver

	mu      sync.Mutex
	pools   map[string]store.Pool
	targets map[string]map[string]targetsOf // by pool and group
	// unfit are instances that get no requests whatever their keeper knew last, by
	// the check that finds them ill, or by endedMachine.
	unfit map[string]map[string]bool
	// awaited are the groups whose targets are not known yet after a start, by pool.
	// Listeners open once nobody is awaited, or it took too long.
	awaited map[string]map[string]bool
	opened  bool
	known   chan struct{} // closed when nobody is awaited

	listening sync.Mutex // one opens and closes listeners at a time
}

// endedMachine stands in the place of a check for a machine that is no more.
const endedMachine = ""

func newDesk(b balancer.Driver) *desk {
	return &desk{balancer: b, pools: map[string]store.Pool{}, targets: map[string]map[string]targetsOf{},
		unfit: map[string]map[string]bool{}, awaited: map[string]map[string]bool{}, known: make(chan struct{})}
}

// targetsOf is what one group has in its pools.
type targetsOf struct {
	size    int // of the group
	targets []target
}

// target is an instance with the checks that find it healthy while it serves.
type target struct {
	balancer.Target
	healthy []string
}

func (a targetsOf) equal(b targetsOf) bool {
	return a.size == b.size && slices.EqualFunc(a.targets, b.targets, func(a, b target) bool {
		return a.Target == b.Target && slices.Equal(a.healthy, b.healthy)
	})
}

// setPool takes a new or changed pool over and returns what it was.
func (d *desk) setPool(p store.Pool) (before store.Pool, had bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	before, had = d.pools[p.Name]
	d.pools[p.Name] = p
	d.apply(p.Name)
	return before, had
}

func (d *desk) dropPool(name string) {
	d.mu.Lock()
	delete(d.pools, name)
	delete(d.targets, name)
	delete(d.awaited, name)
	d.mu.Unlock()
	d.listening.Lock()
	defer d.listening.Unlock()
	d.balancer.Remove(name)
}

func (d *desk) pool(name string) (store.Pool, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	p, ok := d.pools[name]
	return p, ok
}

// set makes the targets of one group in its pools those given.
func (d *desk) set(group string, pools []string, of targetsOf) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, name := range pools {
		if d.targets[name] == nil {
			d.targets[name] = map[string]targetsOf{}
		}
		d.targets[name][group] = of
		d.toldOf(name, group)
		d.apply(name)
	}
}

// leave forgets a group that is kept here no more.
func (d *desk) leave(group string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, groups := range d.targets {
		delete(groups, group)
	}
	for name := range d.awaited {
		d.toldOf(name, group)
	}
}

// shut closes an instance at once in the pools that ask the check, in all for
// endedMachine, until fit is called for the same.
func (d *desk) shut(instance, check string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.unfit[instance] == nil {
		d.unfit[instance] = map[string]bool{}
	}
	d.unfit[instance][check] = true
	for name, p := range d.pools {
		if check == endedMachine || p.Check == check {
			d.balancer.Shut(name, instance)
		}
	}
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
	for name, p := range d.pools { // a keeper that never heard of it has nothing new to say
		if check == endedMachine || p.Check == check {
			d.apply(name)
		}
	}
}

// forget ends all that is known of an instance.
func (d *desk) forget(instance string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.unfit, instance)
}

// apply tells the balancer all targets of a pool. The lock is held.
func (d *desk) apply(name string) {
	p, ok := d.pools[name]
	if !ok {
		return
	}
	out := balancer.Pool{Name: p.Name, LeastBusy: p.Choose == traffic.LeastBusy, TryAll: p.Nobody == traffic.TryAll, SlowStart: p.SlowStart,
		Known: len(d.awaited[name]) == 0}
	groups := d.groupsOf(name)
	weights := p.Weigh(groups)
	for _, g := range groups {
		for _, t := range d.targets[name][g.Name].targets {
			t.Open, t.Weight = d.open(p, t), weights[t.Instance]
			out.Targets = append(out.Targets, t.Target)
		}
	}
	d.balancer.Apply(out)
}

func (d *desk) open(p store.Pool, t target) bool {
	unfit := d.unfit[t.Instance]
	return slices.Contains(t.healthy, p.Check) && !unfit[p.Check] && !unfit[endedMachine]
}

// groupsOf are the groups of a pool as they share its requests. The lock is held.
func (d *desk) groupsOf(pool string) []traffic.Group {
	p := d.pools[pool]
	groups := make([]traffic.Group, 0, len(d.targets[pool]))
	for _, name := range slices.Sorted(maps.Keys(d.targets[pool])) {
		of := d.targets[pool][name]
		g := traffic.Group{Name: name, Size: of.size, Targets: make([]traffic.Target, len(of.targets))}
		for i, t := range of.targets {
			g.Targets[i] = traffic.Target{Instance: t.Instance, Open: d.open(p, t)}
		}
		groups = append(groups, g)
	}
	return groups
}

// await names the groups whose targets are to be known before the listeners open.
func (d *desk) await(byPool map[string][]string, kept func(group string) bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for pool, groups := range byPool {
		for _, group := range groups {
			if _, told := d.targets[pool][group]; told || !kept(group) {
				continue
			}
			if d.awaited[pool] == nil {
				d.awaited[pool] = map[string]bool{}
			}
			d.awaited[pool][group] = true
		}
		d.apply(pool)
	}
	d.isKnown()
}

// toldOf notes that the targets of a group are known. The lock is held.
func (d *desk) toldOf(pool, group string) {
	if !d.awaited[pool][group] {
		return
	}
	if delete(d.awaited[pool], group); len(d.awaited[pool]) == 0 {
		delete(d.awaited, pool)
	}
	d.isKnown()
}

func (d *desk) isKnown() {
	if len(d.awaited) > 0 {
		return
	}
	select {
	case <-d.known:
	default:
		close(d.known)
	}
}

// open opens all listeners. What still comes to a pool whose targets are not known
// waits there for a moment.
func (d *desk) openAll() {
	d.mu.Lock()
	d.opened = true
	names := slices.Collect(maps.Keys(d.pools))
	d.mu.Unlock()
	for _, name := range names {
		d.listen(name)
	}
}

// listen makes the listeners of a pool those that it says, once they may open.
func (d *desk) listen(name string) {
	d.listening.Lock()
	defer d.listening.Unlock()
	d.mu.Lock()
	p, ok := d.pools[name]
	opened := d.opened
	d.mu.Unlock()
	if !ok || !opened {
		return
	}
	listeners := make([]balancer.Listener, len(p.Listeners))
	for i, l := range p.Listeners {
		listeners[i] = balancer.Listener{Address: l.Address, Certificate: l.Certificate, Key: l.Key}
	}
	d.balancer.Listen(name, listeners)
}

// reopen tries again the listeners that could not be opened.
func (d *desk) reopen() {
	d.mu.Lock()
	names := slices.Collect(maps.Keys(d.pools))
	d.mu.Unlock()
	for _, name := range names {
		if s, ok := d.balancer.Stats(name); ok && s.Troubled() {
			d.listen(name)
		}
	}
}

// takenOver tells why the reserve of a pool has its requests, or "".
func (d *desk) takenOver(p store.Pool) string {
	d.mu.Lock()
	groups := d.groupsOf(p.Name)
	d.mu.Unlock()
	switch byReserve, byAll, why := p.TakenOver(groups); {
	case byAll:
		return "everybody shares the requests, the reserve as well: " + why
	case byReserve:
		return "the reserve has taken over: " + why
	}
	return ""
}
