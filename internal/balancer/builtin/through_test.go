package builtin

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/net/http2"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

// What passes through, and what does not.

// TestRequestsThatAreNone by HTTP/2, which an HTTP/1.1 target would read as others, reach nobody.
func TestRequestsThatAreNone(t *testing.T) {
	f, target := hand(t, says(fine))
	f.listen(func(l *traffic.Listener) {
		l.HTTP2, l.Pool = true, ""
		l.Routes = []traffic.Route{{Path: "/fares", Pool: "front"}}
	})
	authority := func(a string) []string {
		return []string{":method", "GET", ":scheme", "http", ":authority", a, ":path", "/fares"}
	}
	for name, fields := range map[string][]string{
		"a method with another request in it": plainly("GET /admin HTTP/1.1\r\nX: ", "/fares"),
		"a method with a space":               plainly("GET /admin", "/fares"),
		"a path with a space":                 plainly("GET", "/fares HTTP/1.1"),
		"a path with a fragment":              plainly("GET", "/fares#x"),
		"a path beyond ASCII":                 plainly("GET", "/fares\xe9"),
		"a path with a backslash":             plainly("GET", "/fares\\..\\admin"),
		"an absolute path":                    plainly("GET", "http://h/fares"),
		"a path of no server":                 plainly("GET", "*"),
		"a host with a path":                  authority("h/x"),
		"a host with a user":                  authority("me@h"),
		"a host with a space":                 authority("h x"),
		"a host with a bad port":              authority("h:8x"),
		"no host":                             {":method", "GET", ":scheme", "http", ":path", "/fares"},
		"another host":                        plainly("GET", "/fares", "host", "other"),
		"an empty length":                     plainly("POST", "/fares", "content-length", ""),
		"a length with a sign":                plainly("POST", "/fares", "content-length", "+4"),
		"two lengths":                         plainly("POST", "/fares", "content-length", "4", "content-length", "5"),
		"a trailer that is none":              plainly("POST", "/fares", "trailer", "foo bar"),
	} {
		for _, bodiless := range []bool{true, false} {
			h2 := f.http2(t)
			_ = h2.head(1, bodiless, fields...)
			if !bodiless {
				_ = h2.WriteData(1, true, []byte("body"))
			}
			if status, body := h2.answer(1); status != "400" && !strings.HasPrefix(body, "reset: PROTOCOL") && !strings.HasPrefix(body, "go away") {
				t.Errorf("%s, without a body %t: answered %s %q", name, bodiless, status, body)
			}
		}
		select {
		case h := <-target.heard:
			t.Errorf("%s: the target heard %q %q %q", name, h.line, h.fields, h.body)
		default:
		}
	}
	if s := f.Listening()[0]; s.Refused != 0 || s.Malformed == 0 {
		t.Errorf("%d are told to have passed a limit, and %d to be none", s.Refused, s.Malformed)
	}
	h2 := f.http2(t)
	_ = h2.head(1, false, plainly("POST", "/fares?x=1", "content-length", "4")...)
	_ = h2.WriteData(1, true, []byte("body"))
	if status, body := h2.answer(1); status != "200" || body != "ok" {
		t.Errorf("a good one is answered %s %q", status, body)
	}
	if h := waittest.For(t, "the good one", target.heard); h.line != "POST /fares?x=1 HTTP/1.1" || h.body != "body" {
		t.Errorf("the target heard %q %q", h.line, h.body)
	}
}

