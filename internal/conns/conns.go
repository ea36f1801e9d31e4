// Package conns bounds the connections that a server holds: in all, by listener and
// by caller, so that none of them takes the descriptors of the others.
//
// At a bound the connection that has been idle longest gives way to the new one. Only
// where none is idle the new one is refused.
package conns

import (
	"crypto/tls"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Bounds are how many connections there may be at once; 0 is without a bound.
type Bounds struct{ All, ByListener, ByCaller int }

// Guard keeps the bounds. Its methods are safe for concurrent use.
type Guard struct {
	bounds  Bounds
	refused atomic.Int64
	evicted atomic.Int64

	mu       sync.Mutex
	all      map[*conn]struct{}
	listener map[*listener]int
	caller   map[string]int
}

// mostLooked is among how many connections at most the one is looked for that gives way.
const mostLooked = 1000

// New makes a guard without connections.
func New(b Bounds) *Guard {
	return &Guard{bounds: b, all: map[*conn]struct{}{}, listener: map[*listener]int{}, caller: map[string]int{}}
}

// Listen has the guard stand before a listener.
func (g *Guard) Listen(l net.Listener) net.Listener { return &listener{Listener: l, guard: g} }

// State is the ConnState of a server whose listeners the guard stands before.
func (g *Guard) State(c net.Conn, s http.ConnState) {
	if secure, ok := c.(*tls.Conn); ok {
		c = secure.NetConn()
	}
	own, ok := c.(*conn)
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

// Refused and Evicted are how many connections were not taken, and how many idle
// ones gave way.
func (g *Guard) Refused() int64 { return g.refused.Load() }

// Evicted is told at [Guard.Refused].
func (g *Guard) Evicted() int64 { return g.evicted.Load() }

// Open is how many connections there are.
func (g *Guard) Open() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return len(g.all)
}

// admit takes a new connection in and returns the idle one that gives way; ok is
// false when there is no room.
func (g *Guard) admit(c *conn) (victim *conn, ok bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	full := func(n, bound int) bool { return bound > 0 && n >= bound }
	var in func(*conn) bool
	switch {
	case full(g.caller[c.caller], g.bounds.ByCaller):
		in = func(o *conn) bool { return o.caller == c.caller }
	case full(g.listener[c.listener], g.bounds.ByListener):
		in = func(o *conn) bool { return o.listener == c.listener }
	case full(len(g.all), g.bounds.All):
		in = func(*conn) bool { return true }
	}
	if in != nil {
		if victim = g.longestIdle(in); victim == nil {
			return nil, false
		}
		g.drop(victim)
	}
	g.all[c] = struct{}{}
	g.listener[c.listener]++
	g.caller[c.caller]++
	c.idle.Store(time.Now().UnixNano()) // nothing was asked on it yet
	return victim, true
}

// longestIdle is the one that has been idle longest, of very many that of a sample.
func (g *Guard) longestIdle(in func(*conn) bool) (longest *conn) {
	looked, since := 0, int64(0)
	for c := range g.all {
		if !in(c) {
			continue
		}
		if at := c.idle.Load(); at != 0 && (longest == nil || at < since) {
			longest, since = c, at
		}
		if looked++; looked >= mostLooked && longest != nil {
			break
		}
	}
	return longest
}

// drop takes a connection off the books. The lock is held.
func (g *Guard) drop(c *conn) {
	if c.over {
		return
	}
	c.over = true
	delete(g.all, c)
	if g.listener[c.listener]--; g.listener[c.listener] == 0 {
		delete(g.listener, c.listener)
	}
	if g.caller[c.caller]--; g.caller[c.caller] == 0 {
		delete(g.caller, c.caller)
	}
}

type listener struct {
	net.Listener
	guard *Guard
}

// Accept returns the next connection that there is room for.
func (l *listener) Accept() (net.Conn, error) {
	for {
		raw, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		caller, _, err := net.SplitHostPort(raw.RemoteAddr().String())
		if err != nil {
			caller = raw.RemoteAddr().String()
		}
		c := &conn{Conn: raw, listener: l, caller: caller}
		victim, ok := l.guard.admit(c)
		if !ok {
			l.guard.refused.Add(1)
			raw.Close()
			continue
		}
		if victim != nil {
			l.guard.evicted.Add(1)
			victim.Conn.Close()
		}
		return c, nil
	}
}

// conn is one connection.
type conn struct {
	net.Conn
	listener *listener
	caller   string
	idle     atomic.Int64 // since when, in ns; 0 while it is busy
	over     bool
}

// Close ends the connection and makes room.
func (c *conn) Close() error {
	g := c.listener.guard
	g.mu.Lock()
	g.drop(c)
	g.mu.Unlock()
	return c.Conn.Close()
}

// NetConn is the connection below.
func (c *conn) NetConn() net.Conn { return c.Conn }

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
