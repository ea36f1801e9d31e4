package builtin

import (
	"math"
	"slices"
	"sync"
	"time"

	"unitas/internal/fleet/traffic"
)

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

type histogramOf [buckets]uint32 // of half a minute

const halfOfConduct = 30 * time.Second

func (c *conduct) add(status int, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.on {
		return
	}
	h := &c.half[0]
	h.n++
	if isFailure(status) {
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
			Open: t.isOpen(), Aside: t.isEjected(now), Refuses: !t.isEjected(now) && t.isAside(now), Times: int(t.ejected.Load())}
		if rules.Forgives(all[i], time.Duration(nanos(now)-t.aside.Load())) {
			t.ejected.Store(0)
			all[i].Times = 0
			p.tellAside(t, 0, "")
		}
	}
	ejections := p.eject(l, rules, all, now)
	for _, e := range ejections {
		for _, t := range l.targets {
			if t.instance == e.Instance {
				p.log.Warn("a target is ejected", "pool", p.name, "instance", t.instance, "for", e.For, "why", e.Why)
				p.tellAside(t, int(t.ejected.Load()), e.Why)
			}
		}
	}
}

// eject sets aside those that are to be, and has those tried again that give way to them.
func (p *pool) eject(l *lane, rules *traffic.Eject, all []traffic.Conduct, now time.Time) []traffic.Ejection {
	p.asides.Lock()
	defer p.asides.Unlock()
	ejections, back := rules.Judge(all)
	for _, e := range ejections {
		for _, t := range l.targets {
			if t.instance == e.Instance {
				t.ejected.Add(1)
				t.inARow.Store(0)
				t.conduct.clear()
				t.until(&t.aside, now, e.For, e.Why)
			}
		}
	}
	for _, t := range l.targets {
		if slices.Contains(back, t.instance) {
			t.refused.Store(0)
		}
	}
	return ejections
}

// tellAside tells whoever watches.
func (p *pool) tellAside(t *target, nth int, why string) {
	if tell := p.aside.Load(); tell != nil {
		(*tell)(t.instance, nth, why)
	}
}

// scars are the failures of a target that are not long ago: each weighs as a request in flight at
// first, and half as much every so often. So one that fails at once is not the least busy for it.
type scars struct {
	mu   sync.Mutex
	n    float64
	when time.Time
}

// scarHalf is how long it takes until a failure weighs half.
const scarHalf = 5 * time.Second

func (s *scars) add(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.n, s.when = s.weigh(now)+1, now
}

// at is what they weigh at a moment, in requests.
func (s *scars) at(now time.Time) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.weigh(now)
}

func (s *scars) weigh(now time.Time) float64 {
	if s.n == 0 {
		return 0
	}
	return s.n * math.Exp2(-max(0, now.Sub(s.when).Seconds())/scarHalf.Seconds())
}
