package probe

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	grpchealth "google.golang.org/grpc/health"
	"google.golang.org/grpc/health/grpc_health_v1"
	"google.golang.org/grpc/status"

	"unitas/internal/fleet/health"
	"unitas/internal/waittest"
)

func checkOf(t *testing.T, address string, kind health.Kind) (host string, c health.Check) {
	t.Helper()
	host, port, err := net.SplitHostPort(strings.TrimPrefix(address, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	c = health.Check{Name: "sailings-up", Kind: kind, Path: "/up", Interval: 20 * time.Millisecond, Timeout: 5 * time.Second, Passes: 2, Fails: 2}
	if _, err := fmt.Sscan(port, &c.Port); err != nil {
		t.Fatal(err)
	}
	return host, c
}

func TestOneQuestion(t *testing.T) {
	release := make(chan struct{})
	mux := http.NewServeMux()
	mux.HandleFunc("/up", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "up") })
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/up", http.StatusFound) })
	mux.HandleFunc("/ill", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusServiceUnavailable) })
	mux.HandleFunc("/slow-body", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "the beginning")
		w.(http.Flusher).Flush()
		<-release
	})
	mux.HandleFunc("/silent", func(http.ResponseWriter, *http.Request) { <-release })
	server := httptest.NewServer(mux)
	defer server.Close()
	defer close(release)
	refused, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := refused.Addr().String()
	refused.Close()

	for _, c := range []struct {
		name, address, path string
		kind                health.Kind
		timeout             time.Duration
		good                bool
		why                 string
	}{
		{"good", server.URL, "/up", health.HTTP, 5 * time.Second, true, "200"},
		{"a redirect is no good answer", server.URL, "/moved", health.HTTP, 5 * time.Second, false, `302, a redirect to "/up"`},
		{"unavailable", server.URL, "/ill", health.HTTP, 5 * time.Second, false, "503"},
		{"a slow body is no good answer", server.URL, "/slow-body", health.HTTP, 50 * time.Millisecond, false, "no whole answer within 50 ms"},
		{"silence", server.URL, "/silent", health.HTTP, 50 * time.Millisecond, false, "no whole answer within 50 ms"},
		{"nobody there", nobody, "/up", health.HTTP, 5 * time.Second, false, "connection refused"},
		{"tcp", server.URL, "", health.TCP, 5 * time.Second, true, "connected"},
		{"tcp to nobody", nobody, "", health.TCP, 5 * time.Second, false, "connection refused"},
	} {
		host, check := checkOf(t, c.address, c.kind)
		check.Path, check.Timeout = c.path, c.timeout
		if c.path == "" {
			check.Path = "/"
		}
		a := newAsker().once(host, check, true)
		if a.Good != c.good || a.Why != c.why {
			t.Errorf("%s: the answer is good=%v %q, want good=%v %q", c.name, a.Good, a.Why, c.good, c.why)
		}
		if limit := c.timeout + time.Second; a.Took > limit { // of which the second is the machine's
			t.Errorf("%s: it took %s", c.name, a.Took)
		}
	}
}

// TestOnlyChangesLeave asks a server that turns ill and well again.
func TestOnlyChangesLeave(t *testing.T) {
	var ill atomic.Bool
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		if ill.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	defer server.Close()
	reports := make(chan health.Report, 100)
	p := New(func(instance string, r health.Report) {
		if instance != "timetable-001" {
			t.Errorf("a report of %s", instance)
		}
		reports <- r
	})
	defer p.Close()
	host, check := checkOf(t, server.URL, health.HTTP)
	p.Watch("timetable-001", host, check, health.Report{})
	p.Watch("timetable-001", host, check, health.Report{}) // is there already

	expect := func(want health.Verdict, evidence string) {
		t.Helper()
		select {
		case r := <-reports:
			if r.Verdict != want || !strings.Contains(r.Why, evidence) {
				t.Errorf("the report is %s %q, want %s %q", r.Verdict, r.Why, want, evidence)
			}
		case <-time.After(20 * time.Second):
			t.Fatalf("no report of %s", want)
		}
	}
	expect(health.Healthy, "passed 2 of 2: 200")
	for n := asked.Load(); asked.Load() < n+5; <-time.After(time.Millisecond) { // several equal answers
		if len(reports) > 0 {
			t.Fatal("an answer like the one before was reported")
		}
	}
	ill.Store(true)
	expect(health.Unhealthy, "failed 2 of 2: 503")
	ill.Store(false)
	expect(health.Healthy, "passed 2 of 2: 200")
	answers := p.Answers("timetable-001", "sailings-up")
	if len(answers) < 7 || len(answers) > Kept || answers[len(answers)-1].Took <= 0 {
		t.Errorf("%d answers are kept, the last %+v", len(answers), answers[len(answers)-1])
	}
	p.Forget("timetable-001")
	if p.Answers("timetable-001", "sailings-up") != nil {
		t.Error("a forgotten instance still has answers")
	}
}

