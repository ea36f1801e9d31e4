package traffic

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"
)

func ask(host, path string, h http.Header) Asked {
	turns := map[int]uint64{}
	return Asked{Host: host, Path: path, Header: func(name string) []string { return h[name] }, Turn: func(route int) uint64 { turns[route]++; return turns[route] }}
}

func TestRoutes(t *testing.T) {
	l := Listener{Pool: "front", Routes: []Route{
		{Hosts: []string{"fares.saltmere.example"}, Path: "/v2", Pool: "fares-2"},
		{Hosts: []string{"fares.saltmere.example"}, Pool: "fares"},
		{Hosts: []string{"*.headland.example"}, Pool: "headland"},
		{Path: "/berths", Headers: []Field{{Name: "X-Trial", Value: "yes"}}, Pool: "berths-trial"},
		{Path: "/berths/", Pool: "berths"},
		{Headers: []Field{{Name: "X-Crew"}}, Pool: "crew"},
	}}
	for _, c := range []struct {
		host, path string
		header     http.Header
		route      int
		pool       string
	}{
		{"fares.saltmere.example", "/", nil, 2, "fares"},
		{"FARES.saltmere.example.:8000", "/v2", nil, 1, "fares-2"},
		{"fares.saltmere.example", "/v2/a", nil, 1, "fares-2"},
		{"fares.saltmere.example", "/v22", nil, 2, "fares"},
		{"a.headland.example", "/", nil, 3, "headland"},
		{"a.b.headland.example", "/", nil, 0, "front"},
		{"headland.example", "/", nil, 0, "front"},
		{"x", "/berths", nil, 5, "berths"},
		{"x", "/berths/7", http.Header{"X-Trial": {"no", "yes"}}, 4, "berths-trial"},
		{"x", "/berths/7", http.Header{"X-Trial": {"no"}}, 5, "berths"},
		{"x", "/berthside", nil, 0, "front"},
		{"x", "/", http.Header{"X-Crew": {""}}, 6, "crew"},
		{"[::1]:8000", "/", nil, 0, "front"},
	} {
		a := ask(c.host, c.path, c.header)
		got := l.Choose(a)
		if got.Route != c.route || got.Pool != c.pool {
			t.Errorf("%s%s %v goes to %+v, want %d %s", c.host, c.path, c.header, got, c.route, c.pool)
		}
		why := l.Explain(a, got)
		if c.route > 0 && (len(why) != c.route || !strings.Contains(why[c.route-1], fmt.Sprintf("route %d (", c.route)) || !strings.HasSuffix(why[c.route-1], "takes it")) {
			t.Errorf("%s%s is explained by %q", c.host, c.path, why)
		}
		if c.route == 0 && !strings.Contains(why[len(why)-1], "own pool front") {
			t.Errorf("%s%s is explained by %q", c.host, c.path, why)
		}
	}
	l.Pool = ""
	if got := l.Choose(ask("x", "/", nil)); got.Pool != "" || !strings.Contains(strings.Join(l.Explain(ask("x", "/", nil), got), " "), "answered 404") {
		t.Errorf("what no route takes goes to %+v", got)
	}
}

// TestDivert: the share is kept as evenly as may be, and those with the header go in any case.
func TestDivert(t *testing.T) {
	for _, percent := range []float64{0.5, 5, 33, 50, 100} {
		l := Listener{Routes: []Route{{Pool: "front", Split: &Split{Pool: "dark", Percent: percent, Header: &Field{Name: "X-Dark"}}}}}
		a, n, last, far := ask("x", "/", nil), 0, 0, 0
		for i := range 1000 {
			if l.Choose(a).Split == "dark" {
				n++
				far, last = max(far, i-last), i
			}
		}
		if want := int(percent * 10); n != want || float64(far) > 100/percent+1 {
			t.Errorf("of 1000 with %g %% %d are diverted, at most %d apart", percent, n, far)
		}
		if l.Choose(ask("x", "/", http.Header{"X-Dark": {"1"}})).Split != "dark" {
			t.Error("one with the header does not are diverted")
		}
	}
}

