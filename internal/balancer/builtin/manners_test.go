package builtin

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/balancer/accesslog"
	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

// listen makes the site's listener another.
func (f *site) listen(change func(l *traffic.Listener)) {
	l := f.listener
	change(&l.Listener)
	f.listener = l
	f.Listen([]balancer.Listener{l})
}

// TestAHalfClosedCallerIsAnswered: who says that it sends no more still waits for its answer.
func TestAHalfClosedCallerIsAnswered(t *testing.T) {
	f := newSite(t, func(w http.ResponseWriter, _ *http.Request) {
		<-time.After(50 * time.Millisecond)
		fmt.Fprint(w, "ok")
	})
	c, err := net.Dial("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: h\r\n\r\n")
	_ = c.(*net.TCPConn).CloseWrite()
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	if got, err := io.ReadAll(c); err != nil || !strings.HasSuffix(string(got), "ok") {
		t.Errorf("the caller got %q, %v", got, err)
	}
}

// TestAnAbortedCallerAbortsItsTarget: nobody works for who has gone, and a body that breaks off
// breaks off for the target.
func TestAnAbortedCallerAbortsItsTarget(t *testing.T) {
	t.Parallel() // it mostly waits
	ended := make(chan error, 4)
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			_, err := io.Copy(io.Discard, r.Body)
			ended <- err
			return
		}
		fmt.Fprint(w, "begun\n")
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
		ended <- r.Context().Err()
	})
	for _, send := range []string{"GET / HTTP/1.1\r\nHost: h\r\n\r\n", "POST / HTTP/1.1\r\nHost: h\r\nContent-Length: 1000\r\n\r\nhalf", "POST / HTTP/1.1\r\nHost: h\r\nTransfer-Encoding: chunked\r\n\r\n4\r\nhalf\r\n"} {
		c, err := net.Dial("tcp", f.address)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprint(c, send)
		if strings.HasPrefix(send, "GET") {
			_, _ = bufio.NewReader(c).ReadString('\n')
		} else {
			waitFor(t, "the request is in flight", func() bool { return f.flying("timetable-0") == 1 })
		}
		_ = c.(*net.TCPConn).SetLinger(0)
		c.Close()
		if err := waittest.For(t, "the end at the target", ended); err == nil {
			t.Errorf("for %q the target saw a good end", send)
		}
	}
}

func waitFor(t testing.TB, what string, so func() bool) {
	t.Helper()
	limit := time.After(10 * time.Second)
	for !so() {
		select {
		case <-limit:
			t.Fatal("it did not come to: " + what)
		case <-time.After(time.Millisecond):
		}
	}
}

// TestLimitsOfACaller: each is answered as the standard says, with a clear body.
func TestLimitsOfACaller(t *testing.T) {
	t.Parallel() // it mostly waits
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, "ok")
	})
	f.listen(func(l *traffic.Listener) {
		l.Limits.HeadBytes, l.Limits.BodyBytes, l.Limits.Head, l.Limits.Idle = 4096, 1000, 200*time.Millisecond, 200*time.Millisecond
	})
	for _, c := range []struct{ name, send, want string }{
		{"a long head", "GET / HTTP/1.1\r\nHost: h\r\nX-A: " + strings.Repeat("a", 20_000) + "\r\n\r\n", "HTTP/1.1 431 "},
		{"a long body that says so", "POST / HTTP/1.1\r\nHost: h\r\nContent-Length: 1001\r\n\r\n" + strings.Repeat("a", 1001), "longer than the 1000 bytes"},
		{"a long body in chunks", "POST / HTTP/1.1\r\nHost: h\r\nTransfer-Encoding: chunked\r\n\r\n400\r\n" + strings.Repeat("a", 1024) + "\r\n0\r\n\r\n", "HTTP/1.1 413 "},
		{"a body that does not come", "POST / HTTP/1.1\r\nHost: h\r\nContent-Length: 10\r\n\r\nhalf", "HTTP/1.1 408 "},
		{"a head that does not come", "GET / HTTP/1.1\r\nHo", ""},
		{"as much as may be", "POST / HTTP/1.1\r\nHost: h\r\nContent-Length: 1000\r\nConnection: close\r\n\r\n" + strings.Repeat("a", 1000), "HTTP/1.1 200 "},
	} {
		got := talk(t, f.address, c.send, ends("never"))
		if !strings.Contains(got, c.want) || strings.Contains(got, "200 OK") != (c.want == "HTTP/1.1 200 ") {
			t.Errorf("%s: answered %q", c.name, got)
		}
	}
	// One that takes no bytes is not waited for.
	big := newSite(t, func(w http.ResponseWriter, _ *http.Request) {
		for range 64 {
			if _, err := w.Write(make([]byte, 1<<20)); err != nil {
				return
			}
		}
	})
	big.listen(func(l *traffic.Listener) { l.Limits.Idle = 200 * time.Millisecond })
	c, err := net.Dial("tcp", big.address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: h\r\n\r\n")
	waitFor(t, "the request is in flight", func() bool { return big.flying("timetable-0") == 1 })
	waitFor(t, "a caller that takes nothing is cut", func() bool { return big.flying("timetable-0") == 0 })
}

