// Package builtin is the balancer inside the service: a reverse proxy on each
// pool's listener that sends every request to one of the pool's targets.
package builtin

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
)

// Balancer is the builtin driver. Its methods are safe for concurrent use.
type Balancer struct {
	log       *slog.Logger
	transport *http.Transport

	mu    sync.Mutex
	pools map[string]*pool
	idle  func(instance string)
}

// New makes a balancer without pools.
func New(log *slog.Logger) *Balancer {
	return &Balancer{
		log:   log,
		pools: map[string]*pool{},
		transport: &http.Transport{
			DialContext:         (&net.Dialer{Timeout: 2 * time.Second, KeepAlive: 30 * time.Second}).DialContext,
			MaxIdleConnsPerHost: 256, IdleConnTimeout: 30 * time.Second, DisableCompression: true,
		},
	}
}

// Watch has idle called whenever a closed target finishes its last request.
func (b *Balancer) Watch(idle func(string)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.idle = idle
}

// Apply makes the pool as it is given.
func (b *Balancer) Apply(p balancer.Pool) {
	b.mu.Lock()
	have := b.pools[p.Name]
	if have == nil {
		have = b.newPool(p)
		b.pools[p.Name] = have
	}
	idle := b.idle
	b.mu.Unlock()
	have.apply(p.Targets, idle)
	have.listen()
}

// Remove closes the pool's listener and forgets its targets.
func (b *Balancer) Remove(name string) {
	b.mu.Lock()
	p := b.pools[name]
	delete(b.pools, name)
	b.mu.Unlock()
	if p != nil {
		p.close()
	}
}

// InFlight is how many requests an instance has in all pools.
func (b *Balancer) InFlight(instance string) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	n := 0
	for _, p := range b.pools {
		for _, t := range *p.targets.Load() {
			if t.Instance == instance {
				n += int(t.inFlight.Load())
			}
		}
	}
	return n
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
		all.Go(p.close)
	}
	all.Wait()
	b.transport.CloseIdleConnections()
}

// pool is one listener with its targets.
type pool struct {
	name, address string
	log           *slog.Logger
	server        *http.Server
	transport     http.RoundTripper
	targets       atomic.Pointer[[]*target]
	next          atomic.Uint64
	requests      atomic.Int64
	failures      atomic.Int64

	mu        sync.Mutex // of what follows
	listening bool
	closed    bool
	trouble   string
}

func (b *Balancer) newPool(p balancer.Pool) *pool {
	have := &pool{name: p.Name, address: p.Listen, log: b.log, transport: b.transport}
	have.targets.Store(&[]*target{})
	proxy := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetXForwarded()
			r.Out.URL.Scheme = "http"
			r.Out.URL.Host = "pool" // a target's address once one took it
			r.Out.Host = r.In.Host
		},
		Transport:     have,
		FlushInterval: -1,
		ErrorHandler:  have.answerError,
		BufferPool:    &buffers{},
	}
	have.server = &http.Server{Handler: proxy, ReadHeaderTimeout: 30 * time.Second, IdleTimeout: 120 * time.Second,
		ErrorLog: slog.NewLogLogger(b.log.Handler(), slog.LevelDebug)}
	return have
}

// listen opens the listener unless it is open.
func (p *pool) listen() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.listening || p.closed {
		return
	}
	l, err := net.Listen("tcp", p.address)
	if err != nil {
		p.trouble = err.Error()
		return
	}
	p.listening, p.trouble = true, ""
	go func() {
		err := p.server.Serve(l)
		if !errors.Is(err, http.ErrServerClosed) {
			p.log.Error("a listener stopped", "pool", p.name, "error", err)
			p.mu.Lock()
			p.listening, p.trouble = false, err.Error()
			p.mu.Unlock()
		}
	}()
}

func (p *pool) close() {
	p.mu.Lock()
	p.closed = true
	p.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if p.server.Shutdown(ctx) != nil {
		p.server.Close()
	}
	for _, t := range *p.targets.Load() {
		t.open.Store(false)
	}
}

// apply takes the targets over; those that stay keep their counters.
func (p *pool) apply(wanted []balancer.Target, idle func(string)) {
	old := *p.targets.Load()
	next := make([]*target, 0, len(wanted))
	for _, w := range wanted {
		i := slices.IndexFunc(old, func(t *target) bool { return t.Instance == w.Instance && t.Address == w.Address })
		var t *target
		if i >= 0 {
			t = old[i]
		} else {
			t = &target{Target: w, host: w.Address, idle: idle}
		}
		t.open.Store(w.Open)
		next = append(next, t)
	}
	for _, t := range old {
		if !slices.Contains(next, t) {
			t.open.Store(false)
		}
	}
	p.targets.Store(&next)
}

func (p *pool) stats() balancer.Stats {
	p.mu.Lock()
	s := balancer.Stats{Trouble: p.trouble, Requests: p.requests.Load(), Failures: p.failures.Load()}
	p.mu.Unlock()
	for _, t := range *p.targets.Load() {
		ts := balancer.TargetStats{Target: t.Target, InFlight: int(t.inFlight.Load()), Requests: t.requests.Load(),
			Failures: t.failures.Load(), Retried: t.retried.Load()}
		ts.Open = t.open.Load()
		ts.MedianMS, ts.Percent99MS = t.took.quantiles()
		s.Targets = append(s.Targets, ts)
	}
	slices.SortFunc(s.Targets, func(a, b balancer.TargetStats) int { return strings.Compare(a.Instance, b.Instance) })
	return s
}

// pick takes the next open target in turn that was not tried before, or nil.
func (p *pool) pick(tried []*target) *target {
	targets := *p.targets.Load()
	n := uint64(len(targets))
	if n == 0 {
		return nil
	}
	begin := p.next.Add(1)
	for i := range n {
		t := targets[(begin+i)%n]
		if t.open.Load() && !slices.Contains(tried, t) && t.take() {
			return t
		}
	}
	return nil
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