func TestReach(t *testing.T) {
	for _, c := range []struct {
		regions []Region
		n       int
	}{
		{[]Region{{"harbour", 3, 4}, {"headland", 4, 4}}, 1},
		{[]Region{{"harbour", 2, 4}, {"headland", 4, 4}}, 1},
		{[]Region{{"harbour", 1, 4}, {"headland", 4, 4}}, 2},
		{[]Region{{"harbour", 0, 4}, {"headland", 0, 4}, {"far", 1, 1}}, 3},
		{[]Region{{"harbour", 1, 4}, {"headland", 1, 4}}, 2},
		{[]Region{{"harbour", 0, 0}, {"headland", 4, 4}}, 2},
		{nil, 0},
	} {
		n, why := Reach(c.regions, 50)
		if n != c.n || (why == "") != (n < 2) {
			t.Errorf("of %v %d share, want %d; %s", c.regions, n, c.n, why)
		}
	}
}

func TestEject(t *testing.T) {
	well := func(n int) (all []Conduct) {
		for i := range n {
			all = append(all, Conduct{Instance: fmt.Sprint("timetable-", i), Requests: 100, Median: 10, Open: true})
		}
		return all
	}
	with := func(n int, change func(all []Conduct)) []Conduct {
		all := well(n)
		change(all)
		return all
	}
	for _, c := range []struct {
		name string
		all  []Conduct
		want string
	}{
		{"all well", well(4), "[]"},
		{"failures in a row", with(4, func(a []Conduct) { a[2].InARow = 5 }), "[timetable-2]"},
		{"one fewer", with(4, func(a []Conduct) { a[2].InARow = 4 }), "[]"},
		{"far more failures", with(4, func(a []Conduct) { a[1].Failed = 40 }), "[timetable-1]"},
		{"as many more than the others as are too many", with(4, func(a []Conduct) { a[1].Failed = 33 }), "[timetable-1]"},
		{"everybody fails alike", with(4, func(a []Conduct) {
			for i := range a {
				a[i].Failed = 40
			}
		}), "[]"},
		{"too few requests to say", with(4, func(a []Conduct) { a[1].Requests, a[1].Failed = 49, 49 }), "[]"},
		{"far slower", with(4, func(a []Conduct) { a[3].Median = 41 }), "[timetable-3]"},
		{"slower by next to nothing", with(4, func(a []Conduct) {
			for i := range a {
				a[i].Median = 0.1
			}
			a[3].Median = 2
		}), "[]"},
		{"the worst first, and half at most", with(4, func(a []Conduct) { a[0].InARow, a[1].InARow, a[2].InARow = 5, 9, 7 }), "[timetable-1 timetable-2]"},
		{"those that are aside count", with(4, func(a []Conduct) { a[0].Aside, a[1].Aside, a[2].InARow = true, true, 9 }), "[]"},
		{"nobody alone", with(1, func(a []Conduct) { a[0].InARow = 100 }), "[]"},
		{"of two one", with(2, func(a []Conduct) { a[0].InARow, a[1].InARow = 100, 100 }), "[timetable-0]"},
		{"closed ones are no matter", with(4, func(a []Conduct) { a[2].InARow, a[2].Open = 9, false }), "[]"},
	} {
		got := []string{}
		ejections, _ := UsualEject.Judge(c.all)
		for _, e := range ejections {
			got = append(got, e.Instance)
			if e.Why == "" || e.For != UsualEject.First {
				t.Errorf("%s: %+v", c.name, e)
			}
		}
		if fmt.Sprint(got) != c.want {
			t.Errorf("%s: set aside are %v, want %s", c.name, got, c.want)
		}
	}
	e := Eject{First: 10 * time.Second, Max: time.Minute}
	if got := fmt.Sprint(e.For(1), e.For(2), e.For(3), e.For(4), e.For(1000)); got != "10s 20s 40s 1m0s 1m0s" {
		t.Errorf("the times grow %s", got)
	}
	if got, _ := (&Eject{}).Judge(with(4, func(a []Conduct) { a[2].InARow = 500 })); len(got) > 0 {
		t.Errorf("without settings %v is set aside", got)
	}
}

