package builtin

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
)

// lane is the targets of a pool with how one is chosen. It does not change; a
// change of the pool makes another.
type lane struct {
	targets   []*target
	leastBusy bool
	tryAll    bool
	known     bool // whether these are all targets
	slow      time.Duration
	// even is whether all weights are the same; until rampUntil fresh targets get
	// less.
	even      bool
	rampUntil int64 // ns, see nanos
}

// turn is whose turn it is; it outlives changes of the lane.
type turn struct {
	next atomic.Uint64
	mu   sync.Mutex // of the targets' credits
}

func newLane(p balancer.Pool, targets []*target) *lane {
	l := &lane{targets: targets, leastBusy: p.LeastBusy, tryAll: p.TryAll, known: p.Known, slow: p.SlowStart, even: true}
	var newest int64
	var first uint64
	for _, t := range targets {
		if !t.isOpen() {
			continue
		}
		newest = max(newest, t.fresh.Load())
		w := t.weight.Load()
		if first == 0 {
			first = w
		}
		l.even = l.even && w == first && w != 0
	}
	l.rampUntil = newest + int64(p.SlowStart)
	return l
}

// pick takes the target for a request that the tried ones did not take, or
// returns nil. Those that were set aside come last, and after them, by setting,
// those that are ill.
func (l *lane) pick(turn *turn, tried []*target) *target {
	now := time.Now()
	if t := l.choose(turn, now, func(t *target) bool { return t.isOpen() && !t.isAside(now) && !slices.Contains(tried, t) }, false); t != nil {
		return t
	}
	if t := l.choose(turn, now, func(t *target) bool { return t.isOpen() && !slices.Contains(tried, t) }, false); t != nil {
		return t
	}
	if l.tryAll {
		return l.choose(turn, now, func(t *target) bool { return t.last.Load() && !slices.Contains(tried, t) }, true)
	}
	return nil
}

func (l *lane) choose(turn *turn, now time.Time, may func(*target) bool, anyway bool) *target {
	switch {
	case len(l.targets) == 0:
		return nil
	case l.leastBusy && !anyway:
		return l.leastBusyOf(turn, now, may)
	case anyway, l.even && nanos(now) >= l.rampUntil:
		n := uint64(len(l.targets))
		begin := turn.next.Add(1)
		for i := range n {
			if t := l.targets[(begin+i)%n]; may(t) && t.take(anyway) {
				return t
			}
		}
		return nil
	}
	return l.byWeight(turn, now, may)
}

// byWeight gives turns by weight and as evenly in time as may be: every target
// gains its part, the one with the most goes and pays for all.
func (l *lane) byWeight(turn *turn, now time.Time, may func(*target) bool) *target {
	turn.mu.Lock()
	defer turn.mu.Unlock()
	var closed []*target // while we looked
	for {
		var best *target
		var sum float64
		for _, t := range l.targets {
			part := t.part(now, l.slow)
			if part == 0 || !may(t) || slices.Contains(closed, t) {
				continue
			}
			t.credit += part
			sum += part
			if best == nil || t.credit > best.credit {
				best = t
			}
		}
		if best == nil {
			return nil
		}
		best.credit -= sum
		if best.take(false) {
			return best
		}
		closed = append(closed, best)
	}
}

func (l *lane) leastBusyOf(turn *turn, now time.Time, may func(*target) bool) *target {
	n := uint64(len(l.targets))
	begin := turn.next.Add(1)
	var closed []*target
	for {
		var best *target
		var least float64
		for i := range n {
			t := l.targets[(begin+i)%n]
			part := t.part(now, l.slow)
			if part == 0 || !may(t) || slices.Contains(closed, t) {
				continue
			}
			if load := float64(t.inFlight.Load()+1) / part; best == nil || load < least {
				best, least = t, load
			}
		}
		if best == nil || best.take(false) {
			return best
		}
		closed = append(closed, best)
	}
}

// shares are the parts of new requests that the targets get now, 0 to 1.
func (l *lane) shares(now time.Time) map[*target]float64 {
	parts := map[*target]float64{}
	var sum float64
	for _, t := range l.targets {
		if t.isOpen() && !t.isAside(now) {
			parts[t] = t.part(now, l.slow)
			sum += parts[t]
		}
	}
	if sum == 0 {
		return nil
	}
	for t := range parts {
		parts[t] /= sum
	}
	return parts
}
