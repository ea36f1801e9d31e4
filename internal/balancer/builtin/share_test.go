package builtin

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/certtest"
	"unitas/internal/fleet/traffic"
	"unitas/internal/porttest"
	"unitas/internal/waittest"
)

// counts sends n requests and counts who answered.
func (f *site) counts(t testing.TB, n int) map[string]int {
	t.Helper()
	count := map[string]int{}
	for range n {
		_, body := f.get(t, http.MethodGet, "")
		count[body]++
	}
	return count
}

func TestWeights(t *testing.T) {
	f := newSite(t, say("0"), say("1"), say("2"))
	f.targets[0].Weight, f.targets[1].Weight, f.targets[2].Weight = 300, 100, 0
	f.apply()
	if c := f.counts(t, 40); c["0"] != 30 || c["1"] != 10 {
		t.Errorf("weights of 300, 100 and 0 gave %v", c)
	}
	s, _ := f.Stats("front")
	if s.Targets[0].Share != 0.75 || s.Targets[2].Share != 0 {
		t.Errorf("the shares are %v and %v", s.Targets[0].Share, s.Targets[2].Share)
	}
}

func TestLeastBusy(t *testing.T) {
	entered, release := make(chan bool, 1), make(chan bool)
	busy := func(w http.ResponseWriter, r *http.Request) {
		entered <- true
		<-release
		fmt.Fprint(w, "busy")
	}
	f := newSite(t, busy, say("free"))
	f.pool.LeastBusy = true
	f.targets[1].Open = false
	f.apply()
	answer := make(chan string)
	go func() {
		_, body := f.get(t, http.MethodGet, "")
		answer <- body
	}()
	waittest.For(t, "the request", entered)
	f.targets[1].Open = true
	f.apply()
	if c := f.counts(t, 20); c["free"] != 20 {
		t.Errorf("with one request in flight at the other, the free one got %v", c)
	}
	release <- true
	waittest.For(t, "the answer", answer)
}

// TestSetAside: a target that refuses is left alone at once, and is taken again
// when its time is over.
func TestSetAside(t *testing.T) {
	f := newSite(t, say("0"), say("1"))
	f.servers[0].Close()
	if c := f.counts(t, 10); c["1"] != 10 {
		t.Fatalf("the requests went %v", c)
	}
	s, _ := f.Stats("front")
	if s.Targets[0].Retried != 1 || s.Targets[0].Aside.IsZero() || s.Targets[0].Share != 0 {
		t.Errorf("after ten requests the refusing target was tried %d times, aside until %v, share %v", s.Targets[0].Retried, s.Targets[0].Aside, s.Targets[0].Share)
	}
	refuser := f.Balancer.pools["front"].lane.Load().targets[0]
	now := time.Now()
	for n, want := range []time.Duration{time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second, 16 * time.Second, 30 * time.Second, 30 * time.Second} {
		refuser.setAside(now, "no connection")
		if got := time.Duration(refuser.refused.Load() - nanos(now)); got != want {
			t.Errorf("refusal %d sets aside for %s, want %s", n+2, got, want)
		}
	}
	refuser.refused.Store(nanos(now.Add(-time.Second))) // its time is over, and it is well
	back := newServer(t, say("back"))
	f.targets[0].Address = strings.TrimPrefix(back.URL, "http://")
	f.apply()
	if c := f.counts(t, 10); c["back"] != 5 {
		t.Errorf("the requests went %v", c)
	}
}

// TestAsideIsBetterThanNobody: when all are set aside they are tried all the same.
func TestAsideIsBetterThanNobody(t *testing.T) {
	f := newSite(t, say("0"))
	f.Balancer.pools["front"].lane.Load().targets[0].setAside(time.Now(), "no connection")
	if status, body := f.get(t, http.MethodGet, ""); status != http.StatusOK || body != "0" {
		t.Errorf("answered %d %s", status, body)
	}
	if !f.Balancer.pools["front"].lane.Load().targets[0].isAside(time.Now()) {
		return
	}
	t.Error("an answer does not end the setting aside")
}

