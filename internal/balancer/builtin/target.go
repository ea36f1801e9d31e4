package builtin

import (
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
)

// target is one instance in one pool. Its counters outlive changes of its
// settings.
type target struct {
	instance, group, version string
	host, region             string
	hash                     uint64 // of the instance, see stay
	last                     atomic.Bool
	state                    atomic.Int64  // whether it is open, and as of when: see set
	weight                   atomic.Uint64 // bits of a float64
	fresh                    atomic.Int64  // when it was opened, see nanos
	aside                    atomic.Int64  // until when it is set aside, see nanos; 0 when it is not
	asideWhy                 atomic.Pointer[string]
	refusals                 atomic.Int64 // times set aside for refusing, in a row
	inARow                   atomic.Int64 // failures
	ejected                  atomic.Int64 // times set aside for how it answers, in a row
	gone                     atomic.Bool  // from the pool
	tallies                  tallies
	flight                   *flight // of the instance
	requests                 atomic.Int64
	failures                 atomic.Int64
	retried                  atomic.Int64
	credit                   float64 // for turns by weight; under the pool's turn
	answers                  window
	conduct                  conduct
	byVersion                *version
	idle                     func(instance string)
	upstream                 atomic.Pointer[upstream]
}

// take begins a request unless the target is closed. The count goes up before
// open is looked at, and a closer looks at the count after it closed: so a
// closed target with nothing in flight gets nothing more, ever. Only one that
// may be tried when nobody is healthy does.
func (t *target) take(page int, anyway bool) bool {
	t.tallies[page].inFlight.Add(1)
	if t.isOpen() || (anyway && t.last.Load()) {
		return true
	}
	t.leave(page)
	return false
}

// leave ends a request.
func (t *target) leave(page int) {
	t.tallies[page].inFlight.Add(-1)
	if t.isOpen() || t.tallies.inFlight() > 0 {
		return
	}
	if t.gone.Load() {
		t.flight.drop(t)
	}
	if t.idle != nil {
		t.idle(t.instance)
	}
}

// set opens or closes the target as of some moment, unless it was set as of a later one.
func (t *target) set(open bool, as int64) {
	next := as << 1
	if open {
		next |= 1
	}
	for {
		was := t.state.Load()
		if was>>1 > as || t.state.CompareAndSwap(was, next) {
			return
		}
	}
}

// end closes the target for good.
func (t *target) end() {
	t.last.Store(false)
	t.gone.Store(true)
	t.set(false, math.MaxInt64>>1)
	t.flight.drop(t)
	t.upstream.Load().rest(true)
}

func (t *target) isOpen() bool { return t.state.Load()&1 == 1 }

// oldest are the first of the requests by when they began, at most so many.
func oldest(all []balancer.Request, most int) []balancer.Request {
	slices.SortFunc(all, func(a, b balancer.Request) int { return a.Since.Compare(b.Since) })
	return all[:min(len(all), most)]
}

// setAside keeps new requests from a target that did not take one, longer each time in a
// row, unless too many are set aside already.
func (p *pool) setAside(t *target, now time.Time, why string) {
	p.asides.Lock()
	defer p.asides.Unlock()
	open, aside := 0, 0
	for _, o := range p.lane.Load().targets {
		if !o.isOpen() {
			continue
		}
		open++
		if o != t && o.isAside(now) {
			aside++
		}
	}
	if traffic.MayBeAside(open, aside) {
		t.setAside(now, why)
	}
}

func (t *target) setAside(now time.Time, why string) {
	t.asideFor(now, traffic.Refused.For(int(t.refusals.Add(1))), why)
}

// asideFor sets it aside until then, unless it is for longer already.
func (t *target) asideFor(now time.Time, wait time.Duration, why string) {
	until := nanos(now.Add(wait))
	if t.aside.Load() > until {
		return
	}
	t.asideWhy.Store(&why)
	t.aside.Store(until)
}

// answered ends the setting aside of one that refused.
func (t *target) answered() {
	if t.refusals.Load() != 0 {
		t.refusals.Store(0)
		if t.ejected.Load() == 0 {
			t.aside.Store(0)
		}
	}
}

func (t *target) isAside(now time.Time) bool {
	until := t.aside.Load()
	return until != 0 && nanos(now) < until
}

