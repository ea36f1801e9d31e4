// Package probe asks instances whether they are well and reports when a
// verdict changes. An answer like the one before goes no further.
package probe

import (
	"hash/fnv"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/conns"
	"unitas/internal/fleet/health"
)

// Kept is how many answers of each instance and check are remembered.
const Kept = 20

// Prober runs checks. Its methods are safe for concurrent use.
type Prober struct {
	// changed is called from the goroutine that asks, once for every changed
	// verdict, in order for each instance and check.
	changed func(instance string, r health.Report)
	ask     asker
	asked   atomic.Int64
	late    atomic.Int64
	pulse   *pulse

	mu      sync.Mutex
	watches map[string]map[string]*watch // by instance and check
	keeping int                          // of them, that keep their connections
	done    sync.WaitGroup
	closed  bool
}

// New makes a prober that reports changed verdicts to changed.
func New(changed func(instance string, r health.Report)) *Prober {
	p := &Prober{changed: changed, ask: newAsker(), watches: map[string]map[string]*watch{}, pulse: newPulse()}
	p.done.Go(p.pulse.run)
	return p
}

// Asked is how many questions were asked so far.
func (p *Prober) Asked() int64 { return p.asked.Load() }

// Late is how many answers did not count, because this process was too short of
// processor time to judge them.
func (p *Prober) Late() int64 { return p.late.Load() }

// Watch begins to ask an instance at its address, from the verdict that was
// last known of it. A watch that is there already goes on as it is.
func (p *Prober) Watch(instance, address string, c health.Check, last health.Report) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed || p.watches[instance][c.Name] != nil {
		return
	}
	w := &watch{
		check: c, instance: instance, address: address, stop: make(chan struct{}),
		counter: health.NewCounter(c, last.Verdict), keep: p.keeping < conns.Share(0.25, 1<<17),
	}
	w.standing = health.Report{Check: c.Name, Verdict: w.counter.Verdict(), Why: "not asked yet"}
	if last.Why != "" && last.Verdict == w.standing.Verdict {
		w.standing = last
	}
	if w.keep {
		p.keeping++
	}
	if p.watches[instance] == nil {
		p.watches[instance] = map[string]*watch{}
	}
	p.watches[instance][c.Name] = w
	p.done.Go(func() { p.run(w) })
}

// Forget stops asking instances.
func (p *Prober) Forget(instances ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, instance := range instances {
		for _, w := range p.watches[instance] {
			close(w.stop)
			if w.keep {
				p.keeping--
			}
		}
		delete(p.watches, instance)
	}
}

// Answers returns the last answers of an instance to a check, newest last.
func (p *Prober) Answers(instance, check string) []health.Answer {
	p.mu.Lock()
	w := p.watches[instance][check]
	p.mu.Unlock()
	if w == nil {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]health.Answer(nil), w.answers...)
}

// Standing is what a check says of an instance now, and how far its answers are from
// another verdict; ok is false when it is not asked.
func (p *Prober) Standing(instance, check string) (r health.Report, ok bool) {
	p.mu.Lock()
	w := p.watches[instance][check]
	p.mu.Unlock()
	if w == nil {
		return health.Report{}, false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.standing, true
}

// Close stops asking altogether.
func (p *Prober) Close() {
	p.mu.Lock()
	if !p.closed {
		close(p.pulse.stop)
	}
	p.closed = true
	for instance, checks := range p.watches {
		for _, w := range checks {
			close(w.stop)
		}
		delete(p.watches, instance)
	}
	p.mu.Unlock()
	p.done.Wait()
	p.ask.close()
}

// watch is one check of one instance.
type watch struct {
	check             health.Check
	instance, address string
	stop              chan struct{}
	keep              bool            // its connection between questions
	counter           *health.Counter // of the asking goroutine alone

	mu       sync.Mutex
	answers  []health.Answer
	standing health.Report
}

// run asks at once, then again after a part of the interval that differs from
// instance to instance, so that those launched together are not asked together
// for the rest of their lives, then at every interval.
func (p *Prober) run(w *watch) {
	interval := w.check.Interval
	next := time.Now()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for n := 0; ; n++ {
		select {
		case <-w.stop:
			return
		case <-timer.C:
		}
		a := p.pulse.judge(p.ask.once(w.address, w.check, w.keep), w.check.Timeout)
		p.asked.Add(1)
		if a.Late {
			p.late.Add(1)
		}
		select {
		case <-w.stop: // the instance is on its way out; its last answer counts no more
			return
		default:
		}
		changed := w.counter.Add(a)
		w.remember(a)
		if changed {
			p.changed(w.instance, health.Report{
				Check: w.check.Name, Verdict: w.counter.Verdict(), Since: a.At.Add(a.Took), Why: w.counter.Evidence(),
			})
		}
		if n == 0 {
			next = next.Add(w.phase())
		} else {
			next = next.Add(interval)
		}
		if now := time.Now(); next.Before(now) {
			next = now
		}
		timer.Reset(time.Until(next))
	}
}

// phase is between a half and a whole interval.
func (w *watch) phase() time.Duration {
	h := fnv.New32a()
	_, _ = h.Write([]byte(w.instance + "/" + w.check.Name))
	return w.check.Interval/2 + time.Duration(float64(w.check.Interval)/2*float64(h.Sum32())/float64(1<<32))
}

func (w *watch) remember(a health.Answer) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.standing.Verdict != w.counter.Verdict() {
		w.standing.Since = a.At.Add(a.Took)
	}
	w.standing.Verdict, w.standing.Why = w.counter.Verdict(), w.counter.Progress()
	if a.Late {
		w.standing.Why += "; " + a.Why
	}
	if len(w.answers) == Kept {
		copy(w.answers, w.answers[1:])
		w.answers = w.answers[:Kept-1]
	}
	w.answers = append(w.answers, a)
}
