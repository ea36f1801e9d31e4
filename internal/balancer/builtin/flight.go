package builtin

import (
	"sync"
	"sync/atomic"
)

// flights counts the requests of every instance in all pools, and what is in flight to
// targets that are in none any more.
type flights struct {
	mu  sync.Mutex // of coming and going, not of counting
	all sync.Map   // of instance to *flight
}

// flight is how many requests one instance has, and how many it answered.
type flight struct {
	n         atomic.Int64
	answered  atomic.Int64
	failed    atomic.Int64              // of them: 5xx, or no answer at all
	in, out   atomic.Int64              // bytes of bodies
	histogram atomic.Pointer[histogram] // of how long answers took, once somebody asked
	targets   atomic.Int64              // that count here and are in a pool
	of        *flights
	instance  string
}

// find is the count of an instance, nil when there is none.
func (f *flights) find(instance string) *flight {
	one, _ := f.all.Load(instance)
	found, _ := one.(*flight)
	return found
}

func (f *flights) of(instance string) int {
	if one := f.find(instance); one != nil {
		return int(one.n.Load())
	}
	return 0
}

// take is the count of an instance, for one more of its targets.
func (f *flights) take(instance string) *flight {
	f.mu.Lock()
	defer f.mu.Unlock()
	one, _ := f.all.LoadOrStore(instance, &flight{of: f, instance: instance})
	one.(*flight).targets.Add(1)
	return one.(*flight)
}

// drop says that a target is in its pool no more.
func (f *flight) drop() {
	if f.targets.Add(-1) == 0 {
		f.forget()
	}
}

func (f *flight) leave() {
	if f.n.Add(-1) == 0 && f.targets.Load() == 0 {
		f.forget()
	}
}

// forget ends the count once nobody needs it.
func (f *flight) forget() {
	f.of.mu.Lock()
	defer f.of.mu.Unlock()
	if f.targets.Load() == 0 && f.n.Load() == 0 {
		f.of.all.CompareAndDelete(f.instance, f)
	}
}
