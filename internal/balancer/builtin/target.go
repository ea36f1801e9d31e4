package builtin

import (
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
)

// target is one instance in one pool. Its counters outlive changes of its
// settings.
type target struct {
	instance, group, version string
	host                     string
	last                     atomic.Bool
	state                    atomic.Int64  // whether it is open, and as of when: see set
	weight                   atomic.Uint64 // bits of a float64
	fresh                    atomic.Int64  // when it was opened, see nanos
	aside                    atomic.Int64  // until when it is set aside, see nanos; 0 when it is not
	refusals                 atomic.Int64  // in a row
	inFlight                 atomic.Int64  // in this pool
	flight                   *flight       // in all of them
	requests                 atomic.Int64
	failures                 atomic.Int64
	retried                  atomic.Int64
	credit                   float64 // for turns by weight; under the pool's turn
	answers                  window
	byVersion                *version
	idle                     func(instance string)

	mu  sync.Mutex
	now map[*balancer.Request]struct{} // in flight
}

// take begins a request unless the target is closed. The count goes up before
// open is looked at, and a closer looks at the count after it closed: so a
// closed target with nothing in flight gets nothing more, ever. Only one that
// may be tried when nobody is healthy does.
func (t *target) take(anyway bool) bool {
	t.inFlight.Add(1)
	t.flight.n.Add(1)
	if t.isOpen() || (anyway && t.last.Load()) {
		return true
	}
	t.leave()
	return false
}

// leave ends a request.
func (t *target) leave() {
	last := t.inFlight.Add(-1) == 0
	t.flight.leave()
	if last && !t.isOpen() && t.idle != nil {
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

// close closes the target for good.
func (t *target) close() { t.set(false, math.MaxInt64>>1) }

func (t *target) isOpen() bool { return t.state.Load()&1 == 1 }

// begin notes a request for whoever asks what the target is busy with.
func (t *target) begin(method, path string) *balancer.Request {
	r := &balancer.Request{Method: method, Path: path, Since: time.Now()}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now == nil {
		t.now = map[*balancer.Request]struct{}{}
	}
	t.now[r] = struct{}{}
	return r
}

func (t *target) end(r *balancer.Request) {
	t.mu.Lock()
	delete(t.now, r)
	t.mu.Unlock()
	t.leave()
}

// waitsFor are the oldest requests in flight.
func (t *target) waitsFor() []balancer.Request {
	t.mu.Lock()
	all := make([]balancer.Request, 0, len(t.now))
	for r := range t.now {
		all = append(all, *r)
	}
	t.mu.Unlock()
	slices.SortFunc(all, func(a, b balancer.Request) int { return a.Since.Compare(b.Since) })
	return all[:min(len(all), 10)]
}

// How long a target that refused or reset is set aside: the first time, and at
// most when it does again and again.
const (
	firstAside = 500 * time.Millisecond
	lastAside  = 30 * time.Second
)

// setAside keeps new requests from a target that did not take one, twice as long
// each time in a row, unless half of those that get requests are set aside already:
// what takes a request badly everywhere would close the pool.
func (p *pool) setAside(t *target, now time.Time) {
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
	if (aside+1)*2 <= open {
		t.setAside(now)
	}
}

func (t *target) setAside(now time.Time) {
	n := t.refusals.Add(1)
	wait := lastAside
	if n < 7 {
		wait = min(firstAside<<(n-1), lastAside)
	}
	t.aside.Store(nanos(now.Add(wait)))
}

// answered ends all setting aside.
func (t *target) answered() {
	if t.refusals.Load() != 0 {
		t.refusals.Store(0)
		t.aside.Store(0)
	}
}

func (t *target) isAside(now time.Time) bool {
	until := t.aside.Load()
	return until != 0 && nanos(now) < until
}

// part is its weight now; a fresh target comes to it over slow, from a tenth.
func (t *target) part(now time.Time, slow time.Duration) float64 {
	w := math.Float64frombits(t.weight.Load())
	if age := time.Duration(nanos(now) - t.fresh.Load()); age < slow {
		w *= max(0.1, float64(age)/float64(slow))
	}
	return w
}

func (t *target) stats(now time.Time) balancer.TargetStats {
	s := balancer.TargetStats{
		Target: balancer.Target{Instance: t.instance, Group: t.group, Version: t.version, Address: t.host, Open: t.isOpen(), Last: t.last.Load(),
			Weight: math.Float64frombits(t.weight.Load())},
		InFlight: int(t.inFlight.Load()), Requests: t.requests.Load(), Failures: t.failures.Load(), Retried: t.retried.Load(),
		Windows: t.answers.read(now),
	}
	if t.isAside(now) {
		s.Aside = time.Unix(0, t.aside.Load()).UTC()
	}
	if !s.Open {
		s.WaitsFor = t.waitsFor()
	}
	return s
}
