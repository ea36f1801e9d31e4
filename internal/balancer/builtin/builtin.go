// Package builtin is the balancer inside the service: a reverse proxy on each
// pool's listeners that sends every request to one of the pool's targets.
package builtin

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"net"
	"net/http"
	"net/http/httputil"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/conns"
)

// Balancer is the builtin driver. Its methods are safe for concurrent use.
type Balancer struct {
	log       *slog.Logger
	transport *http.Transport
	guard     *conns.Guard
	open      Listen

	flights flights
	ending  sync.WaitGroup // pools that were removed

	mu    sync.Mutex
	pools map[string]*pool
	idle  func(instance string)
}

// Listen opens an address:port.
type Listen func(address string) (net.Listener, error)

// Bare opens an address for this process alone.
func Bare(address string) (net.Listener, error) { return net.Listen("tcp", address) }

// New makes a balancer without pools, whose listeners open opens. Of the descriptors of this process its
// listeners take a quarter, and as many more may go to targets.
func New(log *slog.Logger, open Listen) *Balancer {
	room := conns.Share(0.25, 1<<17)
	return &Balancer{
		log:   log,
		open:  open,
		pools: map[string]*pool{},
		guard: conns.New(conns.Bounds{All: room, ByListener: room * 3 / 4, ByCaller: room / 2}),
		transport: &http.Transport{
			DialContext:         (&net.Dialer{Timeout: 2 * time.Second, KeepAlive: 30 * time.Second}).DialContext,
			MaxIdleConnsPerHost: 256, MaxIdleConns: conns.Share(0.125, 1<<16), IdleConnTimeout: 30 * time.Second, DisableCompression: true,
			// A target that wants to say whether it will take a body is waited for.
			ExpectContinueTimeout: time.Second,
		},
	}
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

// Listen opens and closes addresses of a pool until its listeners are those.
func (b *Balancer) Listen(name string, listeners []balancer.Listener) {
	have, _ := b.pool(name)
	have.listen(listeners, b.open, b.guard)
}

// pool is the one of the name, made when there is none.
func (b *Balancer) pool(name string) (have *pool, idle func(string)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if have = b.pools[name]; have == nil {
		have = b.newPool(name)
		b.pools[name] = have
	}
	return have, b.idle
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

// Remove closes the pool's listeners and forgets its targets. What is in flight may finish
// for a moment, for which nobody waits.
func (b *Balancer) Remove(name string) {
	b.mu.Lock()
	p := b.pools[name]
	delete(b.pools, name)
	b.mu.Unlock()
	if p != nil {
		p.shut()
		b.ending.Go(p.end)
	}
}

// InFlight is how many requests an instance has in all pools.
func (b *Balancer) InFlight(instance string) (n int, known bool) {
	return b.flights.of(instance), true
}

// Answered is how many requests an instance has answered, and how many of them failed.
func (b *Balancer) Answered(instance string) (n, failed int64) {
	if f := b.flights.find(instance); f != nil {
		n, failed = f.answered.Load(), f.failed.Load()
	}
	return n, failed
}

// Slower is how many requests an instance has answered since this was first asked, and how
// many of them took longer; what took about as long (within a fifth) is not told apart.
func (b *Balancer) Slower(instance string, than time.Duration) (n, slow int64) {
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
	f := b.flights.find(instance)
	if f == nil {
		return p, false
	}
	p = balancer.Passed{Requests: f.answered.Load(), BytesIn: f.in.Load(), BytesOut: f.out.Load(), Until: until}
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
	b.mu.Lock()
	p := b.pools[name]
	b.mu.Unlock()
	if p == nil {
		return balancer.Stats{}, false
	}
	return p.stats(), true
}

// Close closes all listeners and lets requests finish for a moment.
func (b *Balancer) Close() {
	b.mu.Lock()
	pools := b.pools
	b.pools = map[string]*pool{}
	b.mu.Unlock()
	var all sync.WaitGroup
	for _, p := range pools {
		p.shut()
		all.Go(p.end)
	}
	all.Wait()
	b.ending.Wait()
	b.transport.CloseIdleConnections()
}

// pool is some listeners with their targets.
type pool struct {
	name       string
	log        *slog.Logger
	server     *http.Server
	transport  http.RoundTripper
	lane       atomic.Pointer[lane]
	turn       turn
	byInstance atomic.Pointer[map[string][]*target]
	requests   atomic.Int64
	failures   atomic.Int64
	retries    allowance
	open       conns.Count
	flights    *flights
	asides     sync.Mutex // one is set aside at a time

	mu        sync.Mutex    // of what follows, and of changes of the lane
	changed   chan struct{} // closed when the lane changes
	listeners map[balancer.Listener]*listener
	wanted    []balancer.Listener
	troubles  map[balancer.Listener]string
	versions  map[string]*version
	closed    bool
}

func (b *Balancer) newPool(name string) *pool {
	have := &pool{name: name, log: b.log, transport: b.transport, flights: &b.flights, changed: make(chan struct{}), listeners: map[balancer.Listener]*listener{},
		troubles: map[balancer.Listener]string{}, versions: map[string]*version{}}
	have.lane.Store(&lane{})
	have.byInstance.Store(&map[string][]*target{})
	proxy := &httputil.ReverseProxy{
		// What a client says of others before it is dropped (RFC 7239, section 8.1):
		// Rewrite is given the request without Forwarded and X-Forwarded-*.
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetXForwarded()
			r.Out.URL.Scheme = "http"
			r.Out.URL.Host = "pool" // a target's address once one took it
			r.Out.Host = r.In.Host
			// What comes in goes out: a query as it was written, and the trailers, which
			// are known once the body was read.
			r.Out.URL.RawQuery = r.In.URL.RawQuery
			r.Out.Trailer = r.In.Trailer
		},
		Transport:     have,
		FlushInterval: -1,
		ErrorHandler:  have.answerError,
		BufferPool:    &buffers{},
	}
	have.server = &http.Server{Handler: oneContinue(proxy), ReadHeaderTimeout: 30 * time.Second, IdleTimeout: 120 * time.Second,
		ConnState: func(c net.Conn, s http.ConnState) {
			b.guard.State(c, s)
			have.open.State(c, s)
		}, ErrorLog: slog.NewLogLogger(b.log.Handler(), slog.LevelDebug)}
	return have
}

// listen opens the listeners that are not open, and closes those that are not
// wanted any more.
func (p *pool) listen(wanted []balancer.Listener, listen Listen, guard *conns.Guard) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		return
	}
	p.wanted = slices.Clone(wanted)
	for settings, l := range p.listeners {
		if !slices.Contains(wanted, settings) || l.stopped() {
			l.close()
			delete(p.listeners, settings)
		}
	}
	clear(p.troubles)
	for _, settings := range wanted {
		if p.listeners[settings] != nil {
			continue
		}
		l, err := open(settings, listen, guard, p.log)
		if err != nil {
			p.troubles[settings] = err.Error()
			continue
		}
		p.listeners[settings] = l
		go l.serve(p.server, p.log)
	}
}