func TestTryAll(t *testing.T) {
	f := newSite(t, say("ill"), say("draining"))
	f.targets[0].Open, f.targets[0].Last = false, true
	f.targets[1].Open = false
	f.apply()
	if status, _ := f.get(t, http.MethodGet, ""); status != http.StatusServiceUnavailable {
		t.Errorf("without the setting the answer is %d", status)
	}
	f.pool.TryAll = true
	f.apply()
	if c := f.counts(t, 6); c["ill"] != 6 {
		t.Errorf("with it the requests went %v", c)
	}
}

func TestSlowStart(t *testing.T) {
	f := newSite(t, say("old"), say("fresh"))
	f.pool.SlowStart = time.Hour
	f.apply()
	targets := f.Balancer.pools["front"].lane.Load().targets
	targets[0].fresh.Store(nanos(time.Now().Add(-2 * time.Hour)))
	targets[1].fresh.Store(nanos(time.Now().Add(-15 * time.Minute)))
	if c := f.counts(t, 50); c["old"] < 39 || c["old"] > 41 {
		t.Errorf("a quarter of the way the fresh one has a fifth of the requests, got %v", c)
	}
	targets[1].fresh.Store(nanos(time.Now()))
	if p := targets[1].part(time.Now(), time.Hour); p < 9.9 || p > 10.1 {
		t.Errorf("one just opened begins with a tenth, got %v of 100", p)
	}
}

// TestUpgrade: a switched protocol passes through in both directions, and counts
// as one request until it ends.
func TestUpgrade(t *testing.T) {
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		conn, both, err := http.NewResponseController(w).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		defer conn.Close()
		fmt.Fprint(both, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
		both.Flush()
		line, _ := both.ReadString('\n')
		fmt.Fprint(both, "heard "+line)
		both.Flush()
		_, _ = both.ReadString('\n')
	})
	conn, err := net.Dial("tcp", strings.TrimPrefix(f.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fmt.Fprint(conn, "GET /live HTTP/1.1\r\nHost: saltmere.example\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
	r := bufio.NewReader(conn)
	res, err := http.ReadResponse(r, nil)
	if err != nil || res.StatusCode != http.StatusSwitchingProtocols {
		t.Fatalf("%v %v", res, err)
	}
	fmt.Fprint(conn, "ahoy\n")
	if line, err := r.ReadString('\n'); err != nil || line != "heard ahoy\n" {
		t.Errorf("%q %v", line, err)
	}
	if n := f.flying("timetable-0"); n != 1 {
		t.Errorf("%d in flight while the protocol is switched", n)
	}
	f.targets[0].Open = false
	f.apply()
	conn.Close()
	if who := <-f.idle; who != "timetable-0" {
		t.Errorf("%s is idle", who)
	}
}

// TestStreaming: what a target writes comes through before it ends.
func TestStreaming(t *testing.T) {
	release := make(chan bool)
	f := newSite(t, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintln(w, "first")
		_ = http.NewResponseController(w).Flush()
		<-release
		fmt.Fprintln(w, "second")
	})
	res, err := http.Get(f.url)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	r := bufio.NewReader(res.Body)
	if line, err := r.ReadString('\n'); err != nil || line != "first\n" {
		t.Errorf("%q %v", line, err)
	}
	release <- true
	if line, err := r.ReadString('\n'); err != nil || line != "second\n" {
		t.Errorf("%q %v", line, err)
	}
}

// TestCertificateIsReadAgain: connections that are there go on, new ones see the
// new certificate, and a broken file leaves the one before.
func TestCertificateIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	certificate, key := filepath.Join(dir, "front.pem"), filepath.Join(dir, "front.key")
	certtest.Write(t, certificate, key, 1)
	f := newSite(t, say("0"))
	secure := porttest.Free(t)
	https := balancer.Listener{Listener: traffic.Listener{Address: secure, Protocol: traffic.HTTPS, Pool: "front", HTTP2: true, Limits: traffic.UsualListenerLimits},
		Pairs: []balancer.Pair{{Name: "front", Chain: certificate, Key: key}}}
	f.Listen([]balancer.Listener{f.listener, https})
	if l := f.Listening()[1]; l.Trouble != "" || l.Expires.IsZero() {
		t.Fatalf("the listener is %+v", l)
	}
	client := func() *http.Client {
		return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	}
	serial := func(c *http.Client) string {
		t.Helper()
		res, err := c.Get("https://" + secure)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		_, _ = io.Copy(io.Discard, res.Body)
		return res.TLS.PeerCertificates[0].SerialNumber.String()
	}
	lookNow := func() {
		p := f.Balancer.doors[secure].now.Load().pairs[0]
		p.mu.Lock()
		p.looked = time.Time{}
		p.mu.Unlock()
	}
	kept := client()
	if got := serial(kept); got != "1" {
		t.Errorf("the certificate is %s", got)
	}
	certtest.Write(t, certificate, key, 2)
	lookNow()
	if got := serial(client()); got != "2" {
		t.Errorf("a new connection sees %s", got)
	}
	if got := serial(kept); got != "1" {
		t.Errorf("the connection that was there was dropped: it sees %s", got)
	}
	if err := os.WriteFile(certificate, []byte("half a file"), 0o600); err != nil {
		t.Fatal(err)
	}
	later(t, certificate, 3)
	lookNow()
	if got := serial(client()); got != "2" {
		t.Errorf("with a broken file a new connection sees %s", got)
	}
	if l := f.Listening()[1]; !strings.Contains(l.Trouble, "the one before stays in use") {
		t.Errorf("nobody is told of the broken file: %+v", l)
	}
	f.Listen([]balancer.Listener{f.listener})
	if _, err := net.Dial("tcp", secure); err == nil {
		t.Error("a listener that was taken away is still open")
	}
}

