package builtin

import (
	"slices"
	"sync"
	"sync/atomic"
)

// flights counts what every instance has in all pools, and what is in flight to targets
// that are in none any more.
type flights struct {
	mu  sync.Mutex // of coming and going, not of counting
	all sync.Map   // of instance to *flight
}

// flight is what one instance answered.
type flight struct {
	answered  atomic.Int64
	failed    atomic.Int64              // of them: 5xx, or no answer at all
	histogram atomic.Pointer[histogram] // of how long answers took, once somebody asked
	of        *flights
	instance  string

	mu      sync.Mutex
	targets []*target // that are in a pool, or have something in flight
	in, out int64     // bytes of those that went
}

// find is the count of an instance, nil when there is none.
func (f *flights) find(instance string) *flight {
	one, _ := f.all.Load(instance)
	found, _ := one.(*flight)
	return found
}

// inFlight is how many requests an instance has.
func (f *flights) inFlight(instance string) (n int) {
	if one := f.find(instance); one != nil {
		for _, t := range one.has() {
			n += int(t.tallies.inFlight())
		}
	}
	return n
}

func (f *flight) has() []*target {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Clone(f.targets)
}

func (f *flight) bytes() (in, out int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	in, out = f.in, f.out
	for _, t := range f.targets {
		i, o := t.tallies.bytes()
		in, out = in+i, out+o
	}
	return in, out
}

// take has a new target count with its instance.
func (f *flights) take(t *target) {
	f.mu.Lock()
	defer f.mu.Unlock()
	found, _ := f.all.LoadOrStore(t.instance, &flight{of: f, instance: t.instance})
	one := found.(*flight)
	one.mu.Lock()
	one.targets = append(one.targets, t)
	one.mu.Unlock()
	t.flight = one
}

// drop ends the count of a target that is in no pool once nothing is in flight there, and that
// of its instance with its last.
func (f *flight) drop(t *target) {
	f.of.mu.Lock()
	defer f.of.mu.Unlock()
	f.mu.Lock()
	defer f.mu.Unlock()
	at := slices.Index(f.targets, t)
	if at < 0 || t.tallies.inFlight() > 0 {
		return
	}
	f.targets = slices.Delete(f.targets, at, at+1)
	in, out := t.tallies.bytes()
	f.in, f.out = f.in+in, f.out+out
	if len(f.targets) == 0 {
		f.of.all.CompareAndDelete(f.instance, f)
	}
}
