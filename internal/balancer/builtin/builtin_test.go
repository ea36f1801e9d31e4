package builtin

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

// site is a balancer with one pool of the handlers' servers.
type site struct {
	*Balancer
	url      string
	address  string
	pool     balancer.Pool // but for its targets
	listener balancer.Listener
	targets  []balancer.Target
	servers  []*httptest.Server
	idle     chan string
}

func newSite(t testing.TB, handlers ...http.HandlerFunc) *site {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	taken := false
	open := func(at string) (net.Listener, error) {
		if at == address && !taken {
			taken = true
			return l, nil
		}
		return Bare(at)
	}
	f := &site{Balancer: New(Config{Log: slog.New(slog.DiscardHandler), Open: open, Logs: t.TempDir(), Key: []byte("a key of the test")}), url: "http://" + address, address: address, idle: make(chan string, 10),
		pool: balancer.Pool{Name: "front", Known: true}}
	f.Watch(func(instance string) {
		select {
		case f.idle <- instance:
		default: // nobody listens
		}
	})
	for i, h := range handlers {
		s := httptest.NewServer(h)
		t.Cleanup(s.Close)
		f.servers = append(f.servers, s)
		f.targets = append(f.targets, balancer.Target{Instance: fmt.Sprint("timetable-", i), Address: strings.TrimPrefix(s.URL, "http://"), Open: true, Weight: 100,
			Version: fmt.Sprintf("timetable-web@%d", 1+i%2)})
	}
	t.Cleanup(f.Close)
	f.apply()
	f.listener = balancer.Listener{Listener: traffic.Listener{Address: address, Protocol: traffic.HTTP, Pool: "front", Limits: traffic.UsualListenerLimits}}
	f.Listen([]balancer.Listener{f.listener})
	if l := f.Listening()[0]; l.Trouble != "" {
		t.Fatalf("the listener is not open: %+v", l)
	}
	return f
}

func (f *site) apply() {
	f.pool.As++
	f.pool.Targets = f.targets
	_ = f.Sync(context.Background(), f.pool)
}

// flying is how many requests an instance has.
func (f *site) flying(instance string) int {
	n, _ := f.InFlight(instance)
	return n
}

func (f *site) get(t testing.TB, method, body string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(method, f.url+"/sailings", strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, string(raw)
}

// connected is a server that hands each connection to serve, which ends it.
func connected(t testing.TB, serve func(c net.Conn)) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(c)
			}()
		}
	}()
	return l.Addr().String()
}

func say(text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) }
}

func TestRequestsAreSpreadInTurn(t *testing.T) {
	f := newSite(t, say("0"), say("1"), say("2"))
	count := map[string]int{}
	for range 30 {
		_, body := f.get(t, http.MethodGet, "")
		count[body]++
	}
	for _, who := range []string{"0", "1", "2"} {
		if count[who] != 10 {
			t.Errorf("the requests went %v", count)
		}
	}
	s, _ := f.Stats("front")
	if s.Requests != 30 || s.Failures != 0 || s.Targets[1].Requests != 10 || s.Targets[1].Windows[0].P99 <= 0 {
		t.Errorf("the stats are %+v", s)
	}
}

func TestNobodyHealthy(t *testing.T) {
	f := newSite(t)
	if status, body := f.get(t, http.MethodGet, ""); status != http.StatusServiceUnavailable || !strings.Contains(body, "No target is healthy") {
		t.Errorf("the answer is %d %s", status, body)
	}
	if s, _ := f.Stats("front"); s.Failures != 1 || f.Untaken("front") != 1 || f.Untaken("other") != 0 {
		t.Errorf("%d failures are counted, and %d that nobody took", s.Failures, f.Untaken("front"))
	}
}

// TestRefusedIsTriedElsewhere: a target that takes no connection costs no
// request, whatever its method, since nothing was sent.
func TestRefusedIsTriedElsewhere(t *testing.T) {
	f := newSite(t, say("0"), say("1"))
	f.servers[0].Close()
	for _, method := range []string{http.MethodGet, http.MethodPost} {
		for range 6 {
			if status, body := f.get(t, method, "two adults"); status != http.StatusOK || body != "1" {
				t.Fatalf("%s was answered %d %s", method, status, body)
			}
		}
	}
	if s, _ := f.Stats("front"); s.Targets[0].Retried == 0 || s.Failures != 0 {
		t.Errorf("the stats are %+v", s)
	}
}

// TestResetIsTriedElsewhereWhenSafe: a target that hangs up before it answers
// may have done the work; only what may be done twice is sent again.
func TestResetIsTriedElsewhereWhenSafe(t *testing.T) {
	var posts atomic.Int64
	hangUp := func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			posts.Add(1)
		}
		panic(http.ErrAbortHandler)
	}
	f := newSite(t, hangUp, hangUp)
	for _, body := range []string{"two adults", ""} {
		posts.Store(0)
		if status, _ := f.get(t, http.MethodPost, body); status != http.StatusBadGateway || posts.Load() != 1 {
			t.Errorf("a POST of %q was answered %d and reached targets %d times", body, status, posts.Load())
		}
	}
	f.targets = append(f.targets[:1], balancer.Target{Instance: "timetable-9", Open: true, Weight: 100,
		Address: strings.TrimPrefix(newServer(t, say("well")).URL, "http://")})
	f.apply()
	for range 8 {
		if status, body := f.get(t, http.MethodGet, ""); status != http.StatusOK || body != "well" {
			t.Fatalf("a GET was answered %d %s", status, body)
		}
	}
}

func newServer(t testing.TB, h http.HandlerFunc) *httptest.Server {
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s
}

