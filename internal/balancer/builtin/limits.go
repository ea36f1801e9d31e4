package builtin

import (
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"unitas/internal/fleet/traffic"
)

// mostCallers is how many addresses a listener knows apart. When it knows as many, and all are
// there, the others are as one.
const mostCallers = 1 << 15

// callers are who speaks to a listener, by address.
type callers struct {
	mu     sync.Mutex
	all    map[netip.Addr]*visitor
	others *visitor
	swept  time.Time
}

// visitor is one address, or the network that a host has of IPv6.
type visitor struct {
	requests    atomic.Pointer[rate.Limiter] // nil without a limit
	connections *rate.Limiter                // under the callers' lock
	open        int
	last        time.Time
}

func newCallers() *callers { return &callers{all: map[netip.Addr]*visitor{}, others: &visitor{}} }

// networkOf is what a caller is counted by.
func networkOf(a net.Addr) netip.Addr {
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

// come counts a connection in; ok is false when it is one too many.
func (c *callers) come(from net.Addr, l *traffic.ListenerLimits) (v *visitor, ok bool) {
	at := networkOf(from)
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	v = c.all[at]
	if v == nil {
		if len(c.all) >= mostCallers {
			c.forget(now)
		}
		if v = c.others; len(c.all) < mostCallers {
			v = &visitor{}
			c.all[at] = v
		}
	}
	v.last = now
	v.limit(l)
	v.open++
	ok = (l.Connections == 0 || v.open <= l.Connections) && (v.connections == nil || v.connections.AllowN(now, 1))
	return v, ok
}

// limit makes the limits of a visitor those given.
func (v *visitor) limit(l *traffic.ListenerLimits) {
	v.connections = limiter(v.connections, l.ConnectionsPS)
	if was := v.requests.Load(); (was == nil) != (l.RequestsPS == 0) || (was != nil && float64(was.Limit()) != l.RequestsPS) {
		v.requests.Store(limiter(was, l.RequestsPS))
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

// open is how many connections there are.
func (c *callers) open() (n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	n = c.others.open
	for _, v := range c.all {
		n += v.open
	}
	return n
}

// leave counts a connection out.
func (c *callers) leave(v *visitor) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v.open--
	v.last = time.Now()
}

// forget ends what is known of those that left a while ago. The lock is held.
func (c *callers) forget(now time.Time) {
	if now.Sub(c.swept) < time.Second { // it is a look at all
		return
	}
	c.swept = now
	for at, v := range c.all {
		if v.open == 0 && now.Sub(v.last) > time.Minute {
			delete(c.all, at)
		}
	}
}

// change makes the limits of all that are there those given.
func (c *callers) change(l *traffic.ListenerLimits) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, v := range c.all {
		v.limit(l)
	}
	c.others.limit(l)
}

// may reports whether one more request may come now.
func (v *visitor) may() bool {
	l := v.requests.Load()
	return l == nil || l.Allow()
}