// shut takes no new connections.
func (p *pool) shut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closed = true
	for _, l := range p.listeners {
		l.close()
	}
}

// end lets the requests of a pool finish for a moment, and ends it.
func (p *pool) end() {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	p.mu.Lock()
	listeners := slices.Collect(maps.Values(p.listeners))
	p.mu.Unlock()
	for _, l := range listeners {
		<-l.done
	}
	conns.Finish(ctx, p.server, &p.open)
	for _, t := range p.lane.Load().targets {
		t.close()
		t.flight.drop()
	}
}

// apply takes the targets over; those that stay keep their counters.
func (p *pool) apply(wanted balancer.Pool, idle func(string)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	type place struct{ instance, address string }
	old := make(map[place]*target, len(p.lane.Load().targets))
	for _, t := range p.lane.Load().targets {
		old[place{t.instance, t.host}] = t
	}
	next := make([]*target, 0, len(wanted.Targets))
	byInstance := make(map[string][]*target, len(wanted.Targets))
	for _, w := range wanted.Targets {
		t := old[place{w.Instance, w.Address}]
		if t == nil {
			t = &target{instance: w.Instance, group: w.Group, version: w.Version, host: w.Address, idle: idle, byVersion: p.version(w.Version), flight: p.flights.take(w.Instance)}
		}
		delete(old, place{w.Instance, w.Address})
		t.weight.Store(math.Float64bits(w.Weight))
		t.last.Store(w.Last)
		if w.Open && !t.isOpen() {
			t.fresh.Store(nanos(time.Now()))
			t.answered()
		}
		t.set(w.Open, wanted.As)
		next = append(next, t)
		byInstance[w.Instance] = append(byInstance[w.Instance], t)
	}
	for _, t := range old {
		t.last.Store(false)
		t.close()
		t.flight.drop()
	}
	p.byInstance.Store(&byInstance)
	p.lane.Store(newLane(wanted, next))
	close(p.changed)
	p.changed = make(chan struct{})
}