func TestListenerFaults(t *testing.T) {
	good := func() Listener {
		return Listener{Address: "127.0.0.1:1", Protocol: HTTP, Pool: "front", Limits: UsualListenerLimits, AccessLog: AccessLog{Keep: KeepFailures}}
	}
	for want, change := range map[string]func(l *Listener){
		"":                    func(*Listener) {},
		"protocol":            func(l *Listener) { l.Protocol = "udp" },
		"certificates":        func(l *Listener) { l.Protocol = HTTPS },
		"certificates ":       func(l *Listener) { l.Certificates = []string{"saltmere"} },
		"min_tls":             func(l *Listener) { l.MinTLS = "1.1" },
		"routes":              func(l *Listener) { l.Protocol, l.Routes = TCP, []Route{{Pool: "a"}} },
		"pool":                func(l *Listener) { l.Pool = "" },
		"pool ":               func(l *Listener) { l.Protocol, l.Pool = TCP, "" },
		"http2":               func(l *Listener) { l.Protocol, l.HTTP2 = TCP, true },
		"limits":              func(l *Listener) { l.Protocol = TCP; l.Limits.RequestsPS = 1 },
		"proxy_protocol":      func(l *Listener) { l.ProxyProtocol = true },
		"redirect":            func(l *Listener) { l.Redirect = 70000 },
		"routes/0/pool":       func(l *Listener) { l.Routes = []Route{{Path: "/a"}} },
		"routes/0/hosts/1":    func(l *Listener) { l.Routes = []Route{{Hosts: []string{"a.example", "A.example:80"}, Pool: "a"}} },
		"routes/0/path":       func(l *Listener) { l.Routes = []Route{{Path: "/a/*", Pool: "a"}} },
		"routes/0/split":      func(l *Listener) { l.Routes = []Route{{Pool: "a", Split: &Split{Pool: "b"}}} },
		"routes/0/split/pool": func(l *Listener) { l.Routes = []Route{{Pool: "a", Split: &Split{Percent: 5}}} },
		"routes/1": func(l *Listener) {
			l.Routes = []Route{{Path: "/a", Pool: "a"}, {Path: "/a/b", Hosts: []string{"x"}, Pool: "b"}}
		},
		"region_order/regions":        func(l *Listener) { l.RegionOrder, l.Enough = InOrder, 50 },
		"region_order/regions ":       func(l *Listener) { l.Regions = []string{"harbour"} },
		"region_order/regions/1":      func(l *Listener) { l.RegionOrder, l.Enough, l.Regions = InOrder, 50, []string{"harbour", "harbour"} },
		"region_order/how":            func(l *Listener) { l.RegionOrder, l.Enough = "odd", 50 },
		"region_order/enough_percent": func(l *Listener) { l.RegionOrder = Measured },
		"access_log/percent":          func(l *Listener) { l.AccessLog.Keep = KeepSampled },
		"limits/head_bytes":           func(l *Listener) { l.Limits.HeadBytes = 10 },
		"limits/head_seconds":         func(l *Listener) { l.Limits.Head = 0 },
	} {
		l := good()
		change(&l)
		faults := l.Faults()
		if (len(faults) == 0) != (want == "") || (want != "" && faults[0].Field != strings.TrimSpace(want)) {
			t.Errorf("of %q it says %v", want, faults)
		}
	}
	l := good()
	l.Routes = []Route{{Path: "/a/b", Pool: "b"}, {Path: "/a", Pool: "a"}, {Hosts: []string{"a.x"}, Pool: "a"}, {Hosts: []string{"*.x"}, Pool: "b"}}
	if faults := l.Faults(); len(faults) > 0 {
		t.Errorf("of routes in a good order it says %v", faults)
	}
}

// TestAStarIsOneWholePart: not none, and not two.
func TestAStarIsOneWholePart(t *testing.T) {
	for host, is := range map[string]bool{"fares.saltmere.example": true, ".saltmere.example": false, "saltmere.example": false, "a.fares.saltmere.example": false} {
		if IsHost("*.saltmere.example", HostName(host)) != is {
			t.Errorf("%q is of *.saltmere.example: %t", host, !is)
		}
	}
}
