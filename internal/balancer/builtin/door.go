package builtin

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/served"
	"unitas/internal/conns"
	"unitas/internal/fleet/traffic"
)

// door is one open address. Its settings change while it is open.
type door struct {
	address string
	house   *Balancer
	socket  net.Listener
	now     atomic.Pointer[doorSettings]
	near    atomic.Pointer[near]
	callers *callers
	served  *served.Log
	turns   [traffic.MostRoutes + 1]atomic.Uint64 // requests of each route, and in all at 0
	refused atomic.Int64
	lost    atomic.Int64 // that no route took
	ended   chan struct{}

	measuring atomic.Bool

	mu      sync.Mutex
	front   *front
	closed  bool
	trouble string // why it stopped, or what could not be changed
}

// doorSettings are the settings of a door with what follows from them. They do not change.
type doorSettings struct {
	balancer.Listener
	pairs  pairs
	secure *tls.Config            // nil in clear
	pools  map[string]*poolHandle // that it sends to
}

// openDoor opens an address.
func (b *Balancer) openDoor(l balancer.Listener) (*door, error) {
	d := &door{address: l.Address, house: b, callers: newCallers(), ended: b.ended}
	s, err := d.settings(l, nil)
	if err != nil {
		return nil, err
	}
	if d.socket, err = b.open(l.Address); err != nil {
		return nil, err
	}
	d.socket = b.guard.Listen(d.socket)
	d.served = b.served.Open(l.Address)
	d.use(s)
	b.ending.Go(d.accept)
	return d, nil
}

func (d *door) settings(l balancer.Listener, before pairs) (*doorSettings, error) {
	s := &doorSettings{Listener: l, pools: map[string]*poolHandle{}}
	for _, name := range l.Pools() {
		s.pools[name] = d.house.handle(name)
	}
	if l.Kind != traffic.HTTPS {
		return s, nil
	}
	var err error
	if s.pairs, err = loadPairs(l.Pairs, before, d.house.log); err != nil {
		return nil, err
	}
	s.secure = &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: s.pairs.get}
	if l.LeastTLS == "1.3" {
		s.secure.MinVersion = tls.VersionTLS13
	}
	if !l.HTTP2 {
		s.secure.NextProtos = s.secure.NextProtos[1:]
	}
	return s, nil
}

// change makes the settings those given. What is under way goes on by those that it began with,
// but for where its next requests go.
func (d *door) change(l balancer.Listener) {
	was := d.now.Load()
	s, err := d.settings(l, was.pairs)
	d.mu.Lock()
	d.trouble = ""
	if err != nil {
		d.trouble = "it goes on as it was: " + err.Error()
	}
	d.mu.Unlock()
	if err == nil {
		d.use(s)
	}
}

// use takes settings over.
func (d *door) use(s *doorSettings) {
	was := d.now.Swap(s)
	d.callers.change(&s.Limits)
	d.order(nil)
	if was != nil && was.Kind == s.Kind && was.HTTP2 == s.HTTP2 && was.Limits == s.Limits {
		return
	}
	next := d.newFront(s)
	d.mu.Lock()
	before := d.front
	d.front = next
	d.mu.Unlock()
	before.retire(&d.house.ending)
}

// order works out which regions are nearest.
func (d *door) order(targets []*target) {
	s := d.now.Load()
	var order []traffic.Reached
	switch s.Near {
	case traffic.InOrder:
		for _, name := range s.Nearby {
			order = append(order, traffic.Reached{Region: name})
		}
	case traffic.Measured:
		if was := d.near.Load(); was != nil {
			order = was.order
		}
		if order = traffic.Nearest(measured(targets, func(t *target) time.Duration { return t.upstream.Load().wire.Took() }), order); len(order) == 0 {
			return
		}
	default:
		d.near.Store(nil)
		return
	}
	d.near.Store(newNear(order, s.Enough))
}

// measure connects to a target of each region, and orders the regions anew by how long that
// takes. Regions that get no requests are known by this alone.
func (d *door) measure(ctx context.Context) {
	s := d.now.Load()
	if s.Near != traffic.Measured || !d.measuring.CompareAndSwap(false, true) {
		return
	}
	defer d.measuring.Store(false)
	var targets []*target
	byRegion := map[string][]*target{}
	for _, h := range s.pools {
		if p := h.pool.Load(); p != nil {
			targets = append(targets, p.lane.Load().targets...)
		}
	}
	for _, t := range targets {
		if t.isOpen() {
			byRegion[t.region] = append(byRegion[t.region], t)
		}
	}
	var all sync.WaitGroup
	for _, of := range byRegion {
		t := of[rand.IntN(len(of))]
		all.Go(func() {
			if c, err := t.upstream.Load().dial(ctx); err == nil {
				c.Close()
			}
		})
	}
	all.Wait()
	d.order(targets)
}

// accept takes connections until the door is closed.
func (d *door) accept() {
	for wait := time.Duration(0); ; {
		c, err := d.socket.Accept()
		if err != nil {
			if d.isClosed() || errors.Is(err, net.ErrClosed) {
				d.stopped(err)
				return
			}
			// Such as no descriptor left: it passes.
			wait = min(max(2*wait, 5*time.Millisecond), time.Second)
			select {
			case <-time.After(wait):
			case <-d.ended:
			}
			continue
		}
		wait = 0
		d.take(c)
	}
}