// part is its weight now; a fresh target comes to it over slow, from a tenth.
func (t *target) part(now time.Time, slow time.Duration) float64 {
	w := math.Float64frombits(t.weight.Load())
	if slow == 0 {
		return w
	}
	if age := time.Duration(nanos(now) - t.fresh.Load()); age < slow {
		w *= max(0.1, float64(age)/float64(slow))
	}
	return w
}

// tell is the target as it was given.
func (t *target) tell() balancer.Target {
	return balancer.Target{Instance: t.instance, Group: t.group, Version: t.version, Address: t.host, Region: t.region, Open: t.isOpen(), Last: t.last.Load(),
		Weight: math.Float64frombits(t.weight.Load())}
}

func (t *target) stats(l *ledger, now time.Time) balancer.TargetStats {
	s := balancer.TargetStats{
		Target: t.tell(), InFlight: int(t.tallies.inFlight()), Requests: t.requests.Load(), Failures: t.failures.Load(), Retried: t.retried.Load(),
		Windows: t.answers.read(now),
	}
	if t.isAside(now) {
		s.Aside, s.AsideNth = time.Unix(0, t.aside.Load()).UTC(), int(max(t.ejected.Load(), t.refusals.Load()))
		if why := t.asideWhy.Load(); why != nil {
			s.AsideWhy = *why
		}
	}
	if !s.Open {
		s.WaitsFor = l.of(t, 10)
	}
	return s
}

// conduct is how a target answered since a moment ago, or since it was set aside, for
// whoever judges it. It keeps two halves of a minute.
type conduct struct {
	mu   sync.Mutex
	on   bool // somebody judges
	turn time.Time
	half [2]struct {
		n, failed int64
		took      histogramOf
	}
}

type histogramOf [buckets]uint32

const halfOfConduct = 30 * time.Second

func (c *conduct) add(status int, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.on {
		return
	}
	h := &c.half[0]
	h.n++
	if status == 0 || status >= 500 {
		h.failed++
	} else {
		h.took[bucketOf(took)]++
	}
}

// clear forgets what was.
func (c *conduct) clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.half[:])
}

// read tells what was in the last minute.
func (c *conduct) read(now time.Time) (n, failed int64, median float64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.on = true
	if now.Sub(c.turn) >= halfOfConduct {
		c.half[1], c.turn = c.half[0], now
		clear(c.half[:1])
	}
	n, failed = c.half[0].n+c.half[1].n, c.half[0].failed+c.half[1].failed
	seen := int64(0)
	for b := range buckets {
		if seen += int64(c.half[0].took[b] + c.half[1].took[b]); seen > 0 && seen*2 >= n-failed {
			return n, failed, middle(b)
		}
	}
	return n, failed, 0
}

// judgeEvery is how often the targets of a pool are judged.
const judgeEvery = time.Second

// judge sets aside the targets of a pool that answer badly.
func (p *pool) judge(now time.Time) {
	l := p.lane.Load()
	rules := &l.spoken.Eject
	if *rules == (traffic.Eject{}) {
		return
	}
	p.ledger.settle()
	all := make([]traffic.Conduct, len(l.targets))
	for i, t := range l.targets {
		n, failed, median := t.conduct.read(now)
		all[i] = traffic.Conduct{Instance: t.instance, Requests: n, Failed: failed, InARow: int(t.inARow.Load()), Median: median,
			Open: t.isOpen(), Aside: t.isAside(now), Times: int(t.ejected.Load())}
		if rules.Forgives(all[i], time.Duration(nanos(now)-t.aside.Load())) {
			t.ejected.Store(0)
			all[i].Times = 0
			p.tellAside(t, 0, "")
		}
	}
	p.asides.Lock()
	ejections := rules.Judge(all)
	for _, e := range ejections {
		for _, t := range l.targets {
			if t.instance == e.Instance {
				t.ejected.Add(1)
				t.inARow.Store(0)
				t.conduct.clear()
				t.asideFor(now, e.For, e.Why)
			}
		}
	}
	p.asides.Unlock()
	for _, e := range ejections {
		for _, t := range l.targets {
			if t.instance == e.Instance {
				p.log.Warn("a target is set aside", "pool", p.name, "instance", t.instance, "for", e.For, "why", e.Why)
				p.tellAside(t, int(t.ejected.Load()), e.Why)
			}
		}
	}
}

// tellAside tells whoever watches.
func (p *pool) tellAside(t *target, nth int, why string) {
	if tell := p.aside.Load(); tell != nil {
		(*tell)(t.instance, nth, why)
	}
}
