// Package probe asks instances whether they are well and reports when a
// verdict changes. An answer like the one before goes no further.
package probe

import (
	"container/heap"
	"hash/fnv"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/caught"
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

	slots chan struct{} // one for each question under way

	mu      sync.Mutex
	watches map[string]map[string]*watch // by instance and check
	due     schedule
	woken   chan struct{} // the first of the schedule may be another
	keeping int           // of them, that keep their connections
	done    sync.WaitGroup
	closed  bool
	ended   chan struct{}
}

// mostAtOnce is how many questions may be under way. Who hangs holds one until its
// timeout.
const mostAtOnce = 8192

// New makes a prober that reports changed verdicts to changed.
func New(changed func(instance string, r health.Report)) *Prober {
	p := &Prober{changed: changed, ask: newAsker(), watches: map[string]map[string]*watch{}, pulse: newPulse(),
		slots: make(chan struct{}, mostAtOnce), woken: make(chan struct{}, 1), ended: make(chan struct{})}
	p.done.Go(caught.Func("running checks", func() {
		for caught.Do("running checks", p.run) != nil { // it ends only when the prober does
		}
	}))
	p.done.Go(caught.Func("the pulse of checks", p.pulse.run))
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
		check: c, instance: instance, address: address, due: time.Now(),
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
	heap.Push(&p.due, w)
	p.wake()
}

func (p *Prober) wake() {
	select {
	case p.woken <- struct{}{}:
	default:
	}
}

// Forget stops asking instances.
func (p *Prober) Forget(instances ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, instance := range instances {
		for _, w := range p.watches[instance] {
			w.over.Store(true)
			if w.place >= 0 {
				heap.Remove(&p.due, w.place)
			}
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
		close(p.ended)
	}
	p.closed = true
	for instance, checks := range p.watches {
		for _, w := range checks {
			w.over.Store(true)
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
	over              atomic.Bool     // nobody wants to know any more
	keep              bool            // its connection between questions
	counter           *health.Counter // of whoever asks, one at a time

	due   time.Time // under the prober's lock, as place is
	place int       // in the schedule; -1 while it is asked
	asked int       // of whoever asks

	mu       sync.Mutex
	answers  []health.Answer
	standing health.Report
}

// schedule is a heap of watches, the next one first.
type schedule []*watch

func (s schedule) Len() int           { return len(s) }
func (s schedule) Less(i, j int) bool { return s[i].due.Before(s[j].due) }
func (s schedule) Swap(i, j int) {
	s[i], s[j] = s[j], s[i]
	s[i].place, s[j].place = i, j
}

// Push adds a watch at the end, for package heap.
func (s *schedule) Push(x any) {
	w := x.(*watch)
	w.place = len(*s)
	*s = append(*s, w)
}

// Pop takes the last watch, for package heap.
func (s *schedule) Pop() any {
	old := *s
	w := old[len(old)-1]
	old[len(old)-1] = nil
	*s = old[:len(old)-1]
	w.place = -1
	return w
}

// run has whoever is due asked, until the prober is closed.
func (p *Prober) run() {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-p.ended:
			return
		case <-p.woken:
		case <-timer.C:
		}
		for {
			w, wait := p.next(time.Now())
			if w == nil {
				timer.Reset(wait)
				break
			}
			select {
			case p.slots <- struct{}{}:
			case <-p.ended:
				return
			}
			p.done.Go(func() {
				defer caught.Told("a check", nil)
				defer func() { <-p.slots }()
				p.once(w)
			})
		}
	}
}

// next takes the first watch that is due, or tells how long it is until one is.
func (p *Prober) next(now time.Time) (w *watch, wait time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.due) == 0 {
		return nil, time.Hour
	}
	if wait = p.due[0].due.Sub(now); wait > 0 {
		return nil, wait
	}
	return heap.Pop(&p.due).(*watch), 0
}

// once asks: at first at once, then after a part of the interval that differs from
// instance to instance, so that those launched together are not asked together for the
// rest of their lives, then at every interval.
func (p *Prober) once(w *watch) {
	defer p.again(w)
	a := p.answer(w)
	p.asked.Add(1)
	if a.Late {
		p.late.Add(1)
	}
	if w.over.Load() { // the instance is on its way out; its last answer counts no more
		return
	}
	changed := w.counter.Add(a)
	w.remember(a)
	if changed {
		p.changed(w.instance, health.Report{
			Check: w.check.Name, Verdict: w.counter.Verdict(), Since: a.At.Add(a.Took), Why: w.counter.Evidence(),
		})
	}
}

// answer asks once. A fault of the service's own says nothing of the instance.
func (p *Prober) answer(w *watch) (a health.Answer) {
	begun := time.Now()
	if fault := caught.Do("a check", func() { a = p.pulse.judge(p.ask.once(w.address, w.check, w.keep), w.check.Timeout) }); fault != nil {
		a = health.Answer{At: begun.UTC(), Took: time.Since(begun), Late: true, Why: "the service failed in asking, which does not count"}
	}
	return a
}

// again has the watch asked at its next time.
func (p *Prober) again(w *watch) {
	next := w.due.Add(w.check.Interval)
	if w.asked == 0 {
		next = w.due.Add(w.phase())
	}
	w.asked++
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed || w.over.Load() {
		return
	}
	w.due = next
	if now := time.Now(); next.Before(now) {
		w.due = now
	}
	heap.Push(&p.due, w)
	if w.place == 0 {
		p.wake()
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
