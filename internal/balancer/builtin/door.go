package builtin

import (
	"crypto/tls"
	"errors"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/accesslog"
	"unitas/internal/caught"
	"unitas/internal/conns"
	"unitas/internal/fleet/traffic"
)

// door is one open address. Its settings change while it is open.
type door struct {
	address string
	house   *Balancer
	socket  *conns.Listener
	now     atomic.Pointer[doorSettings]
	nearby  atomic.Pointer[nearby]
	access  *accesslog.Log
	turns   [traffic.MostRoutes + 1]atomic.Uint64 // requests of each route, and in all at 0
	refused atomic.Int64
	unfit   atomic.Int64 // that cannot be passed on
	lost    atomic.Int64 // that no route took
	// Of the refused, by which limit of their caller.
	overConnections, overConnectionRate, overRate atomic.Int64

	ended chan struct{}

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
	d := &door{address: l.Address, house: b, ended: b.ended}
	s, err := d.settings(l, nil)
	if err != nil {
		return nil, err
	}
	socket, err := b.open(l.Address)
	if err != nil {
		return nil, err
	}
	d.socket = b.guard.Listen(socket)
	d.access = b.access.Open(l.Address)
	d.use(s)
	b.ending.Go(caught.Func("a listener", d.accept))
	return d, nil
}

func (d *door) settings(l balancer.Listener, before pairs) (*doorSettings, error) {
	s := &doorSettings{Listener: l, pools: map[string]*poolHandle{}}
	for _, name := range l.Pools() {
		s.pools[name] = d.house.handle(name)
	}
	if l.Protocol != traffic.HTTPS {
		return s, nil
	}
	var err error
	if s.pairs, err = loadPairs(l.Pairs, before, d.house.log); err != nil {
		return nil, err
	}
	s.secure = &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: s.pairs.get}
	if l.MinTLS == "1.3" {
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
	d.socket.Limit(conns.Limits{Connections: s.Limits.Connections, ConnectionsPS: s.Limits.ConnectionsPS, RequestsPS: s.Limits.RequestsPS})
	d.order(nil)
	if was != nil && was.Protocol == s.Protocol && was.HTTP2 == s.HTTP2 && was.Limits == s.Limits {
		return
	}
	next := d.newFront(s)
	d.mu.Lock()
	before := d.front
	d.front = next
	d.mu.Unlock()
	before.retire(&d.house.ending)
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
		if caught.Do("taking a connection", func() { d.take(c) }) != nil {
			c.Close()
		}
	}
}

// take hands a connection to whoever speaks its protocol.
func (d *door) take(c net.Conn) {
	s := d.now.Load()
	who, passes := c.(*conns.Conn).By()
	switch passes {
	case "connections":
		d.overConnections.Add(1)
	case "connection-rate":
		d.overConnectionRate.Add(1)
	}
	l := &link{door: d, who: who, address: hostOf(c.RemoteAddr()), page: d.house.ledger.turn(), surplus: passes != ""}
	if s.Protocol == traffic.TCP {
		if l.surplus {
			d.refused.Add(1)
			c.Close()
			return
		}
		d.house.guard.State(c, http.StateActive) // it gives way to nobody
		d.house.ending.Go(caught.Func("a connection of a listener", func() { d.relay(c, s, l) }))
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
	d.house.ending.Go(caught.Func("the end of a listener", func() {
		<-front.done
		d.access.Close()
	}))
}

func (d *door) stats() balancer.ListenerStats {
	s := d.now.Load()
	out := balancer.ListenerStats{Listener: s.Listener, Requests: int64(d.turns[0].Load()), Refused: d.refused.Load(), Malformed: d.unfit.Load(), Unrouted: d.lost.Load(), Unwritten: d.access.Lost(),
		Connections: d.socket.Open(), OverConnections: d.overConnections.Load(), OverConnectionRate: d.overConnectionRate.Load(), OverRequestRate: d.overRate.Load()}
	d.mu.Lock()
	out.Trouble = d.trouble
	d.mu.Unlock()
	var why string
	if out.Expires, why = s.pairs.state(); out.Trouble == "" {
		out.Trouble = why
	}
	if n := d.nearby.Load(); n != nil {
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
	switch s.AccessLog.Keep {
	case traffic.KeepAll:
		return true
	case traffic.KeepSampled:
		return rand.Float64()*100 < s.AccessLog.Percent
	}
	return false
}
