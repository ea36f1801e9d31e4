package probe

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"testing"
	"time"

	"unitas/internal/fleet/health"
	"unitas/internal/waittest"
)

// TestAForgottenOneCountsNoMore: an answer that comes after its instance was forgotten is
// no verdict, and it is not asked again.
func TestAForgottenOneCountsNoMore(t *testing.T) {
	entered, release := make(chan bool, 10), make(chan bool)
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		entered <- true
		<-release
	}))
	defer server.Close()
	host, check := checkOf(t, server.URL, health.HTTP)
	check.Interval, check.Timeout, check.Passes, check.Fails = 20*time.Millisecond, 10*time.Second, 1, 1
	changed := make(chan string, 10)
	p := New(func(instance string, _ health.Report) { changed <- instance })
	defer p.Close()
	p.Watch("timetable-001", host, check, health.Report{})
	waittest.For(t, "the request", entered)
	p.Forget("timetable-001")
	close(release)
	p.Watch("timetable-002", host, check, health.Report{}) // whose verdict shows that time went by
	select {
	case who := <-changed:
		if who != "timetable-002" {
			t.Errorf("the verdict about %s counts", who)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("nobody is asked any more")
	}
	if _, asked := p.Standing("timetable-001", check.Name); asked {
		t.Error("it stands for something still")
	}
}

// TestTheyAreAskedByTheirIntervals: each again and again, the quick ones more often, and
// one that hangs holds nobody up.
func TestTheyAreAskedByTheirIntervals(t *testing.T) {
	hang := make(chan bool)
	var mu sync.Mutex
	asked := map[string]int{}
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked[r.URL.Path]++
		mu.Unlock()
		if r.URL.Path == "/hangs" {
			<-hang
		}
	}))
	defer server.Close()
	host, check := checkOf(t, server.URL, health.HTTP)
	p := New(func(string, health.Report) {})
	defer p.Close()
	defer close(hang)
	for path, interval := range map[string]time.Duration{"/quick": 20 * time.Millisecond, "/slow": 400 * time.Millisecond, "/hangs": 20 * time.Millisecond} {
		one := check
		one.Name, one.Path, one.Interval, one.Timeout, one.Passes, one.Fails = path[1:], path, interval, 10*time.Second, 1, 3
		p.Watch("timetable-001", host, one, health.Report{})
	}
	limit := time.After(30 * time.Second)
	for {
		mu.Lock()
		quick, slow, hangs := asked["/quick"], asked["/slow"], asked["/hangs"]
		mu.Unlock()
		if quick >= 60 {
			if slow < 2 || slow*5 > quick || hangs != 1 {
				t.Errorf("the quick one was asked %d times, the slow one %d, the one that hangs %d", quick, slow, hangs)
			}
			return
		}
		select {
		case <-limit:
			t.Fatalf("the quick one was asked %d times", quick)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// TestThoseLaunchedTogetherAreAskedApart: after the first time, at which all are asked at
// once.
func TestThoseLaunchedTogetherAreAskedApart(t *testing.T) {
	var mu sync.Mutex
	asked := map[string][]time.Time{}
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		asked[r.URL.Path] = append(asked[r.URL.Path], time.Now())
	}))
	defer server.Close()
	host, check := checkOf(t, server.URL, health.HTTP)
	p := New(func(string, health.Report) {})
	defer p.Close()
	const many, interval = 30, time.Second
	for n := range many {
		one := check
		one.Name, one.Path, one.Interval, one.Timeout = fmt.Sprint("up-", n), fmt.Sprint("/", n), interval, 10*time.Second
		p.Watch("timetable-001", host, one, health.Report{})
	}
	limit := time.After(30 * time.Second)
	for {
		mu.Lock()
		var gaps []time.Duration
		for _, at := range asked {
			if len(at) > 1 {
				gaps = append(gaps, at[1].Sub(at[0]))
			}
		}
		mu.Unlock()
		if len(gaps) == many {
			if spread := slices.Max(gaps) - slices.Min(gaps); spread < interval/4 || slices.Min(gaps) < interval/3 {
				t.Errorf("they were asked again after %s to %s", slices.Min(gaps), slices.Max(gaps))
			}
			return
		}
		select {
		case <-limit:
			t.Fatalf("%d of %d were asked again", len(gaps), many)
		case <-time.After(5 * time.Millisecond):
		}
	}
}
