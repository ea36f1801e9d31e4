// Package caught keeps a fault of one goroutine from ending the service: it is logged with its
// stack, counted, and told as that of the one request, group or target whose work it was.
//
// What a server of net/http calls with a request is caught by that server. Everything else that
// runs in a goroutine of its own, or is called by one that is not ours, goes through here; a test
// reads the source and names what does not.
package caught

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"runtime/debug"
	"sync"
	"time"
)

// Panic is a fault that was caught, as an error of whoever it happened to.
type Panic struct {
	Where string // in which work
	What  any    // it panicked with
}

func (f *Panic) Error() string {
	return fmt.Sprintf("a fault of the service in %s: %v", f.Where, f.What)
}

var (
	mu     sync.Mutex
	counts = map[string]int64{} // by Where, of which there are as many as places in the source
)

// Counts is how many faults were caught, by where.
func Counts() map[string]int64 {
	mu.Lock()
	defer mu.Unlock()
	return maps.Clone(counts)
}

// note logs and counts.
func note(where string, what any) *Panic {
	mu.Lock()
	counts[where]++
	mu.Unlock()
	slog.Error("a fault was caught; what it happened to has failed, and all else goes on", "where", where, "fault", fmt.Sprint(what), "stack", string(debug.Stack()))
	return &Panic{Where: where, What: what}
}

// Go runs f in a goroutine of its own.
func Go(where string, f func()) { go Func(where, f)() }

// Func is f as somebody else may run it in a goroutine, such as a timer.
func Func(where string, f func()) func() {
	return func() {
		defer Told(where, nil)
		f()
	}
}

// Do runs f here, and returns a fault of it.
func Do(where string, f func()) (err error) {
	defer Into(where, &err)
	f()
	return nil
}

// Told is deferred: it catches a fault, and tells it when tell is not nil.
func Told(where string, tell func(error)) {
	if what := recover(); what != nil {
		fault := note(where, what)
		if tell != nil {
			tell(fault)
		}
	}
}

// Into is deferred: it catches a fault, which becomes the error that is returned.
func Into(where string, err *error) {
	if what := recover(); what != nil {
		*err = note(where, what)
	}
}

// pause is how long what failed is left alone before it goes on.
const pause = time.Second

// Loop is f as somebody else may run it, begun anew after a fault until the context ends: for work
// that all else rests on.
func Loop(ctx context.Context, where string, f func()) func() {
	return func() {
		for Do(where, f) != nil {
			select {
			case <-time.After(pause):
			case <-ctx.Done():
				return
			}
		}
	}
}