// later gives a file a time of its own, however fast it was written again.
func later(t *testing.T, file string, n int64) {
	t.Helper()
	at := time.Unix(1_700_000_000+n, 0)
	if err := os.Chtimes(file, at, at); err != nil {
		t.Fatal(err)
	}
}

func TestWindows(t *testing.T) {
	var w window
	begin := time.Unix(1_700_000_000, 0).Truncate(coarseSlot)
	for second := range 20 * 60 { // one answer a second, every tenth 503, 1 to 100 ms
		status := http.StatusOK
		if second%10 == 0 {
			status = http.StatusServiceUnavailable
		}
		w.add(begin.Add(time.Duration(second)*time.Second), status, time.Duration(1+second%100)*time.Millisecond)
	}
	got := w.read(begin.Add(20*time.Minute - time.Second))
	for i, minutes := range []int{1, 5, 15} {
		g := got[i]
		if g.Minutes != minutes || g.Requests != int64(minutes*60) || g.Status[5] != int64(minutes*6) {
			t.Errorf("over %d minutes: %+v", minutes, g)
		}
	}
	near := func(what string, got, want float64) {
		t.Helper()
		if got < want*0.89 || got > want*1.11 {
			t.Errorf("%s is %.1f ms, want %.0f within a tenth", what, got, want)
		}
	}
	near("the median", got[2].Median, 50)
	near("the 95th percentile", got[2].P95, 95)
	near("the 99th percentile", got[2].P99, 99)
	if later := w.read(begin.Add(time.Hour)); later[2].Requests != 0 || later[2].P99 != 0 {
		t.Errorf("an hour later there is still %+v", later[2])
	}
	w.add(begin.Add(time.Hour), 0, time.Second)
	if g := w.read(begin.Add(time.Hour)); g[0].Requests != 1 || g[0].Status[0] != 1 || g[0].Median != 0 {
		t.Errorf("one without an answer: %+v", g[0])
	}
}

// TestVersionsAreCountedTogether: what a version did is told after its last
// target went.
func TestVersionsAreCountedTogether(t *testing.T) {
	f := newSite(t, say("0"), say("1"), say("2"))
	f.counts(t, 9)
	f.targets = f.targets[1:2] // the only one of version 2
	f.apply()
	s, _ := f.Stats("front")
	if len(s.Versions) != 2 || s.Versions[0].Version != "timetable-web@1" || s.Versions[0].Windows[0].Requests != 6 || s.Versions[1].Windows[2].Requests != 3 {
		t.Errorf("the versions are %+v", s.Versions)
	}
}