// TestRatesOfACaller: by address, and back once time has passed.
func TestRatesOfACaller(t *testing.T) {
	f := newSite(t, say("ok"))
	get := func(from string) string {
		c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).DialContext}}
		res, err := c.Get(f.url)
		if err != nil {
			return err.Error()
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return fmt.Sprint(res.StatusCode, " ", string(body), " ", res.Header.Get("Retry-After"))
	}
	f.listen(func(l *traffic.Listener) { l.Limits.RequestsPS = 3 })
	counts := map[bool]int{}
	for range 6 {
		counts[strings.HasPrefix(get("127.0.0.9"), "200")]++
	}
	if counts[true] < 3 || counts[false] == 0 {
		t.Errorf("of 6 requests at once with 3 a second %d were answered", counts[true])
	}
	if got := get("127.0.0.8"); !strings.HasPrefix(got, "200") {
		t.Errorf("another address was answered %q", got)
	}
	if s := f.Listening()[0]; s.Refused != int64(counts[false]) {
		t.Errorf("%d are told to be refused", s.Refused)
	}
	f.listen(func(l *traffic.Listener) { l.Limits.RequestsPS = 0; l.Limits.Connections = 1 })
	first, err := net.Dial("tcp", f.address)
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	fmt.Fprint(first, "GET / HTTP/1.1\r\nHost: h\r\n\r\n")
	if _, err := http.ReadResponse(bufio.NewReader(first), nil); err != nil {
		t.Fatal(err)
	}
	if got := get("127.0.0.1"); !strings.HasPrefix(got, "429 There are too many connections") {
		t.Errorf("one connection too many was answered %q", got)
	}
	waitFor(t, "another address is answered", func() bool { return strings.HasPrefix(get("127.0.0.8"), "200") })
}

// TestLimitsOfATarget: late ones are answered 504, and not set aside for it.
func TestLimitsOfATarget(t *testing.T) {
	t.Parallel() // it mostly waits
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, strings.Repeat("a", 5000))
		if r.URL.Path == "/part" {
			_ = http.NewResponseController(w).Flush()
		}
		select {
		case <-r.Context().Done():
		case <-time.After(5 * time.Second):
		}
	})
	silent := targetByHand(t, func(net.Conn, heard) {})
	for _, c := range []struct {
		name, path string
		limits     traffic.PoolLimits
		want       string
	}{
		{"no first byte", "/", traffic.PoolLimits{FirstByte: 100 * time.Millisecond}, "504 The target did not answer in time. (pool front)\n"},
		{"no whole answer", "/", traffic.PoolLimits{Request: 100 * time.Millisecond}, "504 The target did not answer in time. (pool front)\n"},
		{"half an answer", "/part", traffic.PoolLimits{Idle: 100 * time.Millisecond}, "cut"},
		{"half an answer within", "/part", traffic.PoolLimits{Request: 100 * time.Millisecond}, "cut"},
		{"a long body", "/", traffic.PoolLimits{BodyBytes: 3}, "413 The body is longer than the 3 bytes that it may have. (pool front)\n"},
	} {
		all := f.targets
		if c.path == "/" {
			f.targets = []balancer.Target{{Instance: "silent", Address: silent.address, Open: true, Weight: 100}, {Instance: "mute", Address: silent.address, Open: true, Weight: 100}}
		}
		f.pool.Spoken.Limits = c.limits
		f.apply()
		for _, method := range []string{http.MethodPost, http.MethodGet} {
			if method == http.MethodGet && c.limits.BodyBytes > 0 {
				continue
			}
			body := io.Reader(strings.NewReader("body"))
			if method == http.MethodGet {
				body = nil
			}
			req, _ := http.NewRequest(method, f.url+c.path, body)
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			said, err := io.ReadAll(res.Body)
			res.Body.Close()
			got := fmt.Sprint(res.StatusCode, " ", string(said))
			if err != nil {
				got = "cut"
			}
			if got != c.want {
				t.Errorf("%s: %s was answered %.100q, want %q", c.name, method, got, c.want)
			}
		}
		s, _ := f.Stats("front")
		for _, one := range s.Targets {
			if !one.Aside.IsZero() {
				t.Errorf("%s: %s is set aside: %s", c.name, one.Instance, one.AsideWhy)
			}
		}
		f.targets = all
	}
}