// TestKnownVerdictIsTheStart: after a restart an instance that was healthy is
// not reported as healthy once more.
func TestKnownVerdictIsTheStart(t *testing.T) {
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	defer server.Close()
	var reported atomic.Int64
	p := New(func(string, health.Report) { reported.Add(1) })
	host, check := checkOf(t, server.URL, health.HTTP)
	done := make(chan struct{})
	go func() {
		for asked.Load() < 6 {
			<-time.After(time.Millisecond)
		}
		close(done)
	}()
	p.Watch("timetable-001", host, check, health.Report{Check: check.Name, Verdict: health.Healthy})
	waittest.For(t, "the end", done)
	p.Close()
	if n := reported.Load(); n != 0 {
		t.Errorf("%d reports of what was known", n)
	}
}

func TestPhaseSpreads(t *testing.T) {
	seen := map[time.Duration]bool{}
	for n := range 100 {
		w := watch{instance: fmt.Sprint("timetable-", n), check: health.Check{Name: "c", Interval: 10 * time.Second}}
		d := w.phase()
		if d < 5*time.Second || d > 10*time.Second {
			t.Fatalf("the phase is %s", d)
		}
		seen[d.Truncate(500*time.Millisecond)] = true
	}
	if len(seen) < 8 {
		t.Errorf("a hundred instances share %d moments", len(seen))
	}
}

// TestWhatIsGood asks with every setting that says what a good answer is.
func TestWhatIsGood(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/up", func(w http.ResponseWriter, r *http.Request) {
		if r.Host == "berths.saltmere.example" {
			w.WriteHeader(http.StatusNotFound)
		}
		fmt.Fprint(w, "all berths are free")
	})
	plain, sealed := httptest.NewServer(mux), httptest.NewTLSServer(mux)
	defer plain.Close()
	defer sealed.Close()
	a := newAsker()
	defer a.close()
	for _, c := range []struct {
		name   string
		server *httptest.Server
		check  health.Check
		good   bool
		why    string
	}{
		{"the text is there", plain, health.Check{Text: "free"}, true, "200"},
		{"the text is not there", plain, health.Check{Text: "taken"}, false, `200, without the text "taken"`},
		{"the status is no good one", plain, health.Check{Statuses: "201-299"}, false, "200"},
		{"another host, and its status is good", plain, health.Check{Host: "berths.saltmere.example", Statuses: "200,404"}, true, "404"},
		{"a certificate that nobody trusts", sealed, health.Check{Verify: true}, false, "its certificate is not trusted: certificate signed by unknown authority"},
		{"one that need not be trusted", sealed, health.Check{}, true, "200"},
	} {
		c.check.Kind, c.check.Path, c.check.Timeout = health.HTTP, "/up", 5*time.Second
		if c.server == sealed {
			c.check.Kind = health.HTTPS
		}
		host, port, _ := net.SplitHostPort(c.server.Listener.Addr().String())
		_, _ = fmt.Sscan(port, &c.check.Port)
		if got := a.once(host, c.check, true); got.Good != c.good || got.Why != c.why {
			t.Errorf("%s: %v, %q", c.name, got.Good, got.Why)
		}
	}
}