// take hands a connection to whoever speaks its protocol.
func (d *door) take(c net.Conn) {
	s := d.now.Load()
	who, ok := d.callers.come(c.RemoteAddr(), &s.Limits)
	l := &link{door: d, who: who, address: hostOf(c.RemoteAddr()), page: d.house.ledger.turn(), over: !ok}
	if s.Kind == traffic.TCP {
		if !ok {
			d.refused.Add(1)
			c.Close()
			d.callers.leave(who)
			return
		}
		d.house.guard.State(c, http.StateActive) // it gives way to nobody
		d.house.ending.Go(func() {
			defer d.callers.leave(who)
			d.relay(c, s, l)
		})
		return
	}
	lined := newLinked(c, l)
	var out net.Conn = lined
	if s.secure != nil {
		l.secure = true
		out = tls.Server(lined, s.secure)
	}
	d.mu.Lock()
	front := d.front
	d.mu.Unlock()
	front.take(out)
}

func hostOf(a net.Addr) string {
	if tcp, ok := a.(*net.TCPAddr); ok {
		return tcp.AddrPort().Addr().Unmap().String()
	}
	host, _, _ := net.SplitHostPort(a.String())
	return host
}

func (d *door) isClosed() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.closed
}

func (d *door) stopped(err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.closed {
		d.house.log.Error("a listener stopped", "address", d.address, "error", err)
		d.trouble = err.Error()
		d.closed = true
	}
}

// close takes no new connections; those that are there go on.
func (d *door) close() {
	d.mu.Lock()
	d.closed = true
	front := d.front
	d.mu.Unlock()
	d.socket.Close()
	front.retire(&d.house.ending)
	d.house.ending.Go(func() {
		<-front.over
		d.served.Close()
	})
}

// front is an HTTP server of a door. Another takes its place when settings change that it only
// takes at its start; what it has goes on.
type front struct {
	door   *door
	server *http.Server
	conns  chan net.Conn
	gone   chan struct{} // closed when it takes no more
	over   chan struct{} // closed when it has none any more
	once   sync.Once
	open   conns.Count
}

func (d *door) newFront(s *doorSettings) *front {
	f := &front{door: d, conns: make(chan net.Conn), gone: make(chan struct{}), over: make(chan struct{})}
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(s.HTTP2 && s.Kind == traffic.HTTPS)
	protocols.SetUnencryptedHTTP2(s.HTTP2 && s.Kind == traffic.HTTP)
	f.server = &http.Server{Handler: http.HandlerFunc(d.serve), Protocols: protocols, DisableGeneralOptionsHandler: true,
		ReadHeaderTimeout: s.Limits.Head, IdleTimeout: s.Limits.Idle, MaxHeaderBytes: int(s.Limits.HeadBytes),
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			if secure, ok := c.(*tls.Conn); ok {
				c = secure.NetConn()
			}
			return context.WithValue(ctx, linkKey{}, c.(*linked).link)
		},
		ConnState: func(c net.Conn, s http.ConnState) {
			d.house.guard.State(below(c), s)
			f.open.State(c, s)
		}, ErrorLog: slog.NewLogLogger(d.house.log.Handler(), slog.LevelDebug)}
	go func() { _ = f.server.Serve(f) }()
	return f
}

// take hands it a connection.
func (f *front) take(c net.Conn) {
	select {
	case f.conns <- c:
	case <-f.gone: // it was just replaced
		f.door.mu.Lock()
		next := f.door.front
		f.door.mu.Unlock()
		if next == f {
			c.Close()
			return
		}
		next.take(c)
	}
}

// Accept returns the next connection that it was handed.
func (f *front) Accept() (net.Conn, error) {
	select {
	case c := <-f.conns:
		return c, nil
	case <-f.gone:
		return nil, net.ErrClosed
	}
}

// Close and Addr make it a listener.
func (f *front) Close() error { return nil }

// Addr is that of its door.
func (f *front) Addr() net.Addr { return f.door.socket.Addr() }

// retire has it take no more connections. Those that it has go on for as long as they have
// something under way, until the balancer ends.
func (f *front) retire(all *sync.WaitGroup) {
	if f == nil {
		return
	}
	f.once.Do(func() {
		close(f.gone)
		all.Go(func() {
			defer close(f.over)
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			go func() {
				select {
				case <-f.door.house.closing:
					select {
					case <-time.After(lastMoment):
					case <-ctx.Done():
					}
					cancel()
				case <-ctx.Done():
				}
			}()
			conns.Finish(ctx, f.server, &f.open)
		})
	})
}

// lastMoment is for how long requests may finish when the balancer ends.
const lastMoment = 3 * time.Second

func (d *door) stats() balancer.ListenerStats {
	s := d.now.Load()
	out := balancer.ListenerStats{Listener: s.Listener, Requests: int64(d.turns[0].Load()), Refused: d.refused.Load(), Unrouted: d.lost.Load(), Unwritten: d.served.Lost(),
		Connections: d.callers.open()}
	d.mu.Lock()
	out.Trouble = d.trouble
	d.mu.Unlock()
	var why string
	if out.Expires, why = s.pairs.state(); out.Trouble == "" {
		out.Trouble = why
	}
	if n := d.near.Load(); n != nil {
		out.Order = slices.Clone(n.order)
		for _, h := range s.pools {
			if p := h.pool.Load(); p != nil {
				if _, spill := p.lane.Load().within(n, time.Now()); spill != "" {
					out.Spill = spill
				}
			}
		}
	}
	return out
}

// keeps reports whether a request is to be written down whatever becomes of it.
func (s *doorSettings) keeps() bool {
	switch s.Log.Keep {
	case traffic.KeepAll:
		return true
	case traffic.KeepShare:
		return rand.Float64()*100 < s.Log.Percent
	}
	return false
}
