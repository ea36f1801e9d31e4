package builtin

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

// breaking takes requests over a bare connection, reads so many bytes of each and resets.
func breaking(t *testing.T, bytes int) string {
	t.Helper()
	return connected(t, func(c net.Conn) {
		_, _ = io.ReadFull(c, make([]byte, bytes))
		_ = c.(*net.TCPConn).SetLinger(0)
	})
}

// TestAUsedBodyGoesNowhereElse: of a request that may be repeated a part of the body was
// taken by a target that broke; the rest alone is no request.
func TestAUsedBodyGoesNowhereElse(t *testing.T) {
	var got atomic.Int64
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		got.Add(1)
		if n, err := io.Copy(io.Discard, r.Body); n != 1<<20 || err != nil {
			t.Errorf("a target got %d bytes of a body, %v", n, err)
		}
	})
	f.targets = append([]balancer.Target{{Instance: "breaks", Address: breaking(t, 512<<10), Open: true, Weight: 100}}, f.targets...)
	f.apply()
	broken := 0
	for range 6 {
		req, err := http.NewRequest(http.MethodPut, f.url, strings.NewReader(strings.Repeat("x", 1<<20)))
		if err != nil {
			t.Fatal(err)
		}
		before := got.Load()
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != http.StatusOK {
			broken++
			if got.Load() != before {
				t.Error("the rest of a body went to another target")
			}
		}
	}
	if broken == 0 {
		t.Error("no request met the target that breaks")
	}
}

// TestAClientThatGoesAwayHurtsNobody: a target that was slow for one who left is not set
// aside.
func TestAClientThatGoesAwayHurtsNobody(t *testing.T) {
	t.Parallel() // it mostly waits
	entered, release := make(chan bool, 4), make(chan bool)
	slow := func(w http.ResponseWriter, _ *http.Request) {
		entered <- true
		<-release
	}
	f := newSite(t, slow, slow)
	ctx, leave := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		req, _ := http.NewRequestWithContext(ctx, http.MethodGet, f.url, nil)
		res, err := http.DefaultClient.Do(req)
		if err == nil {
			res.Body.Close()
		}
		done <- err
	}()
	waittest.For(t, "the request", entered)
	leave()
	if err := <-done; err == nil {
		t.Error("the client did not leave")
	}
	limit := time.After(10 * time.Second)
	for f.flying("timetable-0")+f.flying("timetable-1") > 0 {
		select {
		case <-limit:
			t.Fatal("the request is still in flight")
		case <-time.After(time.Millisecond):
		}
	}
	close(release)
	s, _ := f.Stats("front")
	for _, target := range s.Targets {
		if !target.Aside.IsZero() || target.Retried > 0 || target.Failures > 0 {
			t.Errorf("%s is set aside until %v, was passed over %d times, and failed %d", target.Instance, target.Aside, target.Retried, target.Failures)
		}
	}
}

func TestSetAsideEnds(t *testing.T) {
	now := time.Now()
	var one target
	for n, want := range []time.Duration{traffic.Refused.First, 2 * traffic.Refused.First, 4 * traffic.Refused.First} {
		one.setAside(now, "no connection")
		if !one.isAside(now.Add(want-time.Millisecond)) || one.isAside(now.Add(want+time.Millisecond)) {
			t.Errorf("the %d. time it is not set aside for %s", n+1, want)
		}
	}
	for range 20 {
		one.setAside(now, "no connection")
	}
	if one.isAside(now.Add(traffic.Refused.Max + time.Millisecond)) {
		t.Errorf("it is set aside for longer than %s", traffic.Refused.Max)
	}
	one.answered()
	if one.isAside(now) {
		t.Error("an answer does not end it")
	}
}

func TestHostIsPassedOn(t *testing.T) {
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.Host, r.Header["X-Forwarded-Host"]) })
	req, err := http.NewRequest(http.MethodGet, f.url, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Host = "saltmere.example"
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if raw, _ := io.ReadAll(res.Body); string(raw) != "saltmere.example[saltmere.example]" {
		t.Errorf("the target heard of %s", raw)
	}
}

