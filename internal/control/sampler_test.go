package control

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/clock"
	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// TestWhatFollowsFromTwoLooks: shares of what the template gives, rates over the time between,
// and nothing where a machine is another or a count went back.
func TestWhatFollowsFromTwoLooks(t *testing.T) {
	begun := time.Now()
	took := func(fast, slow int64) []int64 { return []int64{fast, slow} }
	look := func(after time.Duration, cpu float64, requests int64) had {
		return had{at: begun.Add(after), used: machine.Usage{Launch: 1, CPUSeconds: cpu, MemoryBytes: 32 << 20}, isUsed: true, isPass: true,
			passed: balancer.Passed{Requests: requests, BytesIn: 10 * requests, BytesOut: 100 * requests, Took: took(requests, requests/10), Until: []float64{5, 50}}}
	}
	given := size{cpus: 0.5, memory: 64 << 20}
	tell := func(now, before had) map[metric.Name]float64 {
		o := one{values: map[metric.Name]float64{}}
		o.tell(now, before, given)
		return o.values
	}
	got := tell(look(10*time.Second, 3, 200), look(0, 1, 100))
	want := map[metric.Name]float64{metric.CPU: 40, metric.Memory: 50, metric.Requests: 10, metric.NetworkIn: 100, metric.NetworkOut: 1000, metric.Latency: 50}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("two looks tell %v, and should %v", got, want)
	}
	if got := tell(look(10*time.Second, 3, 200), had{}); len(got) != 1 || got[metric.Memory] != 50 {
		t.Errorf("a first look tells %v", got)
	}
	another := look(10*time.Second, 3, 200)
	another.used.Launch = 2
	if got := tell(another, look(0, 1, 100)); got[metric.CPU] != 0 {
		t.Errorf("of another machine it tells %v", got)
	}
	if got := tell(look(10*time.Second, 0.5, 50), look(0, 1, 100)); got[metric.CPU] != 0 || got[metric.Requests] != 0 {
		t.Errorf("of counts that went back it tells %v", got)
	}
}

// TestWhoIsMissing: of a metric that rules go by, those that were not measured are counted, also
// when nobody was; what was sent for the group as a whole has nobody missing.
func TestWhoIsMissing(t *testing.T) {
	g := &fleet.Group{Name: "timetable", Settings: fleet.Settings{Rules: []scaling.Rule{{Name: "a", Kind: scaling.Steady, Metric: "scrape:waiting"}, {Name: "b", Kind: scaling.Steady, Metric: "push:queue"}}}}
	m := measured{group: g, asks: []metric.Name{"scrape:waiting", "push:queue"}, serving: 3, whole: map[metric.Name]float64{}}
	for k := range 3 {
		m.of = append(m.of, one{id: fmt.Sprintf("timetable-%03d", k+1), serial: k + 1, values: map[metric.Name]float64{}})
	}
	m.of[0].values[metric.CPU], m.of[1].values[metric.CPU] = 10, 20
	m.of[0].values[metric.Latency] = 5
	m.take([]store.Pushed{{Metric: "push:queue", Value: 12}, {Metric: "push:queue", Instance: "timetable-002", Value: 4}, {Metric: "push:queue", Instance: "gone", Value: 4}})
	by := map[string]store.Sample{}
	for _, s := range m.samples() {
		by[s.Metric] = s
	}
	for name, want := range map[string][2]int{"cpu": {2, 1}, "latency": {1, 0}, "scrape:waiting": {0, 3}, "push:queue": {1, 0}} {
		if s, ok := by[name]; !ok || len(s.Vals) != want[0] || s.Missing != want[1] || s.Serving != 3 {
			t.Errorf("%s is %+v, and should have %d and miss %d", name, s, want[0], want[1])
		}
	}
	if by["push:queue"].Serials[0] != 0 || by["push:queue"].Vals[0] != 12 {
		t.Errorf("what is of the whole group is %+v", by["push:queue"])
	}
	if _, some := by["memory"]; some {
		t.Error("what nobody has is kept")
	}
}

