package builtin

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/pires/go-proxyproto"

	"unitas/internal/balancer"
	"unitas/internal/certtest"
	"unitas/internal/conns"
	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

// second adds another pool to a site.
func (f *site) second(t testing.TB, name string, handlers ...http.HandlerFunc) {
	t.Helper()
	p := balancer.Pool{Name: name, Known: true, As: 1}
	for i, h := range handlers {
		p.Targets = append(p.Targets, balancer.Target{Instance: fmt.Sprint(name, "-", i), Address: strings.TrimPrefix(newServer(t, h).URL, "http://"), Open: true, Weight: 100})
	}
	if err := f.Sync(t.Context(), p); err != nil {
		t.Fatal(err)
	}
}

func (f *site) fetch(t testing.TB, host, path string, fields ...string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, f.url+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Host = host
	for i := 0; i < len(fields); i += 2 {
		req.Header.Set(fields[i], fields[i+1])
	}
	res, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(body)
}

// TestRoutesOfAListener: each request goes where its route says, a trial tells where, and what
// nobody takes is answered 404.
func TestRoutesOfAListener(t *testing.T) {
	f := newSite(t, say("front"))
	f.second(t, "fares", say("fares"))
	f.second(t, "dark", say("dark"))
	f.second(t, "empty")
	f.listen(func(l *traffic.Listener) {
		l.Pool = ""
		l.Routes = []traffic.Route{{Hosts: []string{"fares.example"}, Pool: "fares", Split: &traffic.Split{Pool: "dark", Percent: 25, Header: &traffic.Field{Name: "X-Dark"}}},
			{Path: "/timetable", Pool: "front", Split: &traffic.Split{Pool: "empty", Percent: 100}}, {Path: "/gone", Pool: "nowhere"}}
	})
	counts := map[string]int{}
	for range 40 {
		_, body := f.fetch(t, "fares.example", "/")
		counts[body]++
	}
	if counts["fares"] != 30 || counts["dark"] != 10 {
		t.Errorf("of 40 with a quarter aside %v", counts)
	}
	for _, c := range []struct {
		host, path string
		fields     []string
		status     int
		body, pool string
	}{
		{"fares.example", "/", []string{"X-Dark", "1"}, 200, "dark", "dark"},
		{"x", "/timetable/7", nil, 200, "front", "front"},
		{"x", "/", nil, 404, "No route of the listener takes this request. (listener " + f.address + ")\n", ""},
		{"x", "/gone", nil, 503, "The pool nowhere is not there. (listener " + f.address + ")\n", ""},
	} {
		status, body := f.fetch(t, c.host, c.path, c.fields...)
		if status != c.status || body != c.body {
			t.Errorf("%s%s is answered %d %q", c.host, c.path, status, body)
		}
		h := http.Header{}
		for i := 0; i < len(c.fields); i += 2 {
			h.Set(c.fields[i], c.fields[i+1])
		}
		trace, ok := f.Try(f.address, balancer.Trial{Host: c.host, Path: c.path, Header: h, Caller: "127.0.0.1"})
		want := c.status
		if want == 200 {
			want = 0
		}
		if !ok || trace.Pool != c.pool || trace.Status != want || (trace.Target == nil) != (c.pool == "") || len(trace.Why) == 0 {
			t.Errorf("of %s%s a trial tells %+v", c.host, c.path, trace)
		}
	}
	if s := f.Listening()[0]; s.Unrouted != 1 || s.Requests != 44 {
		t.Errorf("it tells of %d requests, %d of them for nobody", s.Requests, s.Unrouted)
	}
	if _, ok := f.Try("127.0.0.1:1", balancer.Trial{}); ok {
		t.Error("a listener that is not there is tried")
	}
}

// TestATrialChangesNothing: who is the next in turn is so after it was asked.
func TestATrialChangesNothing(t *testing.T) {
	for _, weighed := range []bool{false, true} {
		f := newSite(t, say("timetable-0"), say("timetable-1"), say("timetable-2"))
		if weighed {
			f.targets[0].Weight = 300
		}
		f.apply()
		for range 12 {
			var told string
			for range 3 {
				trace, _ := f.Try(f.address, balancer.Trial{Host: "h", Path: "/", Header: http.Header{}})
				if told != "" && told != trace.Target.Instance {
					t.Error("asked again it is another")
				}
				told = trace.Target.Instance
			}
			if f.flying(told) != 0 {
				t.Errorf("%s has what was only asked about", told)
			}
			if _, got := f.fetch(t, "h", "/"); got != told {
				t.Errorf("it went to %s and was told to go to %s (weighed: %v)", got, told, weighed)
			}
		}
	}
}

