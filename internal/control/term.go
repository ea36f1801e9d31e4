package control

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"unitas/internal/caught"
)

// term is for how long this replica may act: until its lease runs out, unless it is
// renewed before. What it does ends with it.
type term struct {
	mu    sync.Mutex
	ctx   context.Context
	end   context.CancelCauseFunc
	until time.Time // on the monotonic clock
	timer *time.Timer
}

// errTermOver is the cause of what ends with the lease.
var errTermOver = errors.New("the lease of this service ran out")

func newTerm() *term {
	t := &term{}
	t.ctx, t.end = context.WithCancelCause(context.Background())
	t.end(errTermOver)
	return t
}

// renewed lets the term last for a time from when it was asked for.
func (t *term) renewed(asked time.Time, last time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	until := asked.Add(last)
	if time.Until(until) <= 0 { // the answer came too late
		return
	}
	if t.ctx.Err() != nil {
		t.ctx, t.end = context.WithCancelCause(context.Background())
	}
	t.until = until
	if t.timer != nil {
		t.timer.Stop()
	}
	end := t.end
	t.timer = time.AfterFunc(time.Until(until), func() {
		defer caught.Told("the end of a term", nil)
		t.mu.Lock()
		defer t.mu.Unlock()
		if time.Until(t.until) <= 0 {
			end(errTermOver)
		}
	})
}

// over ends the term now.
func (t *term) over() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.until = time.Time{}
	t.end(errTermOver)
}

// holds reports whether the replica may act now. A process that was stopped in between
// learns it here, whatever its timers had time for.
func (t *term) holds() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.ctx.Err() == nil && time.Until(t.until) > 0
}

// context ends with the term.
func (t *term) context() context.Context {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.ctx
}

// ended reports whether it was the end of the term that ended a context.
func (t *term) ended(ctx context.Context) bool { return errors.Is(context.Cause(ctx), errTermOver) }

// others are the other replicas that are alive.
type others struct {
	mu    sync.Mutex
	alive []string
}

func (o *others) set(alive []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.alive = alive
}

func (o *others) any() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.alive) > 0
}

// areAfter reports whether this one is the first of all by their ids: what one of them is to do, it does.
func (o *others) areAfter(self string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return !slices.ContainsFunc(o.alive, func(id string) bool { return id < self })
}

// quiet reports whether all of them are among those that said so.
func (o *others) quiet(said map[string]bool) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return !slices.ContainsFunc(o.alive, func(id string) bool { return !said[id] })
}

// gates let so many in at once by each.
type gates struct {
	at int

	mu  sync.Mutex
	all map[string]chan struct{}
}

// enter waits until there is room at a gate, and returns what gives it back.
func (g *gates) enter(ctx context.Context, name string) (done func(), err error) {
	g.mu.Lock()
	gate := g.all[name]
	if gate == nil {
		gate = make(chan struct{}, g.at)
		g.all[name] = gate
	}
	g.mu.Unlock()
	select {
	case gate <- struct{}{}:
		return func() { <-gate }, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}
