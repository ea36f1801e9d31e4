// Package feed tells what changed, wherever on this database it was changed, in one
// order for all. What it tells stands in the outbox: who comes back with the number of
// the last event that he saw misses nothing.
package feed

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"unitas/internal/caught"
	"unitas/internal/store"
)

const (
	// buffer is what a follower may be behind before it is cut off.
	buffer = 4096
	// page is how many events are read at once.
	page = 500
	// lookEvery is how often is looked for what nobody told of: a replica that died
	// between its commit and its word, or a connection that fell silent.
	lookEvery = time.Second
)

// Feed reads the outbox once for all who follow it here.
type Feed struct {
	store *store.Store
	log   *slog.Logger
	woken chan struct{} // something was written here, or numbered anywhere
	fresh chan struct{} // something was written here
	last  int64         // the number of the newest that was told; of Run alone

	mu        sync.Mutex
	followers map[chan store.Event]bool
	ended     bool
}

// Open makes a feed of what is written to the store from now on; Run must run beside it.
func Open(ctx context.Context, s *store.Store, log *slog.Logger) (*Feed, error) {
	last, err := s.LastEvent(ctx)
	if err != nil {
		return nil, fmt.Errorf("read how far the events are: %w", err)
	}
	f := &Feed{store: s, log: log, last: last, woken: make(chan struct{}, 1), fresh: make(chan struct{}, 1), followers: map[chan store.Event]bool{}}
	s.OnWrite(func([]store.Touched) { wake(f.fresh) })
	return f, nil
}

func wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Run hands events to those who follow until the context ends, and ends their channels
// then.
func (f *Feed) Run(ctx context.Context) {
	defer f.end()
	var beside sync.WaitGroup
	defer beside.Wait()
	beside.Go(caught.Loop(ctx, "hearing of changes", func() { f.listen(ctx) }))
	beside.Go(caught.Loop(ctx, "numbering changes", func() { f.number(ctx) }))
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		f.publish(ctx)
		select {
		case <-ctx.Done():
			return
		case <-f.woken:
		case <-tick.C:
		}
	}
}

// number gives numbers to what was written.
func (f *Feed) number(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-f.fresh:
		case <-tick.C:
		}
		n, err := f.store.NumberEvents(ctx)
		if err == nil && n > 0 {
			wake(f.woken)
			wake(f.fresh) // there may be more
		}
	}
}

// listen hears of what was numbered by other replicas, on a connection of its own.
func (f *Feed) listen(ctx context.Context) {
	for ctx.Err() == nil {
		err := f.store.Listen(ctx, func() { wake(f.woken) })
		if ctx.Err() != nil {
			return
		}
		f.log.Debug("the connection that hears of changes ended; it is made again", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(lookEvery):
		}
	}
}

func (f *Feed) publish(ctx context.Context) {
	for {
		events, err := f.store.Events(ctx, f.last, page)
		if err != nil || len(events) == 0 {
			return
		}
		f.mu.Lock()
		for _, e := range events {
			for w := range f.followers {
				select {
				case w <- e:
				default: // too far behind
					close(w)
					delete(f.followers, w)
				}
			}
		}
		f.mu.Unlock()
		f.last = events[len(events)-1].Number
	}
}

// Follow returns a channel of all events from now on. It is closed when the feed ends,
// or when who follows is too far behind: he may read what he missed from the store and
// follow anew.
func (f *Feed) Follow() chan store.Event {
	f.mu.Lock()
	defer f.mu.Unlock()
	w := make(chan store.Event, buffer)
	if f.ended {
		close(w)
		return w
	}
	f.followers[w] = true
	return w
}

// Leave ends that a channel is told anything.
func (f *Feed) Leave(w chan store.Event) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.followers, w)
}

func (f *Feed) end() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ended = true
	for w := range f.followers {
		close(w)
		delete(f.followers, w)
	}
}
