package builtin

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

// What a caller or a target may do to end the whole service, or to hold something for ever.

// TestAnUpgradeWithABody: what goes on in another protocol is read by one alone.
func TestAnUpgradeWithABody(t *testing.T) {
	f, target := hand(t, func(c net.Conn, _ heard) {
		fmt.Fprint(c, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
		_, _ = io.Copy(io.Discard, c)
	})
	for name, send := range map[string]string{
		"of a length": "Content-Length: 100000\r\n\r\nhalf",
		"in chunks":   "Transfer-Encoding: chunked\r\n\r\n4\r\nhalf\r\n",
	} {
		for range 20 {
			got := talk(t, f.address, "POST / HTTP/1.1\r\nHost: h\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n"+send, ends("never"))
			if !strings.HasPrefix(got, "HTTP/1.1 400 ") {
				t.Fatalf("%s: answered %q", name, got)
			}
		}
	}
	select {
	case h := <-target.heard:
		t.Errorf("the target heard %q", h.line)
	default:
	}
}

// TestATargetSwitchesInTheMiddle of a request with a body, though nobody asked it to.
func TestATargetSwitchesInTheMiddle(t *testing.T) {
	address := connected(t, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 1000))
		fmt.Fprint(c, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
		_, _ = io.Copy(io.Discard, c)
	})
	f := newSite(t)
	f.targets = []balancer.Target{{Instance: "switches", Address: address, Open: true, Weight: 100}}
	f.apply()
	for range 20 {
		if got := talk(t, f.address, "POST / HTTP/1.1\r\nHost: h\r\nContent-Length: 100000\r\n\r\nhalf", ends("never")); !strings.HasPrefix(got, "HTTP/1.1 502 ") {
			t.Fatalf("answered %q", got)
		}
	}
}

// TestHintsOfOneGivenUp: a target sends early answers by HTTP/2 while its requests are given up:
// nothing is written for one that is over.
func TestHintsOfOneGivenUp(t *testing.T) {
	t.Parallel() // it mostly waits
	f := newSite(t)
	server := newH2Server(t, func(w http.ResponseWriter, r *http.Request) {
		for i := 0; r.Context().Err() == nil; i++ {
			w.Header().Set(fmt.Sprint("X-", i%7), "early")
			w.WriteHeader(http.StatusEarlyHints)
		}
	})
	f.pool.Spoken.Protocol, f.pool.Spoken.Limits.Request = traffic.HTTP2, 2*time.Millisecond
	f.targets = []balancer.Target{{Instance: "hints", Address: server, Open: true, Weight: 100}}
	f.apply()
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 50 {
				if got := talk(t, f.address, "GET / HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n", ends("never")); !strings.Contains(got, " 504 ") {
					t.Errorf("answered %.300q", got)
					return
				}
			}
		})
	}
	all.Wait()
}

// newH2Server is a target that speaks HTTP/2 in clear.
func newH2Server(t testing.TB, h http.HandlerFunc) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	protocols := new(http.Protocols)
	protocols.SetUnencryptedHTTP2(true)
	s := &http.Server{Handler: h, Protocols: protocols}
	go s.Serve(l) //nolint:errcheck // it is closed below
	t.Cleanup(func() { s.Close() })
	return l.Addr().String()
}

