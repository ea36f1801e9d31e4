package probe

import (
	"fmt"
	"sync"
	"time"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
)

// pulse feels whether this process gets its processor time: it wants to wake at every
// beat, and remembers how late it did. A target cannot be blamed for an answer that
// nobody here was awake to read.
type pulse struct {
	stop chan struct{}

	mu     sync.Mutex
	due    time.Time // of the next beat
	missed []missed  // the last ones, oldest first
}

type missed struct {
	at time.Time // that it woke
	by time.Duration
}

const (
	beat       = 100 * time.Millisecond
	keptMissed = 32
	// leastMissed is how late a beat is to be remembered at all.
	leastMissed = 20 * time.Millisecond
)

func newPulse() *pulse { return &pulse{stop: make(chan struct{}), due: time.Now().Add(beat)} }

func (p *pulse) run() {
	timer := time.NewTimer(beat)
	defer timer.Stop()
	for {
		select {
		case <-p.stop:
			return
		case <-timer.C:
		}
		p.woke(time.Now())
		timer.Reset(beat)
	}
}

// woke notes that a beat came at the time now.
func (p *pulse) woke(now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if by := now.Sub(p.due); by >= leastMissed {
		if len(p.missed) == keptMissed {
			p.missed = append(p.missed[:0], p.missed[1:]...)
		}
		p.missed = append(p.missed, missed{now, by})
	}
	p.due = now.Add(beat)
}

// worst is the most that a beat between the two times was late; one that should have
// come before the end and did not counts as well.
func (p *pulse) worst(from, to time.Time) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	worst := max(to.Sub(p.due), 0)
	for _, m := range p.missed {
		if began := m.at.Add(-m.by); m.at.After(from) && began.Before(to) {
			worst = max(worst, m.by)
		}
	}
	return worst
}

// judge marks an answer that is bad for want of time when the time was wanting here:
// the end of the timeout was noticed late, or this process stood still meanwhile, by
// more than a quarter of the timeout.
func (p *pulse) judge(a health.Answer, timeout time.Duration) health.Answer {
	a.Why = words.Plain(a.Why, words.Outside)
	if a.Good || a.Took < timeout {
		return a
	}
	noticed := a.Took - timeout
	stood := p.worst(a.At, a.At.Add(a.Took))
	if by := max(noticed, stood); by > timeout/4 {
		a.Late = true
		a.Why = fmt.Sprintf("%s, which does not count: the service itself was short of processor time, %s late", a.Why, words.Span(by))
	}
	return a
}