// TestGRPC asks a server that speaks the gRPC health protocol.
// TestTheServerNameIsThatOfTheHost: a check by https asks for the name that its host setting says,
// and holds the certificate against it.
func TestTheServerNameIsThatOfTheHost(t *testing.T) {
	asked := make(chan string, 10)
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.Host) }))
	s.TLS = &tls.Config{GetConfigForClient: func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		asked <- hello.ServerName
		return nil, nil
	}}
	s.StartTLS()
	defer s.Close()
	host, port, _ := net.SplitHostPort(s.Listener.Addr().String())
	n, _ := strconv.Atoi(port)
	a := newAsker()
	defer a.close()
	for _, c := range []struct{ host, want string }{
		{"berths.saltmere.example", "berths.saltmere.example"}, {"fares.saltmere.example:8443", "fares.saltmere.example"}, {"", ""},
	} {
		check := health.Check{Name: "up", Kind: health.HTTPS, Port: n, Path: "/", Host: c.host, Timeout: 5 * time.Second, Text: c.host}
		if got := a.once(host, check, true); !got.Good {
			t.Errorf("host %q: %+v", c.host, got)
		}
		if got := waittest.For(t, "the hello", asked); got != c.want {
			t.Errorf("host %q: it asked for %q", c.host, got)
		}
	}
	if got := a.once(host, health.Check{Name: "up", Kind: health.HTTPS, Port: n, Path: "/", Host: "berths.saltmere.example", Verify: true, Timeout: 5 * time.Second}, true); got.Good {
		t.Errorf("one that nobody trusts is good: %+v", got)
	}
}

func TestGRPC(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server, state := grpc.NewServer(), grpchealth.NewServer()
	grpc_health_v1.RegisterHealthServer(server, state)
	state.SetServingStatus("berths", grpc_health_v1.HealthCheckResponse_NOT_SERVING)
	served := make(chan error, 1)
	go func() { served <- server.Serve(listener) }()
	a := newAsker()
	defer a.close()
	host, c := checkOf(t, listener.Addr().String(), health.GRPC)
	for service, want := range map[string]string{"": "SERVING", "berths": "NOT_SERVING", "tickets": "NotFound: unknown service"} {
		c.Service = service
		if got := a.once(host, c, true); got.Good != (want == "SERVING") || got.Why != want {
			t.Errorf("%q: %v, %q", service, got.Good, got.Why)
		}
	}
	server.Stop()
	if err := <-served; err != nil {
		t.Error(err)
	}
	if got := a.once(host, c, true); got.Good || got.Why != "connection refused" {
		t.Errorf("nobody listens: %v, %q", got.Good, got.Why)
	}
}

// TestAnswersArePlain: what an instance answers is kept without what no text may have,
// and no longer than it need be.
func TestAnswersArePlain(t *testing.T) {
	server := grpc.NewServer()
	grpc_health_v1.RegisterHealthServer(server, saysBadThings{})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go server.Serve(l) //nolint:errcheck // it is stopped below
	defer server.Stop()
	reports := make(chan health.Report, 10)
	p := New(func(_ string, r health.Report) { reports <- r })
	defer p.Close()
	host, check := checkOf(t, l.Addr().String(), health.GRPC)
	p.Watch("berths-001", host, check, health.Report{})
	select {
	case r := <-reports:
		if strings.ContainsRune(r.Why, 0) || !strings.Contains(r.Why, "bad thing") || len(r.Why) > 2*300 {
			t.Errorf("the report says %q", r.Why)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("no report")
	}
	for _, a := range p.Answers("berths-001", check.Name) {
		if strings.ContainsRune(a.Why, 0) || len(a.Why) > 210 {
			t.Errorf("an answer says %q", a.Why)
		}
	}
	if r, ok := p.Standing("berths-001", check.Name); !ok || r.Verdict != health.Unhealthy || r.Why == "" {
		t.Errorf("it stands at %+v", r)
	}
}

type saysBadThings struct {
	grpc_health_v1.UnimplementedHealthServer
}

func (saysBadThings) Check(context.Context, *grpc_health_v1.HealthCheckRequest) (*grpc_health_v1.HealthCheckResponse, error) {
	return nil, status.Error(codes.Unavailable, "bad\x00thing "+strings.Repeat("x", 3000))
}
