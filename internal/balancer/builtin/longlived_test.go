package builtin

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/certtest"
	"unitas/internal/fleet/traffic"
)

// echo answers every line as it comes, over whatever it is asked.
func echo(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	if r.Header.Get("Upgrade") != "" {
		c, both, err := rc.Hijack()
		if err != nil {
			return
		}
		defer c.Close()
		fmt.Fprint(both, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: lines\r\n\r\n")
		_ = both.Flush()
		for {
			line, err := both.ReadString('\n')
			if err != nil {
				return
			}
			fmt.Fprint(both, line)
			_ = both.Flush()
		}
	}
	if r.Method == http.MethodGet {
		fmt.Fprint(w, "short")
		return
	}
	_ = rc.EnableFullDuplex()
	_ = rc.Flush()
	lines := bufio.NewReader(r.Body)
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			return
		}
		fmt.Fprint(w, line)
		_ = rc.Flush()
	}
}

// stream is a conversation that goes on.
type stream struct {
	say   func(line string) error
	lines *bufio.Reader
	end   func()
}

func (s *stream) goesOn(n *int) error {
	*n++
	want := fmt.Sprintf("line %d\n", *n)
	if err := s.say(want); err != nil {
		return err
	}
	got, err := s.lines.ReadString('\n')
	if err == nil && got != want {
		err = fmt.Errorf("it heard %q", got)
	}
	return err
}

// overHTTP begins one as a request whose body and answer go on.
func overHTTP(t *testing.T, url string, transport *http.Transport) *stream {
	t.Helper()
	r, w := io.Pipe()
	req, err := http.NewRequest(http.MethodPost, url, r)
	if err != nil {
		t.Fatal(err)
	}
	res, err := transport.RoundTrip(req)
	if err != nil {
		t.Fatal(err)
	}
	return &stream{say: func(line string) error { _, err := io.WriteString(w, line); return err }, lines: bufio.NewReader(res.Body), end: func() { w.Close(); res.Body.Close(); transport.CloseIdleConnections() }}
}