// TestUpgradesThatPass are those that the listener names; HTTP/2 in clear never is.
func TestUpgradesThatPass(t *testing.T) {
	f, target := hand(t, func(c net.Conn, h heard) {
		if i := slices.IndexFunc(h.fields, func(f string) bool { return strings.HasPrefix(f, "Upgrade: ") }); i >= 0 {
			fmt.Fprintf(c, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\n%s\r\n\r\nnow %s", h.fields[i], h.fields[i][9:])
			return
		}
		fmt.Fprint(c, fine)
	})
	for _, c := range []struct {
		name     string
		upgrades []string
		asks     string
		passes   string
	}{
		{"usual", nil, "websocket", "websocket"},
		{"in capitals", nil, "WebSocket", "WebSocket"},
		{"another", nil, "lines", ""},
		{"named", []string{"lines"}, "lines", "lines"},
		{"no more the usual", []string{"lines"}, "websocket", ""},
		{"none", []string{"none"}, "websocket", ""},
		{"one of several", []string{"websocket"}, "lines, websocket", "websocket"},
		{"HTTP/2 in clear", nil, "h2c", ""},
		{"HTTP/2 in clear, named", []string{"h2c"}, "h2c", ""},
		{"HTTP/2 in clear beside another", nil, "h2c, websocket", "websocket"},
	} {
		f.listen(func(l *traffic.Listener) { l.Upgrades = c.upgrades })
		want := "ok"
		if c.passes != "" {
			want = "now " + c.passes
		}
		got := talk(t, f.address, "GET / HTTP/1.1\r\nHost: h\r\nConnection: Upgrade, HTTP2-Settings\r\nHTTP2-Settings: AAMAAABk\r\nUpgrade: "+c.asks+"\r\n\r\n", ends(want))
		h := waittest.For(t, c.name, target.heard)
		has := slices.Contains(h.fields, "Upgrade: "+c.passes)
		if !strings.HasSuffix(got, want) || has != (c.passes != "") || strings.Contains(strings.Join(h.fields, "\n"), "h2c") || strings.Contains(strings.Join(h.fields, "\n"), "Http2") {
			t.Errorf("%s: answered %q, the target heard %q", c.name, got, h.fields)
		}
	}
}

// TestAnotherProtocolThanAskedFor is none: the caller is told, and the target is to blame.
func TestAnotherProtocolThanAskedFor(t *testing.T) {
	for _, says := range []string{"Upgrade: odd\r\n", "", "Upgrade: websocket, odd\r\n"} {
		f, _ := hand(t, func(c net.Conn, _ heard) {
			fmt.Fprint(c, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\n"+says+"\r\n")
		})
		got := talk(t, f.address, "GET / HTTP/1.1\r\nHost: h\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n", func(got string) bool { return strings.Contains(got, "(pool front)") })
		if !strings.HasPrefix(got, "HTTP/1.1 502 ") || len(f.blamed()) != 1 {
			t.Errorf("%q: answered %q, blamed are %v", says, got, f.blamed())
		}
	}
}

// TestFieldsThatLookLikeOurs are dropped, before a body and after it.
func TestFieldsThatLookLikeOurs(t *testing.T) {
	f, target := hand(t, says("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: Checksum, Connection, X-Forwarded-For, Content_Length\r\n\r\n2\r\nok\r\n0\r\nChecksum: 7f\r\nConnection: close\r\nContent_Length: 7\r\nX-Forwarded-For: 1.1.1.1\r\n\r\n"))
	got := talk(t, f.address, "POST / HTTP/1.1\r\nHost: h\r\nX_Forwarded_For: 1.2.3.4\r\nX-Forwarded_Proto: https\r\nx_request_id: me\r\nTransfer_Encoding: chunked\r\nContent_Length: 3\r\nX_Kept: k\r\n"+
		"Transfer-Encoding: chunked\r\nTrailer: Checksum, X-Forwarded-For, Connection, Host\r\n\r\n2\r\nok\r\n0\r\nChecksum: 7f\r\nX-Forwarded-For: 1.2.3.4\r\nConnection: close\r\nHost: other\r\nX_Forwarded_For: 9\r\nUpgrade: h2c\r\n\r\n", ends("7f\r\n\r\n"))
	h := waittest.For(t, "the request", target.heard)
	if want := []string{"Host: h", "Trailer: Checksum", "Transfer-Encoding: chunked", "X_kept: k"}; !slices.Equal(h.fields, want) || h.after != "Checksum: 7f\r\n" {
		t.Errorf("the target heard %q, and after the body %q", h.fields, h.after)
	}
	if _, after, _ := strings.Cut(got, "0\r\n"); after != "Checksum: 7f\r\n\r\n" || strings.Contains(got, "Content_") || !strings.Contains(got, "Trailer: Checksum\r\n") {
		t.Errorf("the caller got %q", got)
	}
}

// TestPathsAreRoutedAsTheyAreSent: one rule, and the target gets exactly what was routed.
func TestPathsAreRoutedAsTheyAreSent(t *testing.T) {
	f, target := hand(t, says(fine))
	crew := targetByHand(t, says(fine))
	if err := f.Sync(t.Context(), balancer.Pool{Name: "crew", Known: true, As: 1, Targets: []balancer.Target{{Instance: "crew-0", Address: crew.address, Open: true, Weight: 100}}}); err != nil {
		t.Fatal(err)
	}
	f.listen(func(l *traffic.Listener) {
		l.HTTP2, l.Routes = true, []traffic.Route{{Path: "/crew/rota", Pool: "crew"}}
	})
	for _, c := range []struct{ asked, sent, to string }{
		{"/crew/rota", "/crew/rota", "crew"},
		{"/crew/rota/7?x=/../y", "/crew/rota/7?x=/../y", "crew"},
		{"/sailings/../crew/rota", "/crew/rota", "crew"},
		{"/sailings/%2e%2E/crew/./rota/", "/crew/rota/", "crew"},
		{"/crew/rota/../../sailings", "/sailings", "front"},
		{"/crew/rota/..", "/crew/", "front"},
		{"/../../crew/rota", "/crew/rota", "crew"},
		{"/c%72ew/r%6Fta", "/c%72ew/r%6Fta", "crew"},
		{"/crew%2Frota", "/crew%2Frota", "front"},
		{"/crew/rota%2F..", "/crew/rota%2F..", "front"},
		{"/crew//rota", "/crew//rota", "front"},
		{"//crew/rota", "//crew/rota", "front"},
		{"/crew/rotas", "/crew/rotas", "front"},
		{"/crew/.../rota", "/crew/.../rota", "front"},
		{"/crew/%2525", "/crew/%2525", "front"},
	} {
		for version, ask := range map[string]func(){
			"HTTP/1.1": func() {
				talk(t, f.address, "GET "+c.asked+" HTTP/1.1\r\nHost: h\r\n\r\n", ends("ok"))
			},
			"HTTP/2": func() {
				h2 := f.http2(t)
				_ = h2.head(1, true, plainly("GET", c.asked)...)
				h2.answer(1)
			},
		} {
			ask()
			var got, to string
			select {
			case h := <-target.heard:
				got, to = h.line, "front"
			case h := <-crew.heard:
				got, to = h.line, "crew"
			case <-time.After(waittest.Limit):
				t.Fatalf("%s by %s: nobody heard it", c.asked, version)
			}
			if got != "GET "+c.sent+" HTTP/1.1" || to != c.to {
				t.Errorf("%s by %s: %s heard %q", c.asked, version, to, got)
			}
		}
		trace, _ := f.Try(f.address, balancer.Trial{Host: "h", Path: c.asked})
		if trace.Pool != c.to {
			t.Errorf("%s: a trial says %+v", c.asked, trace)
		}
	}
}

// TestWhatIsShownIsPlain: no control characters of a request are in what people look at.
func TestWhatIsShownIsPlain(t *testing.T) {
	t.Parallel() // it mostly waits
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	c, err := net.Dial("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprint(c, "GET /%1b%5b2J%0afares?secret HTTP/1.1\r\nHost: h\r\n\r\n")
	waitFor(t, "the request is in flight", func() bool { return f.flying("timetable-0") == 1 })
	f.targets[0].Open = false
	f.apply()
	s, _ := f.Stats("front")
	if one := s.Targets[0].WaitsFor; len(one) != 1 || one[0].Path != "/%1b%5b2J%0afares" {
		t.Errorf("it waits for %q", one)
	}
}

// TestTimesOfATarget: each limit is of what it says, by each way that targets are spoken to.
func TestTimesOfATarget(t *testing.T) {
	t.Parallel()                                            // it mostly waits
	early := func(w http.ResponseWriter, r *http.Request) { // answers before the body ended, and goes on for longer than to the first byte
		_ = http.NewResponseController(w).EnableFullDuplex()
		fmt.Fprint(w, "begun ")
		_ = http.NewResponseController(w).Flush()
		_, _ = io.Copy(io.Discard, r.Body)
		if r.URL.Path == "/stops" {
			<-r.Context().Done()
		}
		<-time.After(400 * time.Millisecond)
		fmt.Fprint(w, "done")
	}
	for _, speak := range []traffic.TargetProtocol{traffic.Plain, traffic.HTTP2} {
		f := newSite(t)
		address := newH2Server(t, early)
		if speak == traffic.Plain {
			address = strings.TrimPrefix(newServer(t, early).URL, "http://")
		}
		f.targets = []balancer.Target{{Instance: "early", Address: address, Open: true, Weight: 100}}
		f.pool.Spoken = traffic.Targets{Protocol: speak, Limits: traffic.PoolLimits{FirstByte: 200 * time.Millisecond}}
		f.apply()
		ask := func(path string) (string, error) {
			from, to := io.Pipe()
			req, _ := http.NewRequest(http.MethodPost, f.url+path, from)
			go func() {
				fmt.Fprint(to, "one ")
				<-time.After(100 * time.Millisecond)
				fmt.Fprint(to, "two")
				to.Close()
			}()
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				return "", err
			}
			defer res.Body.Close()
			raw, err := io.ReadAll(res.Body)
			return string(raw), err
		}
		if got, err := ask("/"); got != "begun done" || err != nil {
			t.Errorf("%s: an answer that began before its request ended: %q, %v", speak, got, err)
		}
		f.pool.Spoken.Limits = traffic.PoolLimits{Idle: 150 * time.Millisecond}
		f.apply()
		begun := time.Now()
		if got, err := ask("/stops"); err == nil || time.Since(begun) > 5*time.Second {
			t.Errorf("%s: one that says nothing more: %q after %s", speak, got, time.Since(begun))
		}
	}
}

// TestAHeadWaitsForNoBody: a target hears of a request whose body is still to come.
func TestAHeadWaitsForNoBody(t *testing.T) {
	heads := make(chan string, 1)
	address := connected(t, func(c net.Conn) {
		line, _ := bufio.NewReader(c).ReadString('\n')
		heads <- line
		_, _ = io.Copy(io.Discard, c)
	})
	f := newSite(t)
	f.targets = []balancer.Target{{Instance: "hears", Address: address, Open: true, Weight: 100}}
	f.apply()
	c, err := net.Dial("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprint(c, "POST /late HTTP/1.1\r\nHost: h\r\nContent-Length: 10\r\n\r\n")
	if got := waittest.For(t, "the head", heads); got != "POST /late HTTP/1.1\r\n" {
		t.Errorf("the target heard %q", got)
	}
}

// TestRefusedStreams: what a target of HTTP/2 says it did not begin is sent again, whatever its
// method, with its whole body.
func TestRefusedStreams(t *testing.T) {
	got := make(chan string, 10)
	address := connected(t, func(c net.Conn) {
		preface := make([]byte, len(http2.ClientPreface))
		if _, err := io.ReadFull(c, preface); err != nil {
			return
		}
		fr := http2.NewFramer(c, c)
		_ = fr.WriteSettings()
		bodies, asked := map[uint32]*bytes.Buffer{}, 0
		for {
			frame, err := fr.ReadFrame()
			if err != nil {
				return
			}
			id := frame.Header().StreamID
			switch one := frame.(type) {
			case *http2.HeadersFrame:
				bodies[id] = &bytes.Buffer{}
			case *http2.DataFrame:
				bodies[id].Write(one.Data())
			}
			if !frame.Header().Flags.Has(http2.FlagDataEndStream) || bodies[id] == nil {
				continue
			}
			if asked++; asked == 1 {
				_ = fr.WriteRSTStream(id, http2.ErrCodeRefusedStream)
				continue
			}
			got <- bodies[id].String()
			_ = fr.WriteHeaders(http2.HeadersFrameParam{StreamID: id, BlockFragment: []byte{0x88}, EndStream: true, EndHeaders: true})
		}
	})
	f := newSite(t)
	f.pool.Spoken.Protocol = traffic.HTTP2
	f.targets = []balancer.Target{{Instance: "refuses", Address: address, Open: true, Weight: 100}}
	f.apply()
	if status, _ := f.get(t, http.MethodPost, "the whole body"); status != http.StatusOK {
		t.Errorf("answered %d", status)
	}
	if body := waittest.For(t, "the request", got); body != "the whole body" {
		t.Errorf("the target got %q", body)
	}
	if all := f.blamed(); len(all) > 0 {
		t.Errorf("blamed are %v", all)
	}
}

// TestAResetIsAReset, not an end: of any protocol, either way, and of what an old caller could take
// for a whole answer.
func TestAResetIsAReset(t *testing.T) {
	t.Parallel() // it mostly waits
	target := connected(t, func(c net.Conn) {
		line, _ := bufio.NewReader(c).ReadString('\n')
		if strings.HasPrefix(line, "GET") {
			fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf")
		} else {
			fmt.Fprint(c, "half")
		}
		<-time.After(50 * time.Millisecond)
		_ = c.(*net.TCPConn).SetLinger(0)
	})
	for name, kind := range map[string]traffic.Protocol{"GET / HTTP/1.0\r\nHost: h\r\n\r\n": traffic.HTTP, "anything\n": traffic.TCP} {
		f := newSite(t)
		f.targets = []balancer.Target{{Instance: "resets", Address: target, Open: true, Weight: 100}}
		f.apply()
		f.listen(func(l *traffic.Listener) { l.Protocol = kind })
		c, err := net.Dial("tcp", f.address)
		if err != nil {
			t.Fatal(err)
		}
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		fmt.Fprint(c, name)
		if got, err := io.ReadAll(c); !errors.Is(err, syscall.ECONNRESET) {
			t.Errorf("%q: the caller got %q, %v", name, got, err)
		}
		c.Close()
	}
	ended := make(chan error, 1)
	f := newSite(t)
	f.targets = []balancer.Target{{Instance: "reads", Address: connected(t, func(c net.Conn) {
		_, err := io.Copy(io.Discard, c)
		ended <- err
	}), Open: true, Weight: 100}}
	f.apply()
	f.listen(func(l *traffic.Listener) { l.Protocol = traffic.TCP })
	c, err := net.Dial("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(c, "something")
	waitFor(t, "it is in flight", func() bool { return f.flying("reads") == 1 })
	_ = c.(*net.TCPConn).SetLinger(0)
	c.Close()
	if err := waittest.For(t, "the end at the target", ended); !errors.Is(err, syscall.ECONNRESET) {
		t.Errorf("the target saw %v", err)
	}
}
