// Package builtin is the balancer inside the service: a reverse proxy on each
// pool's listeners that sends every request to one of the pool's targets.
//
// Its words: a door is an open address, a front its HTTP server, a link a connection of a caller to
// it. An exchange is one request, an attempt a try at one target, whose fate is what became of it
// and whose blame is whom that is put down to. The ledger counts, in pages that few connections
// share; a tally is what the connections of a page have at a target. A target that is aside is
// ejected, for how it answers or since it refuses.
package builtin

import (
	"cmp"
	"context"
	"log/slog"
	"maps"
	"math"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/accesslog"
	"unitas/internal/balancer/wire"
	"unitas/internal/caught"
	"unitas/internal/conns"
)

// Balancer is the builtin driver. Its methods are safe for concurrent use.
type Balancer struct {
	log      *slog.Logger
	guard    *conns.Guard
	open     Listen
	access   *accesslog.Files
	key      []byte // that cookies are signed with
	room     *wire.Room
	most     int           // connections that may rest at targets
	patience time.Duration // with a target that may not want a body

	ledger  *ledger
	flights flights
	bodies  atomic.Int64   // of which the beginning is kept
	ending  sync.WaitGroup // what was closed and has something under way
	closing chan struct{}  // closed when it ends; what is under way has a moment left
	ended   chan struct{}  // closed when that is over

	once    sync.Once
	opening sync.Mutex // of doors, one at a time
	mu      sync.Mutex
	handles map[string]*poolHandle
	pools   map[string]*pool
	doors   map[string]*door
	wanted  []balancer.Listener
	closed  map[string]string // addresses that are not open, and why
	idle    func(instance string)
	aside   atomic.Pointer[func(instance string, nth int, why string)]
}

// poolHandle is what a door holds of a pool: it may come later, and go.
type poolHandle struct{ pool atomic.Pointer[pool] }

// Listen opens an address:port.
type Listen func(address string) (net.Listener, error)

// Bare opens an address for this process alone.
func Bare(address string) (net.Listener, error) { return net.Listen("tcp", address) }

// Config is what a balancer is made of.
type Config struct {
	Log *slog.Logger
	// Open opens the addresses of its listeners; see [Bare].
	Open Listen
	// Logs is the directory of what was served.
	Logs string
	// Key is what cookies are signed with, the same in all replicas.
	Key []byte
}

// New makes a balancer without pools. Of the descriptors of this process its
// listeners take a quarter, and as many more may go to targets.
func New(c Config) *Balancer {
	room, most := conns.Share(0.25, 1<<17), conns.Share(0.125, 1<<16)
	b := &Balancer{
		log: c.Log, open: c.Open, access: accesslog.NewFiles(c.Logs, c.Log), key: c.Key, room: wire.NewRoom(most), most: most, patience: time.Second,
		guard:  conns.New(conns.Bounds{All: room, ByListener: room * 3 / 4, ByCaller: room / 2}),
		ledger: newLedger(), closing: make(chan struct{}), ended: make(chan struct{}),
		handles: map[string]*poolHandle{}, pools: map[string]*pool{}, doors: map[string]*door{}, closed: map[string]string{},
	}
	b.ending.Go(caught.Func("the housekeeping of listeners", b.keepHouse))
	return b
}

// keepHouse does what is done from time to time.
func (b *Balancer) keepHouse() {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	tick := time.NewTicker(judgeEvery)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-b.closing:
			return
		case now := <-tick.C:
			b.mu.Lock()
			pools, doors := slices.Collect(maps.Values(b.pools)), slices.Collect(maps.Values(b.doors))
			b.mu.Unlock()
			for _, p := range pools {
				_ = caught.Do("judging the targets of a pool", func() { p.judge(now) })
				if n%2 == 0 {
					for _, t := range p.lane.Load().targets {
						t.upstream.Load().rest(false)
					}
				}
			}
			if n%3600 == 0 {
				b.access.Sweep(now)
			}
			for _, d := range doors {
				if n%5 == 0 {
					b.ending.Go(caught.Func("measuring regions", func() { d.measure(ctx) }))
				}
			}
		}
	}
}

