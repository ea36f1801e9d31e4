package builtin

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
)

// target is one instance in one pool. Its counters outlive changes of its
// settings.
type target struct {
	balancer.Target
	host     string
	open     atomic.Bool
	inFlight atomic.Int64
	requests atomic.Int64
	failures atomic.Int64
	retried  atomic.Int64
	took     latencies
	idle     func(instance string)
}

// take begins a request unless the target is closed. The count goes up before
// open is looked at, and a closer looks at the count after it closed: so a
// closed target with nothing in flight gets nothing more, ever.
func (t *target) take() bool {
	t.inFlight.Add(1)
	if t.open.Load() {
		return true
	}
	t.leave()
	return false
}

// leave ends a request.
func (t *target) leave() {
	if t.inFlight.Add(-1) == 0 && !t.open.Load() && t.idle != nil {
		t.idle(t.Instance)
	}
}

// latencies are those of the last thousand answers.
type latencies struct {
	mu   sync.Mutex
	ring [1000]float32 // ms
	n    int
}

func (l *latencies) add(d time.Duration) {
	l.mu.Lock()
	l.ring[l.n%len(l.ring)] = float32(d.Seconds() * 1000)
	l.n++
	l.mu.Unlock()
}

// quantiles returns the nearest-rank median and 99th percentile in ms.
func (l *latencies) quantiles() (median, p99 float64) {
	l.mu.Lock()
	sorted := slices.Clone(l.ring[:min(l.n, len(l.ring))])
	l.mu.Unlock()
	if len(sorted) == 0 {
		return 0, 0
	}
	slices.Sort(sorted)
	at := func(q float64) float64 { return float64(sorted[min(int(q*float64(len(sorted))), len(sorted)-1)]) }
	return at(0.5), at(0.99)
}