// TestTCP: bytes pass both ways, half an end is half an end, targets are told who is there, and a
// connection counts until it ends.
func TestTCP(t *testing.T) {
	heard := make(chan string, 10)
	ledger := connected(t, func(c net.Conn) {
		r := bufio.NewReader(c)
		told := ""
		if h, err := proxyproto.Read(r); err == nil {
			told = fmt.Sprint(h.Version, " ", h.SourceAddr, " ")
		}
		all, _ := io.ReadAll(r) // until the caller sends no more
		heard <- told + string(all)
		fmt.Fprint(c, "heard ", len(all))
	})
	f := newSite(t)
	dead := newServer(t, nil)
	dead.Close()
	f.targets = []balancer.Target{{Instance: "dead", Address: strings.TrimPrefix(dead.URL, "http://"), Open: true, Weight: 100}, {Instance: "ledger", Address: ledger, Open: true, Weight: 100}}
	f.apply()
	for _, tell := range []bool{false, true} {
		f.listen(func(l *traffic.Listener) {
			l.Protocol, l.ProxyProtocol, l.AccessLog.Keep = traffic.TCP, tell, traffic.KeepAll
		})
		c, err := net.Dial("tcp", f.address)
		if err != nil {
			t.Fatal(err)
		}
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		fmt.Fprint(c, strings.Repeat("a", 100_000))
		waitFor(t, "the connection is in flight", func() bool { return f.flying("ledger") == 1 })
		_ = c.(*net.TCPConn).CloseWrite()
		got, err := io.ReadAll(c)
		if err != nil || string(got) != "heard 100000" {
			t.Errorf("the caller got %q, %v", got, err)
		}
		want := ""
		if tell {
			want = "2 " + c.LocalAddr().String() + " "
		}
		if h := waittest.For(t, "what was heard", heard); h != want+strings.Repeat("a", 100_000) {
			t.Errorf("the target heard %.60q", h)
		}
		c.Close()
		waitFor(t, "the end", func() bool { return f.flying("ledger") == 0 })
	}
	p, _ := f.Passed("ledger")
	if p.Requests != 2 || p.BytesIn != 200_000 || p.BytesOut != 24 {
		t.Errorf("it passed %+v", p)
	}
	// A quiet one is not kept for good.
	f.listen(func(l *traffic.Listener) { l.Limits.TunnelIdle = 100 * time.Millisecond })
	c, err := net.Dial("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	if _, err := io.ReadAll(c); err != nil && !errors.Is(err, syscall.ECONNRESET) {
		t.Errorf("a quiet connection: %v", err)
	}
}

// TestCertificatesByName: each caller gets the one for the name that it asks for, and no older
// version is spoken than may be.
func TestCertificatesByName(t *testing.T) {
	dir := t.TempDir()
	var pairs []balancer.Pair
	for i, name := range []string{"saltmere", "headland"} {
		p := balancer.Pair{Name: name, Chain: filepath.Join(dir, name+".pem"), Key: filepath.Join(dir, name+".key")}
		certtest.WriteFor(t, p.Chain, p.Key, int64(i+1), name+".example")
		pairs = append(pairs, p)
	}
	f := newSite(t, say("ok"))
	f.listener.Pairs = pairs
	f.listen(func(l *traffic.Listener) { l.Protocol, l.HTTP2, l.MinTLS = traffic.HTTPS, true, "1.3" })
	shake := func(name string, most uint16) (serial, protocol string, err error) {
		c, err := tls.Dial("tcp", f.address, &tls.Config{ServerName: name, InsecureSkipVerify: true, MaxVersion: most, NextProtos: []string{"h2", "http/1.1"}})
		if err != nil {
			return "", "", err
		}
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0].SerialNumber.String(), c.ConnectionState().NegotiatedProtocol, nil
	}
	for name, want := range map[string]string{"saltmere.example": "1", "headland.example": "2", "other.example": "1", "": "1"} {
		if serial, protocol, err := shake(name, 0); serial != want || protocol != "h2" || err != nil {
			t.Errorf("for %q the certificate is %s, the protocol %q, %v", name, serial, protocol, err)
		}
	}
	if _, _, err := shake("saltmere.example", tls.VersionTLS12); err == nil {
		t.Error("an older version is spoken than may be")
	}
	f.listen(func(l *traffic.Listener) { l.HTTP2, l.MinTLS = false, "" })
	if _, protocol, err := shake("saltmere.example", tls.VersionTLS12); protocol != "http/1.1" || err != nil {
		t.Errorf("without HTTP/2 the protocol is %q, %v", protocol, err)
	}
	f.listener.Pairs = []balancer.Pair{{Name: "gone", Chain: filepath.Join(dir, "gone.pem"), Key: filepath.Join(dir, "gone.key")}}
	f.listen(func(*traffic.Listener) {})
	if _, _, err := shake("saltmere.example", 0); err != nil || !strings.Contains(f.Listening()[0].Trouble, "it goes on as it was") {
		t.Errorf("with a certificate that is not there: %v, %q", err, f.Listening()[0].Trouble)
	}
}

