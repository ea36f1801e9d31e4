// Package balancer is what the service asks of whatever spreads requests.
package balancer

// Pool is what a listener should do.
type Pool struct {
	Name    string
	Listen  string // address:port
	Targets []Target
}

// Target is one instance in a pool.
type Target struct {
	Instance string
	Group    string
	Version  string // of its template
	Address  string // host:port
	// Open targets get new requests. A closed one finishes those it has.
	Open bool
}

// Driver spreads requests over targets.
type Driver interface {
	// Apply makes the pool as it is given: its listener open, its targets those.
	// A target that is no longer named is closed and forgotten.
	Apply(p Pool)
	// Remove closes the pool's listener and forgets its targets.
	Remove(pool string)
	// InFlight is how many requests an instance has in all pools.
	InFlight(instance string) int
	// Stats returns what a pool has done, with its targets in order.
	Stats(pool string) (Stats, bool)
	// Watch has idle called whenever a closed target finishes its last request.
	Watch(idle func(instance string))
	// Close closes all listeners and lets requests finish for a moment.
	Close()
}

// Stats is what a pool has done since it was made.
type Stats struct {
	// Trouble is why the listener is not open, or "".
	Trouble  string
	Requests int64
	Failures int64 // answered 5xx or not at all
	Targets  []TargetStats
}

// TargetStats is what a target has done since it was made.
type TargetStats struct {
	Target
	InFlight    int
	Requests    int64
	Failures    int64   // answered 5xx or not at all
	Retried     int64   // not taken by it, and tried on another
	MedianMS    float64 // of the last answers
	Percent99MS float64
}