// TestWindowsForget: what is older than a window is not in it, and percentiles are of
// those that took as long.
func TestWindowsForget(t *testing.T) {
	var w window
	at := time.Unix(1_700_000_000, 0)
	for n := range 100 {
		took := time.Millisecond
		if n >= 90 {
			took = time.Second
		}
		w.add(at, 200, took)
	}
	now := w.read(at)
	if m := now[0]; m.Requests != 100 || m.Median > 2 || m.P95 < 500 || m.P99 < 500 {
		t.Errorf("of the first minute: %+v", m)
	}
	for _, c := range []struct {
		after time.Duration
		want  [3]int64 // in 1, 5 and 15 minutes
	}{{30 * time.Second, [3]int64{100, 100, 100}}, {3 * time.Minute, [3]int64{0, 100, 100}}, {10 * time.Minute, [3]int64{0, 0, 100}}, {20 * time.Minute, [3]int64{0, 0, 0}}} {
		for k, m := range w.read(at.Add(c.after)) {
			if m.Requests != c.want[k] {
				t.Errorf("after %s the last %d minutes have %d requests, not %d", c.after, m.Minutes, m.Requests, c.want[k])
			}
		}
	}
	w.add(at.Add(20*time.Minute), 500, 2*time.Second)
	if m := w.read(at.Add(20 * time.Minute))[2]; m.Requests != 1 || m.Status[5] != 1 || m.Median < 1000 {
		t.Errorf("a slot that came round still has what it had: %+v", m)
	}
}

// TestAClosedTargetTakesNothing, whoever picked it before it was closed.
func TestAClosedTargetTakesNothing(t *testing.T) {
	idle := 0
	target := &target{instance: "timetable-001", tallies: newTallies(), idle: func(string) { idle++ }}
	(&flights{}).take(target)
	target.set(true, 1)
	if !target.take(0, false) {
		t.Fatal("an open one takes nothing")
	}
	target.set(false, 2)
	if target.take(0, false) || target.take(0, true) {
		t.Error("a closed one takes a request")
	}
	if n := target.tallies.inFlight(); n != 1 || idle != 0 {
		t.Errorf("%d are in flight, it was told idle %d times", n, idle)
	}
	target.last.Store(true) // by setting, when nobody is well
	if target.take(0, false) || !target.take(0, true) {
		t.Error("an ill one that may be tried takes nothing, or what is not a try")
	}
	target.leave(0)
	target.leave(0)
	if n := target.tallies.inFlight(); n != 0 || idle != 1 {
		t.Errorf("%d are in flight, it was told idle %d times", n, idle)
	}
}

// BenchmarkWindow tells what the traffic of a target takes of memory that answered for a
// quarter of an hour, in as many times as there are usually.
func BenchmarkWindow(b *testing.B) {
	const targets = 1000
	var before, after runtime.MemStats
	all := make([]*window, targets)
	for b.Loop() {
		runtime.GC()
		runtime.ReadMemStats(&before)
		at := time.Unix(1_700_000_000, 0)
		for i := range all {
			all[i] = &window{}
			for n := range 15 * 6 { // from 1 to 60 ms
				for k := range 6 {
					all[i].add(at.Add(time.Duration(n)*fineSlot), 200, time.Duration(1+k*k*2)*time.Millisecond)
				}
			}
		}
		runtime.GC()
		runtime.ReadMemStats(&after)
	}
	runtime.KeepAlive(all)
	b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/targets/1000, "kB/target")
}

// counted has the first target of a pool answer a request, as far as is counted.
func (f *site) counted(pool string, status int, took time.Duration) {
	p := f.pools[pool]
	a := &attempt{x: &exchange{pool: p, path: "/"}, t: p.lane.Load().targets[0], first: took}
	a.count(status, true)
}

// TestSlowerThan counts from when it is first asked, and what was answered from the first
// request on.
func TestSlowerThan(t *testing.T) {
	f := newSite(t, say("0"))
	count := func(took time.Duration) {
		f.counted("front", 200, took)
	}
	count(time.Second)
	if n, slow := f.Slower("timetable-0", 50*time.Millisecond); n != 0 || slow != 0 {
		t.Errorf("before it was asked %d answers count, %d of them slow", n, slow)
	}
	for _, ms := range []int{1, 10, 40, 70, 200, 5000} {
		count(time.Duration(ms) * time.Millisecond)
	}
	if n, slow := f.Slower("timetable-0", 50*time.Millisecond); n != 6 || slow != 3 {
		t.Errorf("%d of %d are slower than 50 ms", slow, n)
	}
	if n, slow := f.Slower("timetable-0", time.Second); n != 6 || slow != 1 {
		t.Errorf("%d of %d are slower than a second", slow, n)
	}
	status, _ := f.get(t, http.MethodGet, "")
	if n, failed := f.Answered("timetable-0"); status != 200 || n != 8 || failed != 0 {
		t.Errorf("after 8 answers it has answered %d, and %d failed", n, failed)
	}
	f.counted("front", 503, time.Millisecond)
	f.counted("front", 0, time.Millisecond)
	if n, failed := f.Answered("timetable-0"); n != 10 || failed != 2 {
		t.Errorf("with two that failed it has answered %d, and %d failed", n, failed)
	}
	if n, _ := f.Slower("timetable-9", time.Second); n != 0 {
		t.Errorf("of one that is not there %d", n)
	}
}