// WatchAside has aside called whenever a target was set aside for how it answers.
func (b *Balancer) WatchAside(aside func(instance string, nth int, why string)) {
	b.aside.Store(&aside)
}

// Watch has idle called whenever a closed target finishes its last request.
func (b *Balancer) Watch(idle func(string)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.idle = idle
}

// Sync makes the pool as it is given. It is done when it returns.
func (b *Balancer) Sync(_ context.Context, p balancer.Pool) error {
	have, idle := b.pool(p.Name)
	have.apply(p, idle)
	return nil
}

// pool is the one of the name, made when there is none.
func (b *Balancer) pool(name string) (have *pool, idle func(string)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if have = b.pools[name]; have == nil {
		have = b.newPool(name)
		b.pools[name] = have
		b.handleOf(name).pool.Store(have)
	}
	return have, b.idle
}

// handle is that of a pool, which may not be there.
func (b *Balancer) handle(name string) *poolHandle {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.handleOf(name)
}

func (b *Balancer) handleOf(name string) *poolHandle {
	h := b.handles[name]
	if h == nil {
		h = &poolHandle{}
		b.handles[name] = h
	}
	return h
}

// Listen opens and closes addresses until the listeners are those.
func (b *Balancer) Listen(listeners []balancer.Listener) {
	b.opening.Lock()
	defer b.opening.Unlock()
	if b.isClosing() {
		return
	}
	b.mu.Lock()
	b.wanted = slices.Clone(listeners)
	doors := maps.Clone(b.doors)
	b.mu.Unlock()
	for address, d := range doors {
		gone := !slices.ContainsFunc(listeners, func(l balancer.Listener) bool { return l.Address == address })
		if gone || d.isClosed() {
			d.close()
			b.forgetDoor(address)
			delete(doors, address)
		}
	}
	for _, l := range listeners {
		if d := doors[l.Address]; d != nil {
			d.change(l)
			continue
		}
		d, err := b.openDoor(l)
		b.mu.Lock()
		if err != nil {
			b.closed[l.Address] = err.Error()
		} else {
			b.doors[l.Address] = d
			delete(b.closed, l.Address)
		}
		b.mu.Unlock()
	}
}

func (b *Balancer) forgetDoor(address string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.doors, address)
	delete(b.closed, address)
}

// Listening tells how the listeners are.
func (b *Balancer) Listening() []balancer.ListenerStats {
	b.mu.Lock()
	wanted, doors, closed := b.wanted, maps.Clone(b.doors), maps.Clone(b.closed)
	b.mu.Unlock()
	all := make([]balancer.ListenerStats, len(wanted))
	for i, l := range wanted {
		if d := doors[l.Address]; d != nil {
			all[i] = d.stats()
		} else {
			all[i] = balancer.ListenerStats{Listener: l, Trouble: cmp.Or(closed[l.Address], "it is being opened")}
		}
	}
	return all
}

// Shut closes an instance in a pool at once.
func (b *Balancer) Shut(name, instance string, as int64) {
	b.mu.Lock()
	p := b.pools[name]
	b.mu.Unlock()
	if p == nil {
		return
	}
	for _, t := range (*p.byInstance.Load())[instance] {
		t.set(false, as)
	}
}

// Remove forgets a pool with its targets. What is in flight goes on.
func (b *Balancer) Remove(name string) {
	b.mu.Lock()
	p := b.pools[name]
	delete(b.pools, name)
	if h := b.handles[name]; h != nil {
		h.pool.Store(nil)
	}
	b.mu.Unlock()
	if p != nil {
		p.end()
	}
}

// InFlight is how many requests an instance has in all pools.
func (b *Balancer) InFlight(instance string) (n int, known bool) {
	return b.flights.inFlight(instance), true
}

// Answered is how many requests an instance has answered, and how many of them failed.
func (b *Balancer) Answered(instance string) (n, failed int64) {
	b.ledger.settle()
	if f := b.flights.find(instance); f != nil {
		n, failed = f.answered.Load(), f.failed.Load()
	}
	return n, failed
}

