// Package balancer is what the service asks of whatever spreads requests.
package balancer

import (
	"context"
	"encoding/json"
	"math"
	"net/http"
	"time"

	"unitas/internal/fleet/traffic"
)

// Pool is what is done with its requests.
type Pool struct {
	Name string
	// As is when this was so, in the order of whoever tells: what was shut later stays
	// shut.
	As int64
	// Known is false while the targets of some group are not known yet: a request
	// that finds no target then waits for a moment.
	Known bool
	// LeastBusy sends a request to the target with the fewest in flight for its
	// weight; otherwise they go in turn.
	LeastBusy bool
	// TryAll tries targets that are closed for being ill when none is open.
	TryAll bool
	// SlowStart is how long a fresh target takes to come to its full share.
	SlowStart time.Duration
	// Spoken is how the targets are spoken to. Trusted is the file of the certificates that
	// theirs must be signed by, when it names some.
	Spoken  traffic.Targets
	Trusted string
	Targets []Target
}

// Listener takes requests or connections on an address:port.
type Listener struct {
	traffic.Listener
	Pairs []Pair // its certificates, in order
}

// Pair are the files of a certificate, in PEM; they are read again when they change.
type Pair struct{ Name, Chain, Key string }

// Target is one instance in a pool.
type Target struct {
	Instance string
	Group    string
	Version  string // of its template
	Address  string // host:port
	Region   string
	// Open targets get new requests. A closed one finishes those it has.
	Open bool
	// Weight is its part against the other targets; 0 gets none.
	Weight float64
	// Last may be tried when nobody is open: it is ill, and not on its way out.
	Last bool
}

// Driver spreads requests over targets.
type Driver interface {
	// Sync makes the pool as it is given, its targets those. Once it returned without an
	// error all others are closed: they get no new request. Of those that are no longer
	// named the requests in flight count on.
	Sync(ctx context.Context, p Pool) error
	// Listen opens and closes addresses until the listeners are those. What is under way on
	// one that is changed or closed goes on.
	Listen(listeners []Listener)
	// Listening tells how the listeners are, in their order.
	Listening() []ListenerStats
	// Shut closes an instance in a pool at once, until a Sync of what was so later. It
	// waits for nothing.
	Shut(pool, instance string, as int64)
	// Try tells where a request would go now, without sending it.
	Try(address string, r Trial) (Trace, bool)
	// AccessLog are the newest lines of what a listener wrote down, the oldest of them first, at
	// most so many, and the file that has them all.
	AccessLog(address string, most int) (lines []json.RawMessage, file string, err error)
	// Remove forgets a pool with its targets; no listener sends to it any more.
	Remove(pool string)
	// InFlight is how many requests an instance has in all pools; known is false when that
	// cannot be told now.
	InFlight(instance string) (n int, known bool)
	// Answered is how many requests an instance has answered in all pools, or should have,
	// and how many of them failed: 5xx, or no answer at all. Both only grow for as long as it
	// is a target.
	Answered(instance string) (n, failed int64)
	// Untaken is how many requests of a pool no target was there for, or took; it only grows.
	Untaken(pool string) int64
	// Slower is how many requests an instance has answered since somebody first asked this of
	// it, and how many of them took longer to the first byte, as far as that is told apart.
	Slower(instance string, than time.Duration) (n, slow int64)
	// Passed is what has gone through an instance so far; it only grows for as long as it is a
	// target. From the first time on that this is asked of it, Took counts as well.
	Passed(instance string) (p Passed, known bool)
	// Stats returns what a pool has done, with its targets in order.
	Stats(pool string) (Stats, bool)
	// Watch has idle called whenever a closed target finishes its last request.
	Watch(idle func(instance string))
	// WatchAside has aside called whenever a target was set aside for how it answers, with the
	// how manyth time in a row and why, and with 0 once it was well for as long.
	WatchAside(aside func(instance string, nth int, why string))
	// Close closes all listeners and lets requests finish for a moment.
	Close()
}

