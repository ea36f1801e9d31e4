package builtin

import (
	"math"
	"slices"
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
	refused                  atomic.Int64  // until when it is set aside for refusing, see nanos; 0 when it is not
	aside                    atomic.Int64  // until when it is set aside for how it answers, likewise
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
	scars                    scars
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
// row, unless too many are set aside already. One that is set aside for how it answers takes the
// place of such a one, see judge.
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
	t.until(&t.refused, now, traffic.Refused.For(int(t.refusals.Add(1))), why)
}

// until sets it aside for so long, unless it is for longer already.
func (t *target) until(end *atomic.Int64, now time.Time, wait time.Duration, why string) {
	until := nanos(now.Add(wait))
	if max(t.refused.Load(), t.aside.Load()) <= until {
		t.asideWhy.Store(&why)
	}
	if end.Load() < until {
		end.Store(until)
	}
}

// answered ends the setting aside of one that refused.
func (t *target) answered() {
	if t.refusals.Load() != 0 {
		t.refusals.Store(0)
		t.refused.Store(0)
	}
}

// isAside reports whether it gets requests only when nobody else is left.
func (t *target) isAside(now time.Time) bool { return t.asideUntil() > nanos(now) }

func (t *target) asideUntil() int64 { return max(t.refused.Load(), t.aside.Load()) }

func (t *target) isEjected(now time.Time) bool { return t.aside.Load() > nanos(now) }

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
		s.Aside, s.AsideNth = time.Unix(0, t.asideUntil()).UTC(), int(max(t.ejected.Load(), t.refusals.Load()))
		if why := t.asideWhy.Load(); why != nil {
			s.AsideWhy = *why
		}
	}
	if !s.Open {
		s.WaitsFor = l.of(t, 10)
	}
	return s
}