// Untaken is how many requests of a pool nobody took.
func (b *Balancer) Untaken(pool string) int64 {
	if p := b.named(pool); p != nil {
		return p.untaken.Load()
	}
	return 0
}

// named is the pool of a name, nil when there is none.
func (b *Balancer) named(name string) *pool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.pools[name]
}

// Slower is how many requests an instance has answered since this was first asked, and how
// many of them took longer; what took about as long (within a fifth) is not told apart.
func (b *Balancer) Slower(instance string, than time.Duration) (n, slow int64) {
	b.ledger.settle()
	f := b.flights.find(instance)
	if f == nil {
		return 0, 0
	}
	h := f.histogram.Load()
	if h == nil {
		f.histogram.CompareAndSwap(nil, new(histogram))
		return 0, 0
	}
	line := bucketOf(than)
	for bucket := range h {
		answers := int64(h[bucket].Load())
		n += answers
		if bucket > line {
			slow += answers
		}
	}
	return n, slow
}

// until are the upper ends of the buckets, in milliseconds.
var until = func() (all []float64) {
	for b := range buckets {
		all = append(all, firstBucketMS*math.Exp2(float64(b+1)/4))
	}
	return all
}()

// Passed is what has gone through an instance so far.
func (b *Balancer) Passed(instance string) (p balancer.Passed, known bool) {
	b.ledger.settle()
	f := b.flights.find(instance)
	if f == nil {
		return p, false
	}
	p = balancer.Passed{Requests: f.answered.Load(), Until: until}
	p.BytesIn, p.BytesOut = f.bytes()
	h := f.histogram.Load()
	if h == nil {
		f.histogram.CompareAndSwap(nil, new(histogram))
		return p, true
	}
	p.Took = make([]int64, buckets)
	for k := range h {
		p.Took[k] = int64(h[k].Load())
	}
	return p, true
}

// Stats returns what a pool has done.
func (b *Balancer) Stats(name string) (balancer.Stats, bool) {
	p := b.named(name)
	if p == nil {
		return balancer.Stats{}, false
	}
	return p.stats(), true
}

// lastMoment is for how long requests may end when nobody said.
const lastMoment = 3 * time.Second

// Close closes all listeners and lets requests end for a moment.
func (b *Balancer) Close() { b.Finish(lastMoment) }

// Finish closes all listeners and lets requests end for so long; then those are broken off that are
// left, and it returns how many. Pools are told of as ever until then.
func (b *Balancer) Finish(within time.Duration) (broken int) {
	b.once.Do(func() { broken = b.finish(within) })
	return broken
}

func (b *Balancer) finish(within time.Duration) (broken int) {
	close(b.closing)
	b.opening.Lock()
	defer b.opening.Unlock()
	b.mu.Lock()
	doors := b.doors
	b.doors, b.wanted = map[string]*door{}, nil
	b.mu.Unlock()
	for _, d := range doors {
		d.close()
	}
	over := make(chan struct{})
	caught.Go("the end of listeners", func() {
		b.ending.Wait()
		close(over)
	})
	select {
	case <-over:
	case <-time.After(within):
		broken = b.Requests()
	}
	close(b.ended)
	<-over
	b.mu.Lock()
	pools := b.pools
	b.pools = map[string]*pool{}
	b.mu.Unlock()
	for _, p := range pools {
		p.end()
	}
	return broken
}

// Requests are how many are in flight.
func (b *Balancer) Requests() (n int) {
	b.flights.all.Range(func(_, one any) bool {
		for _, t := range one.(*flight).has() {
			n += int(t.tallies.inFlight())
		}
		return true
	})
	return n
}

// isClosing reports whether it takes no new requests any more.
func (b *Balancer) isClosing() bool {
	select {
	case <-b.closing:
		return true
	default:
		return false
	}
}

// Guard is what bounds the connections of the listeners.
func (b *Balancer) Guard() *conns.Guard { return b.guard }