// unwanted is a balancer of which requests to nobody are counted.
type unwanted struct {
	taker
	n map[string]int64
}

func (u *unwanted) Untaken(pool string) int64 { return u.n[pool] }

// TestRequestsThatComeToNobody are what a group of size 0 would bear, as if one bore them; of one that
// has instances, of a pool that it is not in, and of the first look nothing follows.
func TestRequestsThatComeToNobody(t *testing.T) {
	at := time.Now()
	b := &unwanted{n: map[string]int64{"sailings": 30, "fares": 5, "other": 9}}
	s := &sampler{c: &Control{Config: Config{Balancer: b}}, looked: at, untaken: map[string]int64{"sailings": 10, "other": 0}, untakenNow: map[string]int64{}}
	wants := func(size, serving int, pools ...string) (float64, bool) {
		m := &measured{group: &fleet.Group{Settings: fleet.Settings{Size: size, Pools: pools}}, serving: serving, asks: []metric.Name{metric.Requests}, whole: map[metric.Name]float64{}}
		s.wanted(m, at.Add(10*time.Second))
		for _, one := range m.samples() {
			if p := one.Point(metric.Average); one.Metric == "requests" && p.Known() {
				return p.Load(metric.Average), true
			}
		}
		return 0, false
	}
	if load, known := wants(0, 0, "sailings", "fares"); !known || load != 2 {
		t.Errorf("20 requests in 10 s are a load of %g (known %v)", load, known)
	}
	if s.untakenNow["fares"] != 5 || s.untakenNow["sailings"] != 30 {
		t.Errorf("for the next look it keeps %v", s.untakenNow)
	}
	for what, known := range map[string]bool{
		"a pool seen for the first time": second(wants(0, 0, "fares")), "no pool": second(wants(0, 0)),
		"one that serves": second(wants(0, 1, "sailings")), "a size": second(wants(1, 0, "sailings")),
	} {
		if known {
			t.Errorf("of %s a load follows", what)
		}
	}
}

func second[A, B any](_ A, b B) B { return b }

// TestScraping: what instances tell is read by name, and who answers nonsense, too much, too late
// or somewhere else is missing.
func TestScraping(t *testing.T) {
	told := map[string]string{
		"good":    "# TYPE waiting gauge\nwaiting{line=\"a\"} 3\nwaiting{line=\"b\"} 4\n# TYPE asked_total counter\nasked_total 9\n",
		"silly":   "this is no page of metrics {{{",
		"endless": strings.Repeat("# a line\n", 400_000) + "waiting 3\n",
		"other":   "asked_total 1\n",
	}
	slow := make(chan struct{})
	defer close(slow)
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		switch name {
		case "away":
			http.Redirect(w, r, "/good", http.StatusFound)
		case "slow":
			select {
			case <-slow:
			case <-r.Context().Done():
			}
		default:
			fmt.Fprint(w, told[name])
		}
	}))
	defer page.Close()
	host, port, _ := net.SplitHostPort(page.Listener.Addr().String())
	n, _ := strconv.Atoi(port)
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
	defer stop()
	var groups []*measured
	for _, name := range []string{"good", "silly", "endless", "other", "away", "slow"} {
		g := &fleet.Group{Name: name, Settings: fleet.Settings{Scrape: "/" + name, Rules: []scaling.Rule{{Metric: "scrape:waiting"}, {Metric: "scrape:asked_total"}}}}
		groups = append(groups, &measured{group: g, asks: []metric.Name{"scrape:waiting", "scrape:asked_total"}, of: []one{{id: name, address: host, port: n, values: map[metric.Name]float64{}}}})
	}
	newScraper().all(ctx, groups)
	for _, m := range groups {
		got := m.of[0].values
		switch m.group.Name {
		case "good":
			if got["scrape:waiting"] != 7 || got["scrape:asked_total"] != 9 {
				t.Errorf("what is told is %v", got)
			}
		case "other":
			if _, some := got["scrape:waiting"]; some || got["scrape:asked_total"] != 1 {
				t.Errorf("what is told is %v", got)
			}
		default:
			if len(got) != 0 {
				t.Errorf("%s told %v", m.group.Name, got)
			}
		}
	}
	for where, want := range map[string]string{"": "http://127.0.0.1:8080/metrics", "/m": "http://127.0.0.1:8080/m", "9100/x/y": "http://127.0.0.1:9100/x/y"} {
		if got := scrapeURL(&one{address: "127.0.0.1", port: 8080}, where); got != want {
			t.Errorf("%q is at %s, and should be at %s", where, got, want)
		}
	}
}

