package conns

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"testing"
	"time"

	"unitas/internal/waittest"
)

// site is a server behind a guard.
func site(t *testing.T, g *Guard, h http.HandlerFunc) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: h, ConnState: g.State}
	go s.Serve(g.Listen(l)) //nolint:errcheck // it is closed below
	t.Cleanup(func() { s.Close() })
	return l.Addr().String()
}

func dial(t *testing.T, from, to string) net.Conn {
	t.Helper()
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 10 * time.Second}
	c, err := d.Dial("tcp", to)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// answered sends a request and reports whether an answer came.
func answered(c net.Conn, path string) bool {
	fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: front\r\n\r\n", path)
	_ = c.SetReadDeadline(time.Now().Add(10 * time.Second))
	res, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		return false
	}
	_, err = io.Copy(io.Discard, res.Body)
	return err == nil && res.StatusCode == http.StatusOK
}

func cut(c net.Conn) bool {
	_ = c.SetReadDeadline(time.Now().Add(10 * time.Second))
	_, err := c.Read(make([]byte, 1))
	return err != nil && !errors.Is(err, os.ErrDeadlineExceeded)
}

// knownIdle waits until the guard knows that n connections are idle.
func knownIdle(t *testing.T, g *Guard, n int) {
	t.Helper()
	deadline := time.After(10 * time.Second)
	for {
		g.mu.Lock()
		idle := 0
		for c := range g.all {
			if c.idle.Load() != 0 {
				idle++
			}
		}
		g.mu.Unlock()
		if idle == n {
			return
		}
		select {
		case <-deadline:
			t.Fatalf("%d of %d are known to be idle", idle, n)
		case <-time.After(time.Millisecond):
		}
	}
}

// TestIdleGiveWay: the one that is idle longest makes room for the next; a bound for
// one caller touches no other caller's.
func TestIdleGiveWay(t *testing.T) {
	for name, b := range map[string]Bounds{"in all": {All: 4}, "by listener": {ByListener: 4}, "by caller": {ByCaller: 4, All: 100}} {
		t.Run(name, func(t *testing.T) {
			g := New(b)
			address := site(t, g, func(http.ResponseWriter, *http.Request) {})
			var other net.Conn
			if b.ByCaller > 0 {
				other = dial(t, "127.0.0.2", address)
				if !answered(other, "/") {
					t.Fatal("the other caller is not answered")
				}
			}
			var all []net.Conn
			for range 4 {
				c := dial(t, "127.0.0.1", address)
				if !answered(c, "/") {
					t.Fatal("one of the first is not answered")
				}
				all = append(all, c)
				knownIdle(t, g, g.Open()) // the answer is there before the server says so
			}
			if !answered(dial(t, "127.0.0.1", address), "/") {
				t.Error("one more is not answered")
			}
			if !cut(all[0]) {
				t.Error("the one that was idle longest is still there")
			}
			if !answered(all[1], "/") {
				t.Error("another was cut")
			}
			if other != nil && !answered(other, "/") {
				t.Error("the connection of another caller was cut")
			}
			if g.Evicted(OfAll)+g.Evicted(OfListener)+g.Evicted(OfCaller) != 1 || g.Refused(OfAll)+g.Refused(OfListener)+g.Refused(OfCaller) != 0 {
				t.Errorf("%v gave way and %v were refused", g.evicted, g.refused)
			}
		})
	}
}

// TestBusyStay: what is being answered gives way to nobody; the new one is refused,
// and taken once there is room.
func TestBusyStay(t *testing.T) {
	g := New(Bounds{All: 2})
	entered, release := make(chan bool), make(chan bool)
	address := site(t, g, func(_ http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/slow" {
			entered <- true
			<-release
		}
	})
	done := make(chan bool, 2)
	for range 2 {
		c := dial(t, "127.0.0.1", address)
		go func() { done <- answered(c, "/slow") }()
		waittest.For(t, "the request", entered)
	}
	if !cut(dial(t, "127.0.0.1", address)) {
		t.Error("a third is taken")
	}
	if g.Refused(OfAll) != 1 || g.Open() != 2 {
		t.Errorf("%d are refused and %d open", g.Refused(OfAll), g.Open())
	}
	close(release)
	if one, other := <-done, <-done; !one || !other {
		t.Error("one that was being answered was cut")
	}
	if !answered(dial(t, "127.0.0.1", address), "/") {
		t.Error("with room again one is not answered")
	}
}

// TestClosedMakesRoom counts down to nothing.
func TestClosedMakesRoom(t *testing.T) {
	g := New(Bounds{All: 100})
	address := site(t, g, func(http.ResponseWriter, *http.Request) {})
	for range 20 {
		c := dial(t, "127.0.0.1", address)
		if !answered(c, "/") {
			t.Fatal("not answered")
		}
		c.Close()
	}
	deadline := time.After(10 * time.Second)
	for g.Open() > 0 {
		select {
		case <-deadline:
			t.Fatalf("%d are on the books", g.Open())
		case <-time.After(time.Millisecond):
		}
	}
	if len(g.caller) != 0 || len(g.listener) != 0 || len(g.all) != 0 {
		t.Errorf("the books hold %v %v %d", g.caller, g.listener, len(g.all))
	}
}

// TestWhoSignedInIsServed: where callers sign in, connections on which nobody does cannot lock out those
// who do, however busy they look.
func TestWhoSignedInIsServed(t *testing.T) {
	g := New(Bounds{All: 20, ByCaller: 3, SignIn: true})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	release := make(chan struct{})
	s := &http.Server{ConnState: g.State, ConnContext: With, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/in" {
			SignedIn(r.Context())
			return
		}
		<-release
	})}
	go s.Serve(g.Listen(l)) //nolint:errcheck // it is closed below
	t.Cleanup(func() { close(release); s.Close() })
	address := l.Addr().String()
	first := dial(t, "127.0.0.1", address)
	if !answered(first, "/in") {
		t.Fatal("who signs in is not answered")
	}
	if _, err := fmt.Fprint(first, "GET /held HTTP/1.1\r\nHost: x\r\n\r\n"); err != nil { // so that it is busy
		t.Fatal(err)
	}
	var holds []net.Conn
	for range 2 { // requests that never end
		c := dial(t, "127.0.0.1", address)
		if _, err := fmt.Fprint(c, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 9\r\n\r\n"); err != nil {
			t.Fatal(err)
		}
		holds = append(holds, c)
	}
	knownIdle(t, g, 0)
	limit := time.After(10 * time.Second)
	for !answered(dial(t, "127.0.0.1", address), "/in") { // for as long as they might still sign in
		select {
		case <-limit:
			t.Fatal("who signs in is locked out")
		case <-time.After(20 * time.Millisecond):
		}
	}
	if !cut(holds[0]) {
		t.Error("the one that holds longest goes on")
	}
	if g.Evicted(OfCaller) == 0 {
		t.Error("nobody gave way")
	}
	_ = first.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
	if _, err := first.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("who signed in was sent away: %v", err)
	}
}
