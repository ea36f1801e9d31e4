// Package probe asks instances whether they are well and reports when a
// verdict changes. An answer like the one before goes no further.
package probe

import (
	"hash/fnv"
	"maps"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

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

	mu      sync.Mutex
	watches map[key]*watch
	keeping int // of them, that keep their connections
	done    sync.WaitGroup
	closed  bool
}

type key struct{ instance, check string }

// New makes a prober that reports changed verdicts to changed.
func New(changed func(instance string, r health.Report)) *Prober {
	return &Prober{changed: changed, ask: newAsker(), watches: map[key]*watch{}}
}

// Asked is how many questions were asked so far.
func (p *Prober) Asked() int64 { return p.asked.Load() }

// Watch begins to ask an instance at its address, from the verdict that was
// last known of it. A watch that is there already goes on as it is.
func (p *Prober) Watch(instance, address string, c health.Check, last health.Report) {
	p.mu.Lock()
	defer p.mu.Unlock()
	k := key{instance, c.Name}
	if p.closed || p.watches[k] != nil {
		return
	}
	w := &watch{
		check: c, instance: instance, address: address, stop: make(chan struct{}),
		counter: health.NewCounter(c, last.Verdict), keep: p.keeping < mostKept(),
	}
	if w.keep {
		p.keeping++
	}
	p.watches[k] = w
	p.done.Go(func() { p.run(w) })
}

// Forget stops asking an instance.
func (p *Prober) Forget(instance string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.DeleteFunc(p.watches, func(k key, w *watch) bool {
		if k.instance != instance {
			return false
		}
		close(w.stop)
		if w.keep {
			p.keeping--
		}
		return true
	})
}

// mostKept is how many connections may be kept between questions: half of what
// this process may have open. The others are made anew for every question.
var mostKept = sync.OnceValue(func() int {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return 500
	}
	return int(min(limit.Cur/2, 1<<30))
})

// Answers returns the last answers of an instance to a check, newest last.
func (p *Prober) Answers(instance, check string) []health.Answer {
	p.mu.Lock()
	w := p.watches[key{instance, check}]
	p.mu.Unlock()
	if w == nil {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]health.Answer(nil), w.answers...)
}

// Close stops asking altogether.
func (p *Prober) Close() {
	p.mu.Lock()
	p.closed = true
	for k, w := range p.watches {
		close(w.stop)
		delete(p.watches, k)
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

	mu      sync.Mutex
	answers []health.Answer
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
		a := p.ask.once(w.address, w.check, w.keep)
		p.asked.Add(1)
		select {
		case <-w.stop: // the instance is on its way out; its last answer counts no more
			return
		default:
		}
		w.remember(a)
		if w.counter.Add(a) {
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
	if len(w.answers) == Kept {
		copy(w.answers, w.answers[1:])
		w.answers = w.answers[:Kept-1]
	}
	w.answers = append(w.answers, a)
}