// TestLateIsSeen: what fresh instances measure otherwise than the others, and for how long.
func TestLateIsSeen(t *testing.T) {
	begun := time.Now()
	var all []store.Sample
	for k := range 20 {
		s := store.Sample{At: begun.Add(time.Duration(k) * metric.Every)}
		for serial := range int32(2 + min(k, 4)) { // two are there, four more come
			v := float32(50)
			if since := k - int(serial) + 1; serial > 1 && since < 4 {
				v = 95
			}
			s.Serials, s.Vals = append(s.Serials, serial), append(s.Vals, v)
		}
		all = append(all, s)
	}
	if late := Late(all); late != 4*metric.Every && late != 3*metric.Every {
		t.Errorf("fresh ones are late by %s", late)
	}
	if late := Late(all[:1]); late != 0 {
		t.Errorf("without fresh ones it is %s", late)
	}
}

// TestPointsOfAKeeper: each rule has its points, by its own way to make one of many, as far back as
// it looks; the same moment does not come twice, and what others were shown stays as it was.
func TestPointsOfAKeeper(t *testing.T) {
	k := &keeper{ctl: &Control{}}
	rule := scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.CPU, Aggregate: "maximum", Calm: 30 * time.Second}
	k.group.Rules = []scaling.Rule{rule}
	k.view.Sizing.Points = map[string][]metric.Point{}
	begun := time.Now()
	for n := range 500 {
		k.addPoint("even", rule.LooksBack(), metric.Point{At: begun.Add(time.Duration(n) * metric.Every), Value: float64(n)})
	}
	shown := pointsNow(k.view.Sizing.Points)["even"]
	if first := shown[0]; shown[len(shown)-1].At.Sub(first.At) < rule.LooksBack() || len(shown) > 80 {
		t.Errorf("%d points are kept, over %s", len(shown), shown[len(shown)-1].At.Sub(first.At))
	}
	was := shown[0]
	for n := range 200 {
		k.addPoint("even", rule.LooksBack(), metric.Point{At: begun.Add(time.Duration(500+n) * metric.Every)})
	}
	if shown[0] != was {
		t.Error("what was shown is another now")
	}
	n := len(k.view.Sizing.Points["even"])
	k.addPoint("even", rule.LooksBack(), metric.Point{At: begun})
	if len(k.view.Sizing.Points["even"]) != n {
		t.Error("a moment that is past is taken in")
	}
	last := k.view.Sizing.Points["even"][n-1].At
	k.movePoints(time.Hour)
	if got := k.view.Sizing.Points["even"][n-1].At; !got.Equal(last.Add(time.Hour)) {
		t.Errorf("as the clock is set by an hour the last point is at %s, and was at %s", got, last)
	}
}