// TestABodyThatNeverComes: whoever answers before it, the answer comes to the caller whole, and
// the connection ends soon.
func TestABodyThatNeverComes(t *testing.T) {
	address := connected(t, func(c net.Conn) {
		_, _ = bufio.NewReader(c).ReadString('\n')
		fmt.Fprint(c, fine)
		_, _ = io.Copy(io.Discard, c)
	})
	for i, c := range []struct {
		name, want string
		limits     func(l *traffic.Listener)
	}{
		{"no route", " 404 ", func(l *traffic.Listener) { l.Pool, l.Routes = "", []traffic.Route{{Path: "/elsewhere", Pool: "front"}} }},
		{"too many", " 429 ", func(l *traffic.Listener) { l.Limits.RequestsPS = 0.001 }},
		{"too long", " 413 ", func(l *traffic.Listener) { l.Limits.BodyBytes = 10 }},
		{"redirected", " 308 ", func(l *traffic.Listener) { l.Redirect = 443 }},
		{"no pool", " 503 ", func(l *traffic.Listener) { l.Pool = "gone" }},
		{"the target answers before it", " 200 ", func(*traffic.Listener) {}},
	} {
		for k, head := range []string{"Content-Length: 1000\r\n\r\n", "Content-Length: 1000\r\nConnection: close\r\n\r\n", "Transfer-Encoding: chunked\r\n\r\n", "Content-Length: 1000000\r\n\r\n"} {
			if c.want != " 200 " && k != i && (k != 1 || c.name == "redirected") || c.name == "too long" && k == 2 {
				continue // each takes a second
			}
			t.Run(c.name, func(t *testing.T) {
				t.Parallel()
				f := newSite(t)
				f.targets = []balancer.Target{{Instance: "early", Address: address, Open: true, Weight: 100}}
				f.apply()
				f.listen(c.limits)
				if c.name == "too many" {
					talk(t, f.address, "GET / HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n", ends("never"))
				}
				conn, err := net.Dial("tcp", f.address)
				if err != nil {
					t.Fatal(err)
				}
				defer conn.Close()
				_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
				fmt.Fprint(conn, "POST / HTTP/1.1\r\nHost: h\r\n"+head)
				begun := time.Now()
				got, err := io.ReadAll(conn) // up to the end of what it sends
				if took := time.Since(begun); err != nil || !strings.Contains(string(got), c.want) || took > 900*time.Millisecond {
					t.Errorf("%q: answered %q, %v, after %s", head, got, err, took)
				}
				// It goes on sending for a moment, and is not reset for it before it has read.
				for range 2 { // a reset is heard of by the second
					if _, err := conn.Write(make([]byte, 1000)); err != nil {
						t.Errorf("%q: who sends on is told %v", head, err)
					}
					<-time.After(50 * time.Millisecond)
				}
				waitFor(t, "the connection ends", func() bool { return f.Listening()[0].Connections == 0 })
				if took := time.Since(begun); took > 3*time.Second {
					t.Errorf("%q: it ends after %s", head, took)
				}
			})
		}
	}
}

// TestOneConnectionTooMany is told so, and ends at once, whatever it was about to send.
func TestOneConnectionTooMany(t *testing.T) {
	f := newSite(t, say("ok"))
	f.listen(func(l *traffic.Listener) { l.Limits.Connections = 5 })
	var all []net.Conn
	for range 50 {
		c, err := net.Dial("tcp", f.address)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		fmt.Fprint(c, "POST / HTTP/1.1\r\nHost: h\r\nContent-Length: 1000\r\n\r\n")
		all = append(all, c)
	}
	begun := time.Now()
	waitFor(t, "only as many are there as may be", func() bool { return f.Listening()[0].Connections <= 5 })
	if took := time.Since(begun); took > 500*time.Millisecond {
		t.Errorf("the others end after %s", took)
	}
	told := 0
	for _, c := range all[5:] {
		if got, _ := io.ReadAll(c); strings.HasPrefix(string(got), "HTTP/1.1 429 ") {
			told++
		}
	}
	if s := f.Listening()[0]; told != 45 || s.Refused != 45 || s.OverConnections != 45 {
		t.Errorf("%d of 45 were told so; it tells %+v", told, s)
	}
}