func TestRedirect(t *testing.T) {
	f := newSite(t, say("ok"))
	for port, want := range map[int]string{443: "https://fares.example/a%2Fb?c;d", 8443: "https://fares.example:8443/a%2Fb?c;d"} {
		f.listen(func(l *traffic.Listener) { l.Redirect = port })
		got := talk(t, f.address, "POST /a%2Fb?c;d HTTP/1.1\r\nHost: fares.example:8000\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", ends("never"))
		if !strings.HasPrefix(got, "HTTP/1.1 308 ") || !strings.Contains(got, "\r\nLocation: "+want+"\r\n") {
			t.Errorf("it is sent on by %q", got)
		}
	}
}

// regions makes the targets new ones, which lie somewhere.
func (f *site) regions(t *testing.T) {
	t.Helper()
	all := f.targets
	f.targets = nil
	f.apply()
	f.targets = all
}

// TestRegions: the nearest has the requests while enough of it is healthy, and the next one
// shares when not.
func TestRegions(t *testing.T) {
	f := newSite(t, say("harbour"), say("harbour"), say("harbour"), say("harbour"), say("headland"), say("headland"))
	f.regions(t)
	for i := range f.targets {
		f.targets[i].Region = map[bool]string{true: "harbour", false: "headland"}[i < 4]
	}
	f.apply()
	f.listen(func(l *traffic.Listener) {
		l.RegionOrder, l.Regions, l.Enough = traffic.InOrder, []string{"harbour", "headland"}, 50
	})
	if c := f.counts(t, 12); c["harbour"] != 12 {
		t.Errorf("with all healthy the requests went %v", c)
	}
	close := func(n int) {
		for i := range f.targets {
			f.targets[i].Open = i >= n
		}
		f.apply()
	}
	close(2)
	if c := f.counts(t, 12); c["harbour"] != 12 {
		t.Errorf("with half healthy the requests went %v", c)
	}
	close(3)
	if c := f.counts(t, 12); c["harbour"] != 4 || c["headland"] != 8 {
		t.Errorf("with too few healthy the requests went %v", c)
	}
	if s := f.Listening()[0]; !strings.Contains(s.Spill, "harbour: 1 of 4 healthy and 50 % wanted, so headland shares") || len(s.Order) != 2 {
		t.Errorf("it tells %q of %v", s.Spill, s.Order)
	}
	close(4)
	if c := f.counts(t, 12); c["headland"] != 12 {
		t.Errorf("with nobody healthy there the requests went %v", c)
	}
	close(0)
	if c := f.counts(t, 12); c["harbour"] != 12 {
		t.Errorf("with all healthy again the requests went %v", c)
	}
	f.listen(func(l *traffic.Listener) { l.Regions = []string{"headland", "harbour"} })
	if c := f.counts(t, 12); c["headland"] != 12 {
		t.Errorf("the other way round the requests went %v", c)
	}
}

// TestMeasuredRegions: the order is that of how long connections take, and noise moves nothing.
func TestMeasuredRegions(t *testing.T) {
	f := newSite(t, say("harbour"), say("headland"))
	f.regions(t)
	f.targets[0].Region, f.targets[1].Region = "harbour", "headland"
	f.apply()
	targets := f.pools["front"].lane.Load().targets
	order := func(harbour, headland time.Duration, before []traffic.Reached) []traffic.Reached {
		return traffic.Nearest(measured(targets, func(t *target) time.Duration {
			return map[string]time.Duration{"harbour": harbour, "headland": headland}[t.region]
		}), before)
	}
	first := func(all []traffic.Reached) string { return all[0].Region }
	all := order(20*time.Millisecond, 2*time.Millisecond, nil)
	if first(all) != "headland" {
		t.Errorf("the order is %v", all)
	}
	if all = order(19*time.Millisecond, 20*time.Millisecond, all); first(all) != "headland" {
		t.Errorf("with next to the same it is %v", all)
	}
	if all = order(10*time.Millisecond, 20*time.Millisecond, all); first(all) != "harbour" {
		t.Errorf("with half of it it is %v", all)
	}
	if all = order(0, 20*time.Millisecond, all); first(all) != "headland" {
		t.Errorf("what nobody knows is near: %v", all)
	}
}

