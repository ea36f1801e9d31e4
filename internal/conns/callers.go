package conns

import (
	"container/list"
	"net"
	"net/netip"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
)

// mostGone is how many callers of a listener are known that have no connection; of more, the one
// that was seen longest ago is forgotten. Those that have one are bounded by the guard.
const mostGone = 1 << 15

// Limits bound what one caller may take of a listener; 0 is without that limit. Of what is a
// second, as many may come at once.
type Limits struct {
	Connections   int // at once
	ConnectionsPS float64
	RequestsPS    float64
}

// Caller is one address at one listener, or one network of 64 bits of IPv6, which a host has for
// itself.
type Caller struct {
	network  netip.Addr
	listener *Listener
	requests atomic.Pointer[rate.Limiter] // nil without a limit

	// Under the guard's lock.
	connections *rate.Limiter
	open        int
	gone        *list.Element // among those without a connection
}

// NetworkOf is what a caller is counted by.
func NetworkOf(a net.Addr) netip.Addr {
	tcp, ok := a.(*net.TCPAddr)
	if !ok {
		return netip.Addr{}
	}
	ip := tcp.AddrPort().Addr().Unmap().WithZone("")
	if ip.Is6() {
		if p, err := ip.Prefix(64); err == nil {
			return p.Addr()
		}
	}
	return ip
}

// MayAsk reports whether one more request may come now.
func (c *Caller) MayAsk() bool {
	l := c.requests.Load()
	return l == nil || l.Allow()
}

// limit makes the caller's limits those given. The guard's lock is held.
func (c *Caller) limit(l *Limits) {
	c.connections = limiter(c.connections, l.ConnectionsPS)
	if was := c.requests.Load(); (was == nil) != (l.RequestsPS == 0) || (was != nil && float64(was.Limit()) != l.RequestsPS) {
		c.requests.Store(limiter(was, l.RequestsPS))
	}
}

// limiter is one of so many a second, and as many at once.
func limiter(was *rate.Limiter, perSecond float64) *rate.Limiter {
	switch {
	case perSecond == 0:
		return nil
	case was == nil || float64(was.Limit()) != perSecond:
		return rate.NewLimiter(rate.Limit(perSecond), max(1, int(perSecond)))
	}
	return was
}

// come counts a connection in, and tells which of the caller's limits it passes. The lock is held.
func (l *Listener) come(network netip.Addr, now time.Time) (c *Caller, passes string) {
	c = l.callers[network]
	if c == nil {
		c = &Caller{network: network, listener: l}
		l.callers[network] = c
	} else if c.gone != nil {
		l.gone.Remove(c.gone)
		c.gone = nil
	}
	c.limit(&l.limits)
	c.open++
	l.open++
	switch {
	case l.limits.Connections > 0 && c.open > l.limits.Connections:
		passes = "connections"
	case c.connections != nil && !c.connections.AllowN(now, 1):
		passes = "connection-rate"
	}
	return c, passes
}

// leave counts a connection out. The lock is held.
func (l *Listener) leave(c *Caller) {
	c.open--
	l.open--
	if c.open > 0 {
		return
	}
	c.gone = l.gone.PushBack(c)
	if l.gone.Len() > mostGone {
		oldest := l.gone.Remove(l.gone.Front()).(*Caller)
		delete(l.callers, oldest.network)
	}
}

// Limit makes the limits of all callers of the listener those given.
func (l *Listener) Limit(to Limits) {
	l.guard.mu.Lock()
	defer l.guard.mu.Unlock()
	l.limits = to
	for _, c := range l.callers {
		c.limit(&to)
	}
}

// Open is how many connections the listener has.
func (l *Listener) Open() int {
	l.guard.mu.Lock()
	defer l.guard.mu.Unlock()
	return l.open
}