// overConn begins one on a connection of its own.
func overConn(t *testing.T, c net.Conn, err error, opening string) *stream {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	_ = c.SetDeadline(time.Now().Add(30 * time.Second))
	s := &stream{say: func(line string) error { _, err := io.WriteString(c, line); return err }, lines: bufio.NewReader(c), end: func() { c.Close() }}
	if opening != "" {
		fmt.Fprint(c, opening)
		if _, err := http.ReadResponse(s.lines, nil); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// TestNothingIsCut changes everything that can be under streams of each kind. They go on until
// their own end, however their target, route, certificate, limits and listener change.
func TestNothingIsCut(t *testing.T) {
	t.Parallel() // it mostly waits
	dir := t.TempDir()
	pair := balancer.Pair{Name: "saltmere", Chain: filepath.Join(dir, "saltmere.pem"), Key: filepath.Join(dir, "saltmere.key")}
	other := balancer.Pair{Name: "other", Chain: filepath.Join(dir, "other.pem"), Key: filepath.Join(dir, "other.key")}
	certtest.Write(t, pair.Chain, pair.Key, 1)
	certtest.Write(t, other.Chain, other.Key, 2)
	anyone := &tls.Config{InsecureSkipVerify: true}
	only := func(h1, h2, clear bool) *http.Protocols {
		p := new(http.Protocols)
		p.SetHTTP1(h1)
		p.SetHTTP2(h2)
		p.SetUnencryptedHTTP2(clear)
		return p
	}
	const upgrade = "GET / HTTP/1.1\r\nHost: h\r\nConnection: Upgrade\r\nUpgrade: lines\r\n\r\n"
	for _, c := range []struct {
		name  string
		kind  traffic.Protocol
		begin func(t *testing.T, address string) *stream
	}{
		{"HTTP/1.1", traffic.HTTP, func(t *testing.T, at string) *stream { return overHTTP(t, "http://"+at, &http.Transport{}) }},
		{"HTTP/2 in clear", traffic.HTTP, func(t *testing.T, at string) *stream {
			return overHTTP(t, "http://"+at, &http.Transport{Protocols: only(false, false, true)})
		}},
		{"HTTP/1.1 with TLS", traffic.HTTPS, func(t *testing.T, at string) *stream {
			return overHTTP(t, "https://"+at, &http.Transport{TLSClientConfig: anyone.Clone(), Protocols: only(true, false, false)})
		}},
		{"HTTP/2 with TLS", traffic.HTTPS, func(t *testing.T, at string) *stream {
			return overHTTP(t, "https://"+at, &http.Transport{TLSClientConfig: anyone.Clone(), Protocols: only(false, true, false)})
		}},
		{"a switched protocol", traffic.HTTP, func(t *testing.T, at string) *stream {
			conn, err := net.Dial("tcp", at)
			return overConn(t, conn, err, upgrade)
		}},
		{"a switched protocol with TLS", traffic.HTTPS, func(t *testing.T, at string) *stream {
			conn, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true})
			return overConn(t, conn, err, upgrade)
		}},
		{"any protocol", traffic.TCP, func(t *testing.T, at string) *stream {
			conn, err := net.Dial("tcp", at)
			return overConn(t, conn, err, "")
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := newSite(t, echo, echo)
			if c.kind == traffic.TCP {
				f.targets = f.targets[:0]
				for i := range 2 {
					f.targets = append(f.targets, balancer.Target{Instance: fmt.Sprint("timetable-", i), Address: echoLines(t), Open: true, Weight: 100})
				}
				f.apply()
			}
			f.second(t, "elsewhere", say("elsewhere"))
			f.listener.Pairs = []balancer.Pair{pair}
			f.listen(func(l *traffic.Listener) {
				if l.Protocol, l.HTTP2 = c.kind, c.kind != traffic.TCP; l.HTTP2 {
					l.Upgrades = []string{"lines"}
				}
			})
			s := c.begin(t, f.address)
			defer s.end()
			n := 0
			step := func(what string, change func()) {
				t.Helper()
				change()
				for range 2 {
					if err := s.goesOn(&n); err != nil {
						t.Fatalf("after %s: %v", what, err)
					}
				}
			}
			step("its beginning", func() {})
			step("another limit", func() { f.listen(func(l *traffic.Listener) { l.Limits.Idle += time.Second }) })
			step("another certificate", func() {
				f.listener.Pairs = []balancer.Pair{other, pair}
				f.listen(func(*traffic.Listener) {})
			})
			if c.kind != traffic.TCP {
				step("a route to elsewhere", func() {
					f.listen(func(l *traffic.Listener) { l.Routes = []traffic.Route{{Pool: "elsewhere"}} })
				})
				step("no HTTP/2 any more", func() { f.listen(func(l *traffic.Listener) { l.HTTP2 = false }) })
			}
			step("limits of the pool", func() { f.pool.Spoken.Limits.Connect = time.Second; f.apply() })
			step("another way to speak to targets", func() { f.pool.Spoken.Protocol = traffic.HTTP2; f.apply() })
			step("its target is closed", func() {
				for i := range f.targets {
					f.targets[i].Open = false
				}
				f.apply()
			})
			if f.flying("timetable-0")+f.flying("timetable-1") != 1 {
				t.Errorf("%d are in flight", f.flying("timetable-0")+f.flying("timetable-1"))
			}
			step("its target is gone", func() { f.targets = nil; f.apply() })
			step("its pool is gone", func() { f.Remove("front") })
			step("its listener is closed", func() { f.Listen(nil) })
			if _, err := net.DialTimeout("tcp", f.address, time.Second); err == nil {
				t.Error("a listener that was closed takes connections")
			}
			if f.flying("timetable-0")+f.flying("timetable-1") != 1 {
				t.Error("a stream that goes on is not in flight any more")
			}
			s.end()
			waitFor(t, "its end is known", func() bool { return f.flying("timetable-0")+f.flying("timetable-1") == 0 })
		})
	}
}

// echoLines is a server that sends back what it gets.
func echoLines(t *testing.T) string {
	t.Helper()
	return connected(t, func(c net.Conn) { _, _ = io.Copy(c, c) })
}

// TestOneThatEndsEndsAll: a balancer that ends gives what goes on a moment, and then cuts it.
func TestOneThatEndsEndsAll(t *testing.T) {
	t.Parallel() // it mostly waits
	f := newSite(t, echo)
	s := overHTTP(t, "http://"+f.address, &http.Transport{})
	defer s.end()
	n := 0
	if err := s.goesOn(&n); err != nil {
		t.Fatal(err)
	}
	closed := make(chan bool)
	go func() {
		f.Close()
		close(closed)
	}()
	select {
	case <-closed:
	case <-time.After(lastMoment + 5*time.Second):
		t.Fatal("it does not end")
	}
	if rest, err := io.ReadAll(s.lines); err == nil && strings.Contains(string(rest), "line") {
		t.Error("the stream was not cut")
	}
}