// TestRegionsAreMeasured, those without requests as well.
func TestRegionsAreMeasured(t *testing.T) {
	f := newSite(t, say("harbour"), say("headland"))
	f.regions(t)
	f.targets[0].Region, f.targets[1].Region = "harbour", "headland"
	f.apply()
	f.listen(func(l *traffic.Listener) { l.RegionOrder, l.Enough = traffic.Measured, 50 })
	f.doors[f.address].measure(t.Context())
	s := f.Listening()[0]
	if len(s.Order) != 2 || s.Order[0].Took <= 0 || s.Order[1].Took <= 0 {
		t.Errorf("it tells %+v", s.Order)
	}
}

// TestAConnectionInUseStays: at the bound of all connections one of any protocol gives way to
// nobody.
func TestAConnectionInUseStays(t *testing.T) {
	f := newSite(t)
	f.targets = []balancer.Target{{Instance: "echo", Address: echoLines(t), Open: true, Weight: 100}}
	f.apply()
	f.Listen(nil)
	f.guard = conns.New(conns.Bounds{All: 1})
	f.listen(func(l *traffic.Listener) { l.Protocol = traffic.TCP })
	c, err := net.Dial("tcp", f.address)
	s := overConn(t, c, err, "")
	defer s.end()
	n := 0
	if err := s.goesOn(&n); err != nil {
		t.Fatal(err)
	}
	other, err := net.Dial("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	_ = other.SetDeadline(time.Now().Add(10 * time.Second))
	if _, err := io.ReadAll(other); err != nil && !errors.Is(err, syscall.ECONNRESET) {
		t.Errorf("one too many: %v", err)
	}
	if err := s.goesOn(&n); err != nil {
		t.Errorf("the one in use was cut: %v", err)
	}
}

// TestWhoCannotBeSpokenTo: a certificate that is not there fails requests, and holds up nothing
// else.
func TestWhoCannotBeSpokenTo(t *testing.T) {
	f := newSite(t, say("0"), say("1"))
	f.pool.Spoken = traffic.Targets{Protocol: traffic.Secure, Trust: "gone"}
	f.pool.Trusted = filepath.Join(t.TempDir(), "gone.pem")
	f.targets[0].Open = false
	f.apply()
	if status, _ := f.get(t, http.MethodGet, ""); status < 500 {
		t.Errorf("it is answered %d", status)
	}
	if s, _ := f.Stats("front"); s.Targets[0].Open || !s.Targets[1].Open {
		t.Errorf("who is a target was not taken over: %+v", s.Targets)
	}
	f.pool.Spoken, f.pool.Trusted = traffic.Targets{}, ""
	f.apply()
	if _, body := f.get(t, http.MethodGet, ""); body != "1" {
		t.Errorf("spoken to in clear again it is answered %q", body)
	}
}

// TestEjection: a target that fails again and again is set aside by what is set, told with why,
// for longer each time, and comes back.
func TestEjection(t *testing.T) {
	bad := func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) }
	f := newSite(t, say("ok"), bad, say("ok"))
	if c := f.counts(t, 30); c[""] != 10 {
		t.Errorf("without a setting the requests went %v", c)
	}
	f.pool.Spoken.Eject = traffic.UsualEject
	f.apply()
	p := f.pools["front"]
	now := time.Now()
	p.judge(now)
	if c := f.counts(t, 10); c[""] != 0 {
		t.Errorf("set aside it still has requests: %v", c)
	}
	s, _ := f.Stats("front")
	if one := s.Targets[1]; one.AsideNth != 1 || one.AsideWhy != "10 failures in a row" || one.Aside.Before(now.Add(9*time.Second)) || one.Share != 0 {
		t.Errorf("it tells %+v", one)
	}
	bent := p.lane.Load().targets[1]
	bent.aside.Store(nanos(time.Now().Add(-time.Millisecond)))
	f.counts(t, 15)
	p.judge(time.Now())
	if s, _ := f.Stats("front"); s.Targets[1].AsideNth != 2 || s.Targets[1].Aside.Before(time.Now().Add(19*time.Second)) {
		t.Errorf("the second time it tells %+v", s.Targets[1])
	}
	bent.aside.Store(nanos(time.Now().Add(-21 * time.Second))) // well for as long as it was away
	bent.inARow.Store(0)
	p.ledger.settle()
	bent.conduct.add(200, time.Millisecond)
	p.judge(time.Now())
	if n := bent.ejected.Load(); n != 0 {
		t.Errorf("after it was well for as long as it was away it was set aside %d times in a row", n)
	}
}