// TestAGateOnAMetric: samples of new and old are counted by the gate's line, those of five minutes of an
// instance as one, and a version whose samples are past it breaks the gate while an equal one does not.
func TestAGateOnAMetric(t *testing.T) {
	now := time.Now()
	old, fresh := fleet.Version{Name: "timetable-web", N: 1}, fleet.Version{Name: "timetable-web", N: 2}
	for _, c := range []struct {
		value  float32 // of the new ones
		broken bool
	}{{95, true}, {50, false}} {
		k := newKeeper(&Control{Config: Config{Clock: clock.New(), Balancer: &answering{said: map[string][2]int64{}}}}, "timetable", 1, nil)
		for n := range 6 {
			in := fleet.Instance{ID: fmt.Sprintf("timetable-%03d", n+1), Serial: n + 1, State: fleet.Serving, Since: now.Add(-time.Hour), Version: old}
			if n == 0 {
				in.Version = fresh
			}
			k.view.Instances = append(k.view.Instances, in)
			k.kept[in.ID] = &kept{at: n}
		}
		g := gate.Gate{Kind: gate.Metric, Metric: "cpu", At: 80, Margin: 0.1, OnBroken: gate.Revert, OnUndecided: gate.GoOn}
		if field, err := g.Validate(); err != nil {
			t.Fatalf("%s: %v", field, err)
		}
		k.rollout = &store.Rollout{Rollout: fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 7, From: old, State: fleet.Moving}, RolloutSettings: fleet.RolloutSettings{To: fresh, Gates: []gate.Gate{g}}}}
		if asks := k.asks(); len(asks) != 1 || asks[0] != "cpu" {
			t.Errorf("it asks for %v", asks)
		}
		for n := range 12 * 20 { // an hour, in stretches of five minutes
			k.comparing.looked = time.Time{}
			if n%20 == 0 {
				k.comparing.stretch = time.Now().Add(-gate.Stretch)
			}
			k.compare(now)
			k.sample([]store.Sample{{Metric: "memory", Serials: []int32{1}, Vals: []float32{99}},
				{Metric: "cpu", Serials: []int32{1, 2, 3, 4, 5, 6, 9}, Vals: []float32{c.value, 50, 50, 50, 50, 50, 99}}})
		}
		k.comparing.looked, k.comparing.stretch = time.Time{}, time.Now().Add(-gate.Stretch)
		k.compare(now)
		g.Seen = k.view.Seen[0]
		if got := g.State(1) == gate.Broken; got != c.broken || g.Seen.New.N < 11 || g.Seen.New.N > 12 || g.Seen.Old.N != 5*g.Seen.New.N || g.Seen.Old.Bad != 0 {
			t.Errorf("at %g of 80 it is %s, having seen %+v of new and %+v of old", c.value, g.State(1), g.Seen.New, g.Seen.Old)
		}
	}
}

// TestSilenceCostsNobodyElse: a group of many that never answer leaves others their values in the
// first round as in the next, and is itself asked for a shorter time then.
func TestSilenceCostsNobodyElse(t *testing.T) {
	never := make(chan struct{})
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/silent" {
			select {
			case <-never:
			case <-r.Context().Done():
			}
			return
		}
		fmt.Fprint(w, "# TYPE waiting gauge\nwaiting 3\n")
	}))
	defer page.Close()
	defer close(never)
	host, port, _ := net.SplitHostPort(page.Listener.Addr().String())
	n, _ := strconv.Atoi(port)
	group := func(name string, many int) *measured {
		m := &measured{group: &fleet.Group{Name: name, Settings: fleet.Settings{Scrape: "/" + name, Rules: []scaling.Rule{{Metric: "scrape:waiting"}}}}, asks: []metric.Name{"scrape:waiting"}}
		for k := range many {
			m.of = append(m.of, one{id: fmt.Sprintf("%s-%03d", name, k), address: host, port: n, values: map[metric.Name]float64{}})
		}
		return m
	}
	s := newScraper()
	s.limit, s.silentLimit, s.budget = 500*time.Millisecond, 100*time.Millisecond, 800*time.Millisecond
	for round := range 2 {
		ctx, stop := context.WithTimeout(context.Background(), sampleLimit)
		silent, good := group("silent", 65), group("good", 65)
		begun := time.Now()
		s.all(ctx, []*measured{silent, good})
		took := time.Since(begun)
		stop()
		for _, o := range good.of {
			if o.values["scrape:waiting"] != 3 {
				t.Errorf("round %d: %s has %v", round, o.id, o.values)
			}
		}
		if took > sampleLimit || len(s.silent) < 32 {
			t.Errorf("round %d took %s, and %d are silent", round, took, len(s.silent))
		}
	}
}