// Passed is what has gone through an instance: requests, and bytes of bodies.
type Passed struct {
	Requests, BytesIn, BytesOut int64
	// Took counts answers by how long they took to the first byte, from the shortest on.
	Took []int64
	// Until are the upper ends of what Took counts, in milliseconds.
	Until []float64
}

// Share is within how many milliseconds so large a share was answered of what was since
// before; known is false when nothing was.
func (p Passed) Share(before Passed, share float64) (ms float64, known bool) {
	if len(before.Took) != len(p.Took) {
		return 0, false
	}
	total := int64(0)
	for k := range p.Took {
		total += p.Took[k] - before.Took[k]
	}
	rank, seen := int64(math.Ceil(share*float64(total))), int64(0)
	for k := range p.Took {
		if seen += p.Took[k] - before.Took[k]; total > 0 && seen >= max(rank, 1) {
			return p.Until[k], true
		}
	}
	return 0, false
}

// Trial is a request that is not sent.
type Trial struct {
	Method, Host, Path string
	Header             http.Header
	Caller             string // address
}

// Trace is where a request would go.
type Trace struct {
	Route  int    // from 1; 0 when none took it
	Split  string // the pool that the route diverts it to, or ""
	Pool   string // that takes it in the end; "" when none does
	Target *Target
	// Status is what it is answered when nobody gets it, 0 when somebody does.
	Status int
	Why    []string
}

// Stats is what a pool has done since it was made.
type Stats struct {
	Requests int64
	Failures int64 // answered 5xx or not at all
	Targets  []TargetStats
	Versions []VersionStats
}

// ListenerStats is how a listener is.
type ListenerStats struct {
	Listener
	// Trouble is why it is not open, or why a changed certificate was not taken.
	Trouble string
	Expires time.Time // of the certificate that ends first; zero without one
	// Connections are those that are open.
	Connections int
	// Requests came since it was made; Refused of them passed a limit, Malformed could not be passed
	// on, Unrouted were for nobody.
	Requests, Refused, Malformed, Unrouted int64
	// Of those refused, by which limit of their caller: connections at once or a second, and
	// requests a second. One connection may have several requests refused.
	OverConnections, OverConnectionRate, OverRequestRate int64
	// Order are the regions, the nearest first, with how long a connection there takes to be
	// made when that is measured; Spill tells why not the nearest alone has the requests.
	Order []traffic.Reached
	Spill string
	// Unwritten is how many lines of the log there was no time for.
	Unwritten int64
}

// TargetStats is what a target has done since it was made.
type TargetStats struct {
	Target
	// Share is its part of new requests now, 0 to 1.
	Share float64
	// Aside is until when it gets none because of how it answered, or refused; zero when it
	// is not set aside. Why, and the how manyth time in a row it is.
	Aside    time.Time
	AsideWhy string
	AsideNth int
	InFlight int
	Requests int64
	Failures int64 // answered 5xx or not at all
	Retried  int64 // not taken by it, and tried on another
	Windows  []Window
	// WaitsFor are the requests that a closed target still has, oldest first, at
	// most ten.
	WaitsFor []Request
}

// VersionStats is what all targets of one template version did.
type VersionStats struct {
	Version  string
	InFlight int
	Windows  []Window
}

// Window is what was answered in the last minutes.
type Window struct {
	Minutes  int
	Requests int64
	// Status counts the answers by their class: 1 for 1xx, …; 0 for none at all.
	Status [6]int64
	// Percentiles of the time to the first byte, in ms.
	Median, P95, P99 float64
}

// PathStats is what was answered under one path; "" stands for all that are not told apart.
type PathStats struct {
	Path   string
	Status [6]int64 // by class, as in [Window]
}

// Requests is how many there were.
func (s PathStats) Requests() (n int64) {
	for _, c := range s.Status {
		n += c
	}
	return n
}

// Pather is a driver that tells what a template version answered in a pool, by where the
// requests went: without what follows a question mark, a bounded number of paths.
type Pather interface {
	Paths(pool, version string) []PathStats
}

// Request is one that is in flight.
type Request struct {
	Method, Path string
	Since        time.Time
}
