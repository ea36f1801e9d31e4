package builtin

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
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
	spoken    traffic.Targets
	near      sync.Map // of a listener's order of regions to *nearLane
}

// turn is whose turn it is; it outlives changes of the lane.
type turn struct {
	next atomic.Uint64
	mu   sync.Mutex // of the targets' credits
}

func newLane(p balancer.Pool, targets []*target) *lane {
	l := &lane{targets: targets, leastBusy: p.LeastBusy, tryAll: p.TryAll, known: p.Known, slow: p.SlowStart, even: true, spoken: p.Spoken}
	l.ready()
	return l
}

// ready works out what is the same for every choice.
func (l *lane) ready() {
	var newest int64
	var first uint64
	for _, t := range l.targets {
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
	l.rampUntil = newest + int64(l.slow)
}

// choice is one choosing of a target.
type choice struct {
	turn  *turn
	page  int // of the ledger
	tried []*target
	trial bool // nothing is taken and no turn passes
	now   time.Time
}

// pick takes the target for a request that the tried ones did not take, or
// returns nil: of those some of the lane that share the listener's requests first, and then of all.
// Those that were set aside come after all that were not, wherever these are, and after them, by
// setting, those that are ill.
func (l *lane) pick(some *lane, c *choice) *target {
	c.now = time.Now()
	open := func(t *target) bool { return t.isOpen() && !slices.Contains(c.tried, t) }
	well := func(t *target) bool { return open(t) && !t.isAside(c.now) }
	for _, may := range [...]func(*target) bool{well, open} {
		if t := some.choose(c, may, false); t != nil {
			return t
		}
		if some == l {
			continue
		}
		if t := l.choose(c, may, false); t != nil {
			return t
		}
	}
	if l.tryAll {
		return l.choose(c, func(t *target) bool { return t.last.Load() && !slices.Contains(c.tried, t) }, true)
	}
	return nil
}

// take takes a target unless it was closed meanwhile.
func (c *choice) take(t *target, anyway bool) bool { return c.trial || t.take(c.page, anyway) }

// begin is where the turn is.
func (c *choice) begin() uint64 {
	if c.trial {
		return c.turn.next.Load() + 1
	}
	return c.turn.next.Add(1)
}

func (l *lane) choose(c *choice, may func(*target) bool, anyway bool) *target {
	switch {
	case len(l.targets) == 0:
		return nil
	case l.leastBusy && !anyway:
		return l.leastBusyOf(c, may)
	case anyway, l.even && nanos(c.now) >= l.rampUntil:
		return l.inTurn(c, may, anyway)
	}
	return l.byWeight(c, may)
}

// inTurn goes on to the next that takes requests. Whoever is passed over has had its turn, so
// that its neighbour does not get its requests as well.
func (l *lane) inTurn(c *choice, may func(*target) bool, anyway bool) *target {
	n := uint64(len(l.targets))
	at := c.begin()
	for i := range n {
		if t := l.targets[at%n]; may(t) && c.take(t, anyway) {
			return t
		}
		if i+1 < n && !c.trial {
			at = c.begin()
		} else {
			at++
		}
	}
	for i := range n { // others took the turns in between
		if t := l.targets[(at+i)%n]; !c.trial && may(t) && c.take(t, anyway) {
			return t
		}
	}
	return nil
}

// byWeight gives turns by weight and as evenly in time as may be: every target
// gains its part, the one with the most goes and pays for all.
func (l *lane) byWeight(c *choice, may func(*target) bool) *target {
	c.turn.mu.Lock()
	defer c.turn.mu.Unlock()
	var closed []*target // while we looked
	for {
		var best *target
		var sum, most float64
		for _, t := range l.targets {
			part := t.part(c.now, l.slow)
			if part == 0 || !may(t) || slices.Contains(closed, t) {
				continue
			}
			credit := t.credit + part
			if !c.trial {
				t.credit = credit
			}
			sum += part
			if best == nil || credit > most {
				best, most = t, credit
			}
		}
		if best == nil {
			return nil
		}
		if c.trial {
			return best
		}
		best.credit -= sum
		if c.take(best, false) {
			return best
		}
		closed = append(closed, best)
	}
}

func (l *lane) leastBusyOf(c *choice, may func(*target) bool) *target {
	n := uint64(len(l.targets))
	begin := c.begin()
	var closed []*target
	for {
		var best *target
		var least float64
		for i := range n {
			t := l.targets[(begin+i)%n]
			part := t.part(c.now, l.slow)
			if part == 0 || !may(t) || slices.Contains(closed, t) {
				continue
			}
			if load := (float64(t.tallies.inFlight()+1) + t.scars.at(c.now)) / part; best == nil || load < least {
				best, least = t, load
			}
		}
		if best == nil || c.take(best, false) {
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