// TestDrain: a closed target finishes what it has, gets nothing new, and says
// when it is done.
func TestDrain(t *testing.T) {
	entered, release := make(chan bool, 10), make(chan bool)
	slow := func(w http.ResponseWriter, _ *http.Request) {
		entered <- true
		<-release
		fmt.Fprint(w, "slow")
	}
	f := newSite(t, slow)
	answer := make(chan string)
	go func() {
		_, body := f.get(t, http.MethodGet, "")
		answer <- body
	}()
	waittest.For(t, "the request", entered)
	f.targets[0].Open = false
	f.targets = append(f.targets, balancer.Target{Instance: "timetable-1", Address: strings.TrimPrefix(newServer(t, say("new")).URL, "http://"), Open: true, Weight: 100})
	f.apply()
	if n := f.flying("timetable-0"); n != 1 {
		t.Errorf("%d requests are in flight", n)
	}
	if s, _ := f.Stats("front"); len(s.Targets[0].WaitsFor) != 1 || s.Targets[0].WaitsFor[0].Path != "/sailings" || s.Targets[1].WaitsFor != nil {
		t.Errorf("the draining target waits for %+v", s.Targets[0].WaitsFor)
	}
	for range 5 {
		if _, body := f.get(t, http.MethodGet, ""); body != "new" {
			t.Errorf("a draining target got a new request: %s", body)
		}
	}
	select {
	case who := <-f.idle:
		t.Errorf("%s is idle with a request in flight", who)
	default:
	}
	release <- true
	if got := <-answer; got != "slow" {
		t.Errorf("the request in flight was answered %q", got)
	}
	if who := <-f.idle; who != "timetable-0" {
		t.Errorf("%s is idle", who)
	}
}

// TestWhatIsLeftBehindCounts: the requests of a target count when it is taken away under
// them, until they are done.
func TestWhatIsLeftBehindCounts(t *testing.T) {
	entered, release := make(chan bool), make(chan bool)
	f := newSite(t, func(w http.ResponseWriter, _ *http.Request) {
		entered <- true
		<-release
	})
	done := make(chan bool)
	go func() {
		f.get(t, http.MethodGet, "")
		close(done)
	}()
	waittest.For(t, "the request", entered)
	f.targets = nil
	f.apply()
	if n := f.flying("timetable-0"); n != 1 {
		t.Errorf("%d requests are in flight", n)
	}
	release <- true
	waittest.For(t, "the end", done)
	select {
	case who := <-f.idle:
		if who != "timetable-0" || f.flying(who) != 0 {
			t.Errorf("%s is idle with %d", who, f.flying(who))
		}
	case <-time.After(10 * time.Second):
		t.Fatal("nobody said that it is idle")
	}
	if _, there := f.flights.all.Load("timetable-0"); there {
		t.Error("what nobody needs any more is kept")
	}
}

// TestTargetsComeAndGo changes the pool all the time under traffic.
func TestTargetsComeAndGo(t *testing.T) {
	f := newSite(t, say("0"), say("1"), say("2"))
	stop := make(chan struct{})
	var clients sync.WaitGroup
	var failed, sent atomic.Int64
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 4}}
	defer client.CloseIdleConnections()
	for range 4 {
		clients.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				res, err := client.Get(f.url)
				if err != nil || res.StatusCode != http.StatusOK {
					t.Logf("a request failed: %v", err)
					failed.Add(1)
				}
				if err == nil {
					_, _ = io.Copy(io.Discard, res.Body)
					res.Body.Close()
				}
				sent.Add(1)
			}
		})
	}
	all := f.targets
	for n := 0; sent.Load() < 2000; n++ {
		<-time.After(100 * time.Microsecond)
		f.targets = append([]balancer.Target(nil), all...)
		f.targets[n%3].Open = false
		if n%2 == 0 {
			f.targets = f.targets[1:]
			f.targets[0].Open = true
		}
		f.apply()
	}
	close(stop)
	clients.Wait()
	if n := failed.Load(); n > 0 {
		t.Errorf("%d of %d requests failed", n, sent.Load())
	}
}

func TestForwardedHeadersAreNotTrusted(t *testing.T) {
	got := make(chan http.Header, 1)
	f := newSite(t, func(_ http.ResponseWriter, r *http.Request) { got <- r.Header })
	req, _ := http.NewRequest(http.MethodGet, f.url, nil)
	req.Header.Set("X-Forwarded-For", "203.0.113.9")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if h := <-got; h.Get("X-Forwarded-For") != "127.0.0.1" || h.Get("X-Forwarded-Proto") != "http" {
		t.Errorf("the target was told %v", h)
	}
}

// BenchmarkBalancer tells what a choice costs.
func BenchmarkBalancer(b *testing.B) {
	for _, n := range []int{1, 10, 100} {
		for _, how := range []string{"turns", "weights", "busy"} {
			b.Run(fmt.Sprintf("%s/%d", how, n), func(b *testing.B) {
				f := newSite(b, slices.Repeat([]http.HandlerFunc{say("up")}, n)...)
				f.pool.LeastBusy = how == "busy"
				for i := range f.targets {
					if how == "weights" {
						f.targets[i].Weight = float64(50 + i%3)
					}
				}
				f.apply()
				hammer(b, f.url)
			})
		}
	}
}

func hammer(b *testing.B, url string) {
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}, Timeout: 10 * time.Second}
	b.SetParallelism(8)
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			res, err := c.Get(url)
			if err != nil {
				b.Error(err)
				return
			}
			_, _ = io.Copy(io.Discard, res.Body)
			res.Body.Close()
		}
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
}