// TestACallerOfHTTP2ThatStopsReading is cut, whether it takes no bytes or leaves no room for more.
func TestACallerOfHTTP2ThatStopsReading(t *testing.T) {
	t.Parallel() // it mostly waits
	f := newSite(t, func(w http.ResponseWriter, _ *http.Request) {
		for range 64 {
			if _, err := w.Write(make([]byte, 1<<20)); err != nil {
				return
			}
		}
	})
	f.listen(func(l *traffic.Listener) { l.HTTP2, l.Limits.Idle = true, 300*time.Millisecond })
	deaf := f.http2(t)
	if err := deaf.WriteSettings(); err != nil {
		t.Fatal(err)
	}
	_ = deaf.WriteWindowUpdate(0, 1<<30)
	_ = deaf.head(1, true, plainly("GET", "/")...)
	_ = deaf.WriteWindowUpdate(1, 1<<30)
	full := f.http2(t)
	_ = full.head(1, true, plainly("GET", "/")...)
	reads := make(chan string, 1)
	go func() {
		_, body := full.answer(1)
		reads <- body
	}()
	waitFor(t, "both are in flight", func() bool { return f.flying("timetable-0") == 2 })
	waitFor(t, "they are cut", func() bool { return f.flying("timetable-0") == 0 })
	if body := waittest.For(t, "the end of the stream", reads); !strings.HasPrefix(body, "reset: ") {
		t.Errorf("who leaves no room gets %.80q", body)
	}
	waitFor(t, "neither has a connection", func() bool { return f.Listening()[0].Connections == 0 })
}

// TestAQuietStreamLives: what says nothing for longer than idle while it is well goes on, by each
// version: an answer in parts, and one whose caller is silent with its body open.
func TestAQuietStreamLives(t *testing.T) {
	t.Parallel() // it mostly waits
	speak := func(w http.ResponseWriter, pause time.Duration, times int) {
		for i := range times {
			fmt.Fprint(w, i)
			_ = http.NewResponseController(w).Flush()
			<-time.After(pause)
		}
	}
	handler := func(w http.ResponseWriter, r *http.Request) {
		_ = http.NewResponseController(w).EnableFullDuplex()
		if r.Method == http.MethodGet {
			speak(w, 700*time.Millisecond, 2)
			return
		}
		speak(w, 50*time.Millisecond, 15)
	}
	for name, http2 := range map[string]bool{"HTTP/1.1": false, "HTTP/2": true} {
		f := newSite(t, handler)
		f.listen(func(l *traffic.Listener) { l.HTTP2, l.Limits.Idle = true, 200*time.Millisecond })
		p := new(http.Protocols)
		p.SetHTTP1(!http2)
		p.SetUnencryptedHTTP2(http2)
		client := &http.Client{Transport: &http.Transport{Protocols: p}}
		hold, _ := io.Pipe()
		for method, want := range map[string]string{http.MethodGet: "01", http.MethodPost: "01234567891011121314"} {
			var body io.Reader
			if method == http.MethodPost {
				body = hold
			}
			req, _ := http.NewRequest(method, f.url, body)
			res, err := client.Do(req)
			if err != nil {
				t.Errorf("%s by %s: %v", method, name, err)
				continue
			}
			got, err := io.ReadAll(res.Body)
			res.Body.Close()
			if string(got) != want || err != nil {
				t.Errorf("%s by %s: got %q, %v", method, name, got, err)
			}
		}
		hold.Close()
		client.CloseIdleConnections()
	}
}

// TestAFaultIsOfOneRequest: where the code of the balancer itself fails, one request fails.
func TestAFaultIsOfOneRequest(t *testing.T) {
	f := newSite(t, say("ok"))
	var met atomic.Int64
	broken := &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) {
		met.Add(1)
		return nil, fmt.Errorf("never")
	}}
	f.pools["front"].lane.Load().targets[0].upstream.Store(&upstream{other: broken, scheme: "http", wire: f.pools["front"].lane.Load().targets[0].upstream.Load().wire})
	if status, body := f.get(t, http.MethodGet, ""); status != http.StatusBadGateway || met.Load() == 0 {
		t.Errorf("answered %d %q", status, body)
	}
	x := bodied(t, panics{})
	if _, err := x.as().Read(make([]byte, 1)); err == nil || !strings.Contains(err.Error(), "a fault of the service") {
		t.Errorf("a body that fails is read: %v", err)
	}
}

// panics is what nobody expects.
type panics struct{}

func (panics) Read([]byte) (int, error) { panic("a fault") }
