// Package conns bounds the connections that a server holds: in all, by listener and
// by caller, so that none of them takes the descriptors of the others. It is the one room in
// which callers are counted, and what each may take of a listener is kept with them.
//
// At a bound the connection that has been idle longest gives way to the new one. Where
// none is idle the new one is refused, or, where callers sign in, one gives way on which none has.
package conns

import (
	"container/list"
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Bounds are how many connections there may be at once; 0 is without a bound.
type Bounds struct {
	All, ByListener, ByCaller int
	// SignIn has those whose callers never signed in (see [SignedIn]) give way, longest there first,
	// where none is idle.
	SignIn bool
}

// The bounds, as reasons why a connection was refused or gave way.
const (
	OfAll      = "all"
	OfListener = "listener"
	OfCaller   = "caller"
)

// Reasons are all of them.
var Reasons = []string{OfAll, OfListener, OfCaller}

// Guard keeps the bounds. Its methods are safe for concurrent use.
type Guard struct {
	bounds Bounds

	mu       sync.Mutex
	all      map[*Conn]struct{}
	listener map[*Listener]int
	caller   map[netip.Addr]int
	refused  map[string]int64 // by reason
	evicted  map[string]int64
}

// mostLooked is among how many connections at most the one is looked for that gives way.
const mostLooked = 1000

// New makes a guard without connections.
func New(b Bounds) *Guard {
	return &Guard{bounds: b, all: map[*Conn]struct{}{}, listener: map[*Listener]int{}, caller: map[netip.Addr]int{},
		refused: map[string]int64{}, evicted: map[string]int64{}}
}

// Listen has the guard stand before a listener.
func (g *Guard) Listen(l net.Listener) *Listener {
	return &Listener{Listener: l, guard: g, callers: map[netip.Addr]*Caller{}, gone: list.New()}
}

// State is the ConnState of a server whose listeners the guard stands before.
func (g *Guard) State(c net.Conn, s http.ConnState) {
	if secure, ok := c.(*tls.Conn); ok {
		c = secure.NetConn()
	}
	own, ok := c.(*Conn)
	if !ok {
		return
	}
	// No lock: this is twice for every request.
	switch s {
	case http.StateActive, http.StateHijacked:
		own.idle.Store(0)
	case http.StateIdle:
		own.idle.Store(time.Now().UnixNano())
	}
}

// Refused and Evicted are how many connections were not taken, and how many idle ones gave way,
// at a bound.
func (g *Guard) Refused(reason string) int64 {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.refused[reason]
}

// Evicted is told at [Guard.Refused].
func (g *Guard) Evicted(reason string) int64 {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.evicted[reason]
}

// Open is how many connections there are.
func (g *Guard) Open() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return len(g.all)
}

// admit takes a new connection in and returns the idle one that gives way; ok is
// false when there is no room.
func (g *Guard) admit(c *Conn) (victim *Conn, ok bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	full := func(n, bound int) bool { return bound > 0 && n >= bound }
	var in func(*Conn) bool
	reason := ""
	switch {
	case full(g.caller[c.network], g.bounds.ByCaller):
		reason, in = OfCaller, func(o *Conn) bool { return o.network == c.network }
	case full(g.listener[c.listener], g.bounds.ByListener):
		reason, in = OfListener, func(o *Conn) bool { return o.listener == c.listener }
	case full(len(g.all), g.bounds.All):
		reason, in = OfAll, func(*Conn) bool { return true }
	}
	if in != nil {
		if victim = g.longestIdle(in); victim == nil && g.bounds.SignIn {
			victim = g.longestUnknown(in)
		}
		if victim == nil {
			g.refused[reason]++
			return nil, false
		}
		g.evicted[reason]++
		g.drop(victim)
	}
	now := time.Now()
	g.all[c] = struct{}{}
	g.listener[c.listener]++
	g.caller[c.network]++
	c.by, c.passes = c.listener.come(c.network, now)
	c.since = now
	c.idle.Store(now.UnixNano()) // nothing was asked on it yet
	return victim, true
}