// nextChange is closed when the lane is another than now.
func (p *pool) nextChange() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.changed
}

// version is where the answers of a template version are counted. The lock is
// held.
func (p *pool) version(v string) *version {
	if p.versions[v] == nil {
		p.versions[v] = &version{}
	}
	return p.versions[v]
}

func (p *pool) stats() balancer.Stats {
	now := time.Now()
	l := p.lane.Load()
	s := balancer.Stats{Requests: p.requests.Load(), Failures: p.failures.Load()}
	shares := l.shares(now)
	inFlight := map[string]int{}
	present := map[string]bool{}
	for _, t := range l.targets {
		ts := t.stats(now)
		ts.Share = shares[t]
		inFlight[t.version] += ts.InFlight
		present[t.version] = true
		s.Targets = append(s.Targets, ts)
	}
	slices.SortFunc(s.Targets, func(a, b balancer.TargetStats) int { return strings.Compare(a.Instance, b.Instance) })
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, settings := range p.wanted {
		if l := p.listeners[settings]; l != nil {
			s.Listeners = append(s.Listeners, l.stats())
		} else {
			s.Listeners = append(s.Listeners, balancer.ListenerStats{Listener: settings, Trouble: p.troubles[settings]})
		}
	}
	for _, v := range slices.Sorted(maps.Keys(p.versions)) {
		windows := p.versions[v].read(now)
		if windows[len(windows)-1].Requests == 0 && !present[v] {
			delete(p.versions, v)
			continue
		}
		s.Versions = append(s.Versions, balancer.VersionStats{Version: v, InFlight: inFlight[v], Windows: windows})
	}
	return s
}

// errNobody is a request that no target could be found for.
var errNobody = errors.New("no target is healthy")

// answerError tells the client that there was no answer, and why.
func (p *pool) answerError(w http.ResponseWriter, r *http.Request, err error) {
	if r.Context().Err() != nil { // the client went away
		return
	}
	p.failures.Add(1)
	status, text := http.StatusBadGateway, "The target closed the connection without an answer."
	if errors.Is(err, errNobody) {
		status, text = http.StatusServiceUnavailable, "No target is healthy."
		w.Header().Set("Retry-After", "1")
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	fmt.Fprintf(w, "%s (pool %s)\n", text, p.name)
}

// buffers are kept for copying bodies.
type buffers struct{ pool sync.Pool }

func (b *buffers) Get() []byte {
	if buf, ok := b.pool.Get().(*[]byte); ok {
		return *buf
	}
	return make([]byte, 32<<10)
}

func (b *buffers) Put(buf []byte) { b.pool.Put(&buf) }