// TestStaying: a caller keeps its target by each way, others are spread, and nobody is kept at
// one that is gone.
func TestStaying(t *testing.T) {
	for _, by := range []traffic.By{traffic.ByCookie, traffic.ByHeader, traffic.ByAddress} {
		f := newSite(t, say("timetable-0"), say("timetable-1"), say("timetable-2"))
		f.pool.Spoken.Affinity = traffic.Affinity{By: by}
		if by == traffic.ByHeader {
			f.pool.Spoken.Affinity.Header = "X-Berth"
		}
		f.apply()
		get := func(n int, cookies []*http.Cookie) (string, []*http.Cookie) {
			t.Helper()
			c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, byte(10+n))}}).DialContext}}
			req, _ := http.NewRequest(http.MethodGet, f.url, nil)
			req.Header.Set("X-Berth", fmt.Sprint("berth ", n))
			for _, one := range cookies {
				req.AddCookie(one)
			}
			res, err := c.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			defer res.Body.Close()
			body, _ := io.ReadAll(res.Body)
			return string(body), res.Cookies()
		}
		where := map[string]int{}
		for n := range 30 {
			first, cookies := get(n, nil)
			where[first]++
			for range 3 {
				if again, more := get(n, cookies); again != first || len(more) > 0 {
					t.Errorf("by %s: after %s it went to %s, and was told %v", by, first, again, more)
				}
			}
			if by == traffic.ByCookie {
				if len(cookies) != 1 || !cookies[0].HttpOnly {
					t.Fatalf("the cookies are %v", cookies)
				}
				forged := *cookies[0]
				forged.Value = "timetable-1" + forged.Value[len("timetable-1"):]
				if first != "timetable-1" {
					if _, more := get(n, []*http.Cookie{&forged}); len(more) != 1 {
						t.Error("a forged cookie is taken")
					}
				}
			}
			if n == 29 {
				f.targets = append([]balancer.Target(nil), f.targets...)
				for i := range f.targets {
					f.targets[i].Open = f.targets[i].Instance != first
				}
				f.apply()
				if again, _ := get(n, cookies); again == first {
					t.Errorf("by %s: it stays at one that takes nothing", by)
				}
			}
		}
		if len(where) < 2 {
			t.Errorf("by %s: the callers are at %v", by, where)
		}
	}
}