// longestIdle is the one that has been idle longest.
func (g *Guard) longestIdle(in func(*Conn) bool) *Conn {
	return g.longest(in, func(c *Conn) int64 { return c.idle.Load() })
}

// unknownFor is how long a connection has before it may give way for that nobody has signed in on it.
const unknownFor = time.Second

// longestUnknown is the one that is there longest without its caller having signed in.
func (g *Guard) longestUnknown(in func(*Conn) bool) *Conn {
	return g.longest(in, func(c *Conn) int64 {
		if c.known.Load() || time.Since(c.since) < unknownFor {
			return 0
		}
		return c.since.UnixNano()
	})
}

// longest is the one for which something is so longest: since when, in ns, 0 for not at all. Of very many
// it is that of a sample.
func (g *Guard) longest(in func(*Conn) bool, since func(*Conn) int64) (longest *Conn) {
	looked, first := 0, int64(0)
	for c := range g.all {
		if !in(c) {
			continue
		}
		if at := since(c); at != 0 && (longest == nil || at < first) {
			longest, first = c, at
		}
		if looked++; looked >= mostLooked && longest != nil {
			break
		}
	}
	return longest
}

type connKey struct{}

// With is the ConnContext of a server whose callers sign in.
func With(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, connKey{}, c)
}

// SignedIn notes that the caller of a request has signed in on its connection.
func SignedIn(ctx context.Context) {
	if c, ok := ctx.Value(connKey{}).(*Conn); ok {
		c.known.Store(true)
	}
}

// drop takes a connection off the books. The lock is held.
func (g *Guard) drop(c *Conn) {
	if c.over {
		return
	}
	c.over = true
	delete(g.all, c)
	if g.listener[c.listener]--; g.listener[c.listener] == 0 {
		delete(g.listener, c.listener)
	}
	if g.caller[c.network]--; g.caller[c.network] == 0 {
		delete(g.caller, c.network)
	}
	c.listener.leave(c.by)
}

// Listener is one that the guard stands before.
type Listener struct {
	net.Listener
	guard *Guard

	// Under the guard's lock.
	limits  Limits
	callers map[netip.Addr]*Caller
	gone    *list.List // of them, those without a connection, seen longest ago first
	open    int
}

// Accept returns the next connection that there is room for.
func (l *Listener) Accept() (net.Conn, error) {
	for {
		raw, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		c := &Conn{Conn: raw, listener: l, network: NetworkOf(raw.RemoteAddr())}
		victim, ok := l.guard.admit(c)
		if !ok {
			raw.Close()
			continue
		}
		if victim != nil {
			victim.Conn.Close()
		}
		return c, nil
	}
}

// Conn is one connection.
type Conn struct {
	net.Conn
	listener *Listener
	network  netip.Addr
	by       *Caller
	passes   string       // the limit of its caller that it passes, or ""
	since    time.Time    // it was taken
	idle     atomic.Int64 // since when, in ns; 0 while it is busy
	known    atomic.Bool  // its caller has signed in
	over     bool
}

// By is who made it, and which limit of its caller it passes: "connections", "connection-rate" or
// none. Whoever takes it may tell so before it ends.
func (c *Conn) By() (by *Caller, passes string) { return c.by, c.passes }

// Close ends the connection and makes room.
func (c *Conn) Close() error {
	g := c.listener.guard
	g.mu.Lock()
	g.drop(c)
	g.mu.Unlock()
	return c.Conn.Close()
}

// NetConn is the connection below.
func (c *Conn) NetConn() net.Conn { return c.Conn }

// Descriptors is how many files and sockets this process may have open.
var Descriptors = sync.OnceValue(func() int {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return 1024
	}
	return int(min(limit.Cur, 1<<20))
})

// Share is the part of all descriptors, 0 to 1, that one use may have, but at least
// 16 and not over most.
func Share(part float64, most int) int {
	return max(16, min(int(float64(Descriptors())*part), most))
}
