package conns

import (
	"net"
	"net/netip"
	"testing"
)

// TestNetworks: a caller is one address, of IPv6 one network of 64 bits.
func TestNetworks(t *testing.T) {
	of := func(ip string) netip.Addr { return NetworkOf(&net.TCPAddr{IP: net.ParseIP(ip), Port: 1}) }
	if of("2001:db8::1") != of("2001:db8::ffff:2") || of("2001:db8::1") == of("2001:db8:0:1::1") || of("192.0.2.1") == of("192.0.2.2") || of("::ffff:192.0.2.1") != of("192.0.2.1") {
		t.Error("callers are taken for others")
	}
	if NetworkOf(&net.UnixAddr{Name: "x"}).IsValid() {
		t.Error("what has no address is counted by one")
	}
}

// room is a listener of a guard, and a way to come to it without a connection.
func room(b Bounds) (*Listener, func(ip string) (*Conn, bool)) {
	g := New(b)
	l := g.Listen(nil)
	return l, func(ip string) (*Conn, bool) {
		near, _ := net.Pipe()
		c := &Conn{Conn: near, listener: l, network: NetworkOf(&net.TCPAddr{IP: net.ParseIP(ip), Port: 1})}
		_, ok := g.admit(c)
		return c, ok
	}
}

// TestOneRoom: bounds and limits count the same callers, however many addresses one has.
func TestOneRoom(t *testing.T) {
	l, come := room(Bounds{ByCaller: 5})
	l.Limit(Limits{Connections: 3})
	var all []*Conn
	passed, refused := 0, 0
	for n := range 8 {
		c, ok := come(netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(n)}).String())
		c.idle.Store(0) // each is busy
		if !ok {
			refused++
			continue
		}
		if _, passes := c.By(); passes == "connections" {
			passed++
		}
		all = append(all, c)
	}
	if passed != 2 || refused != 3 || l.guard.Refused(OfCaller) != 3 || l.Open() != 5 {
		t.Errorf("of 8 connections of one network %d passed the limit and %d were refused; %d are open", passed, refused, l.Open())
	}
	if c, ok := come("2001:db8:1::1"); !ok {
		t.Error("another network is refused")
	} else if _, passes := c.By(); passes != "" {
		t.Errorf("another network passes %s", passes)
	}
	for _, c := range all {
		c.Close()
	}
	c, ok := come("2001:db8::99")
	if _, passes := c.By(); !ok || passes != "" {
		t.Error("after they left one more is refused")
	}
}

// TestWhoIsForgotten: those seen longest ago of those without a connection, and never one that has
// one; whoever is new has limits of its own.
func TestWhoIsForgotten(t *testing.T) {
	l, come := room(Bounds{})
	l.Limit(Limits{RequestsPS: 1})
	stays, _ := come("10.0.0.1")
	by, _ := stays.By()
	if !by.MayAsk() || by.MayAsk() {
		t.Error("it may not ask once a second")
	}
	first := ""
	for n := range mostGone + 100 {
		ip := netip.AddrFrom4([4]byte{10, 1, byte(n >> 8), byte(n)}).String()
		if n >= 1<<16 {
			t.Fatal("too many")
		}
		if first == "" {
			first = ip
		}
		c, _ := come(ip)
		if who, _ := c.By(); !who.MayAsk() {
			t.Fatalf("the %d. shares a limit with others", n)
		}
		c.Close()
	}
	if n := len(l.callers); n != mostGone+1 || l.gone.Len() != mostGone {
		t.Errorf("%d are known", n)
	}
	if again, _ := come("10.0.0.1"); again.by != by {
		t.Error("one that has a connection was forgotten")
	}
	back, _ := come(first)
	if who, _ := back.By(); !who.MayAsk() {
		t.Error("one that was forgotten comes with a used up limit")
	}
}

// TestRatesOfConnections: as many at once as in a second.
func TestRatesOfConnections(t *testing.T) {
	l, come := room(Bounds{})
	l.Limit(Limits{ConnectionsPS: 2})
	over := 0
	for range 5 {
		c, _ := come("10.0.0.1")
		if _, passes := c.By(); passes == "connection-rate" {
			over++
		}
	}
	if over != 3 {
		t.Errorf("%d of 5 pass a rate of 2 a second", over)
	}
	l.Limit(Limits{})
	c, _ := come("10.0.0.1")
	if _, passes := c.By(); passes != "" {
		t.Errorf("without a limit one passes %s", passes)
	}
}