// TestWhatWasServedIsWrittenDown: what is to be, with what it went by, and no more.
func TestWhatWasServedIsWrittenDown(t *testing.T) {
	traces := make(chan string, 20)
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		traces <- r.Header.Get("Traceparent") + " " + r.Header.Get("X-Request-Id")
		if r.URL.Path == "/bad" {
			w.WriteHeader(http.StatusInternalServerError)
		}
		_, _ = io.Copy(w, r.Body)
	})
	f.servers = append(f.servers, newServer(t, nil))
	f.servers[1].Close()
	refuses := strings.TrimPrefix(f.servers[1].URL, "http://")
	f.targets = append(f.targets, balancer.Target{Instance: "timetable-1", Address: refuses, Open: true, Weight: 100})
	f.apply()
	const trace = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
	ask := func(path, trace string) {
		req, _ := http.NewRequest(http.MethodPost, f.url+path+"?secret=1", strings.NewReader("four"))
		if trace != "" {
			req.Header.Set("Traceparent", trace)
			req.Header.Set("X-Request-Id", "ferry-7")
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
	}
	lines := func(n int) (all []accesslog.Line) {
		t.Helper()
		waitFor(t, fmt.Sprint(n, " lines"), func() bool {
			raw, _, err := f.AccessLog(f.address, 100)
			if err != nil {
				t.Fatal(err)
			}
			all = make([]accesslog.Line, len(raw))
			for i := range raw {
				if err := json.Unmarshal(raw[i], &all[i]); err != nil {
					t.Fatal(err)
				}
			}
			return len(all) >= n
		})
		return all
	}
	f.listen(func(l *traffic.Listener) { l.AccessLog = traffic.AccessLog{Keep: traffic.KeepFailures} })
	ask("/good", "")
	ask("/bad", trace)
	got := lines(1)
	if l := got[0]; len(got) != 1 || l.Status != 500 || l.Path != "/bad" || l.RequestID != "ferry-7" || l.Trace != trace[3:35] || l.Target != "timetable-0" || l.BytesIn != 4 || l.BytesOut != 4 ||
		l.Pool != "front" || l.Caller != "127.0.0.1" || l.TotalMs <= 0 || l.FirstMs <= 0 {
		t.Errorf("written down is %+v", got)
	}
	made, kept := <-traces, <-traces
	if kept != trace+" ferry-7" || !isTrace(made[:55]) || made[3:35] != made[56:] {
		t.Errorf("the target heard of the traces %q and %q", made, kept)
	}
	f.listen(func(l *traffic.Listener) { l.AccessLog = traffic.AccessLog{Keep: traffic.KeepAll} })
	f.pools["front"].lane.Load().targets[1].refused.Store(0)
	for range 2 {
		ask("/good", "not-a-trace")
	}
	attempts := 0
	for _, l := range lines(3)[1:] {
		attempts = max(attempts, len(l.Attempts))
		if l.Status != 200 || l.Target != "timetable-0" || l.Trace == "" || (len(l.Attempts) == 2 && (l.Attempts[0].Target != "timetable-1" || l.Attempts[0].Why != "no connection")) {
			t.Errorf("written down is %+v", l)
		}
	}
	if attempts != 2 {
		t.Errorf("no line tells of the target that refused")
	}
	_, file, _ := f.AccessLog(f.address, 1)
	raw, err := os.ReadFile(file)
	if err != nil || strings.Contains(string(raw), "secret") {
		t.Errorf("the log has what may be secret, or cannot be read: %v", err)
	}
	f.listen(func(l *traffic.Listener) { l.Pool, l.Routes = "", []traffic.Route{{Path: "/elsewhere", Pool: "front"}} })
	ask("/nowhere", trace)
	if l := lines(4)[3]; l.Status != 404 || l.RequestID != "ferry-7" || l.Trace != trace[3:35] || l.Failure == "" {
		t.Errorf("of what no route takes is written down %+v", l)
	}
	f.listen(func(l *traffic.Listener) {
		l.Pool, l.Routes, l.AccessLog = "front", nil, traffic.AccessLog{Keep: traffic.KeepNone}
	})
	ask("/bad", "")
	f.listen(func(l *traffic.Listener) { l.AccessLog = traffic.AccessLog{Keep: traffic.KeepAll} })
	ask("/last", "")
	if all := lines(5); all[4].Path != "/last" {
		t.Errorf("with nothing to be written down it was: %+v", all[4])
	}
}

// TestLargeBodies pass whole both ways at once, in little memory.
func TestLargeBodies(t *testing.T) {
	t.Parallel() // it mostly waits
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		_ = http.NewResponseController(w).EnableFullDuplex()
		_, _ = io.Copy(w, r.Body)
	})
	const n = 64 << 20
	sent, got := sha256.New(), sha256.New()
	body := io.TeeReader(io.LimitReader(noise{}, n), sent)
	req, _ := http.NewRequestWithContext(context.Background(), http.MethodPost, f.url, body)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if _, err := io.Copy(got, res.Body); err != nil && !errors.Is(err, io.EOF) {
		t.Fatal(err)
	}
	if string(sent.Sum(nil)) != string(got.Sum(nil)) {
		t.Error("what came back is not what was sent")
	}
}

// noise is bytes that differ.
type noise struct{}

func (noise) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(i * 7)
	}
	return len(p), nil
}
