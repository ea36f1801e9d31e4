package builtin

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
)

// Who is to blame for what did not go well: nobody but who did it.

// blamed are the targets that something is put down to.
func (f *site) blamed() (all []string) {
	s, _ := f.Stats("front")
	for _, one := range s.Targets {
		if one.Failures > 0 || !one.Aside.IsZero() || one.Retried > 0 {
			all = append(all, fmt.Sprintf("%s: %d failures, aside for %q, retried %d", one.Instance, one.Failures, one.AsideWhy, one.Retried))
		}
	}
	return all
}

// TestWhatACallerDoesWrong is the caller's: 400, whatever the targets speak, and nobody else is
// blamed.
func TestWhatACallerDoesWrong(t *testing.T) {
	read := func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, "ok")
	}
	for _, speak := range []traffic.TargetProtocol{traffic.Plain, traffic.HTTP2} {
		f := newSite(t)
		for i := range 2 {
			address := newH2Server(t, read)
			if speak == traffic.Plain {
				address = strings.TrimPrefix(newServer(t, read).URL, "http://")
			}
			f.targets = append(f.targets, balancer.Target{Instance: fmt.Sprint("timetable-", i), Address: address, Open: true, Weight: 100})
		}
		f.pool.Spoken.Protocol = speak
		f.apply()
		const post = "POST / HTTP/1.1\r\nHost: h\r\n"
		for name, send := range map[string]string{
			"a chunk that is none":             post + "Transfer-Encoding: chunked\r\n\r\n4\r\nhalf\r\nzz\r\n",
			"a chunk without an end":           post + "Transfer-Encoding: chunked\r\n\r\n4\r\nhalfway\r\n0\r\n\r\n",
			"a trailer that cannot be":         post + "Transfer-Encoding: chunked\r\nTrailer: X-A\r\n\r\n4\r\nhalf\r\n0\r\nX-A: a\x01b\r\n\r\n",
			"a trailer whose name has a space": post + "Transfer-Encoding: chunked\r\n\r\n4\r\nhalf\r\n0\r\nX A: a\r\n\r\n",
			"a trailer of a name that is none": post + "Transfer-Encoding: chunked\r\nTrailer: foo bar\r\n\r\n4\r\nhalf\r\n0\r\n\r\n",
		} {
			for range 8 {
				if got := talk(t, f.address, send, ends("never")); !strings.HasPrefix(got, "HTTP/1.1 400 ") {
					t.Errorf("%s to %s: answered %.200q", name, speak, got)
					break
				}
			}
		}
		h2 := f.http2(t)
		for i := range 8 {
			stream := uint32(2*i + 1)
			_ = h2.head(stream, false, plainly("POST", "/", "content-length", "10")...)
			_ = h2.WriteData(stream, true, []byte("short"))
			if status, body := h2.answer(stream); status != "400" && !strings.HasPrefix(body, "reset: PROTOCOL") {
				t.Errorf("a body shorter than its length to %s: answered %s %q", speak, status, body)
			}
		}
		upgrade := "GET / HTTP/1.1\r\nHost: h\r\nConnection: Upgrade, close\r\nUpgrade: websocket\r\n\r\n"
		want := "HTTP/1.1 200 "
		if speak == traffic.HTTP2 {
			want = "HTTP/1.1 400 "
		}
		for range 8 {
			if got := talk(t, f.address, upgrade, ends("never")); !strings.HasPrefix(got, want) {
				t.Errorf("an upgrade to %s: answered %.200q", speak, got)
				break
			}
		}
		if all := f.blamed(); len(all) > 0 {
			t.Errorf("to %s: blamed are %v", speak, all)
		}
		if c := f.counts(t, 4); c["ok"] != 4 {
			t.Errorf("to %s: afterwards it answers %v", speak, c)
		}
	}
}

// TestWhatIsWantingHere sets nobody aside: it is no target's fault when this side has no descriptor
// left, or sends what it should not.
func TestWhatIsWantingHere(t *testing.T) {
	f := newSite(t, say("ok"), say("ok"))
	for _, one := range f.pools["front"].lane.Load().targets {
		broken := &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) {
			return nil, &net.OpError{Op: "dial", Net: "tcp", Err: fmt.Errorf("no more: %w", syscall.EMFILE)}
		}}
		one.upstream.Store(&upstream{other: broken, scheme: "http", wire: one.upstream.Load().wire})
	}
	for range 3 {
		if status, body := f.get(t, http.MethodGet, ""); status != http.StatusBadGateway || body != "The service cannot reach a target. (pool front)\n" {
			t.Errorf("answered %d %q", status, body)
		}
	}
	if all := f.blamed(); len(all) > 0 {
		t.Errorf("blamed are %v", all)
	}
	if s, _ := f.Stats("front"); s.Requests != 3 || s.Failures != 3 {
		t.Errorf("the pool tells of %d requests, %d of them failed", s.Requests, s.Failures)
	}
}

// breaksOff answers the head and a part, and resets.
func breaksOff(t *testing.T) string {
	return connected(t, func(c net.Conn) {
		r := bufio.NewReader(c)
		for {
			if _, err := http.ReadRequest(r); err != nil {
				return
			}
			fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf")
			c.Close()
		}
	})
}

// TestAnswersThatBreakOff are failures of their target: gates see them, and they set it aside.
func TestAnswersThatBreakOff(t *testing.T) {
	f := newSite(t, say("0"))
	f.targets = append(f.targets, balancer.Target{Instance: "breaks", Address: breaksOff(t), Open: true, Weight: 100, Version: "timetable-web@2"})
	f.apply()
	broken := 0
	for range 20 {
		res, err := http.Get(f.url)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.ReadAll(res.Body); err != nil {
			broken++
		}
		res.Body.Close()
	}
	n, failed := f.Answered("breaks")
	if broken != 10 || n != 10 || failed != 10 {
		t.Errorf("%d broke off; of %d answers %d are told to have failed", broken, n, failed)
	}
	s, _ := f.Stats("front")
	if s.Requests != 20 || s.Failures != 10 || s.Versions[1].Windows[0].Status != [6]int64{10} {
		t.Errorf("the pool tells of %d requests, %d failed; the version of %v", s.Requests, s.Failures, s.Versions[1].Windows[0].Status)
	}
	f.pool.Spoken.Eject = traffic.UsualEject
	f.apply()
	f.pools["front"].judge(time.Now())
	if s, _ := f.Stats("front"); s.Targets[0].Instance != "breaks" || s.Targets[0].AsideWhy != "10 failures in a row" {
		t.Errorf("it tells %+v", s.Targets[0])
	}
}

// TestAttemptsCountWhereTheyWere: a request that another target answered in the end is a failure of
// the first one, and one request of the pool.
func TestAttemptsCountWhereTheyWere(t *testing.T) {
	f := newSite(t, say("0"))
	f.targets = append(f.targets, balancer.Target{Instance: "resets", Address: breaking(t, 10), Open: true, Weight: 100})
	f.apply()
	target := f.pools["front"].lane.Load().targets[1]
	for range 10 {
		target.refused.Store(0)
		if status, _ := f.get(t, http.MethodGet, ""); status != http.StatusOK {
			t.Fatalf("answered %d", status)
		}
	}
	n, failed := f.Answered("resets")
	s, _ := f.Stats("front")
	if n != failed || n < 4 || s.Requests != 10 || s.Failures != 0 || s.Targets[0].Retried != n {
		t.Errorf("of %d at the target %d failed; the pool tells of %d requests, %d failed", n, failed, s.Requests, s.Failures)
	}
}

// TestABodyThatEndsInTheMiddleOfItsAnswer is the caller's doing, though the target's answer breaks off.
func TestABodyThatEndsInTheMiddleOfItsAnswer(t *testing.T) {
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		_ = http.NewResponseController(w).EnableFullDuplex()
		fmt.Fprint(w, "begun")
		_ = http.NewResponseController(w).Flush()
		if _, err := io.Copy(io.Discard, r.Body); err != nil {
			panic(http.ErrAbortHandler)
		}
	})
	f.servers[0].Config.ErrorLog = log.New(io.Discard, "", 0)
	f.listen(func(l *traffic.Listener) { l.Limits.Idle = 100 * time.Millisecond })
	const post = "POST / HTTP/1.1\r\nHost: h\r\nTransfer-Encoding: chunked\r\n\r\n4\r\nhalf\r\n"
	for name, send := range map[string]string{"a chunk that is none": post + "zz\r\n", "one that does not come": post} {
		got := talk(t, f.address, send, ends("never"))
		if !strings.Contains(got, "begun") && !strings.HasPrefix(got, "HTTP/1.1 400 ") || strings.HasSuffix(got, "0\r\n\r\n") {
			t.Errorf("%s: the caller got %q", name, got)
		}
	}
	if all := f.blamed(); len(all) > 0 {
		t.Errorf("blamed are %v", all)
	}
}

// TestAnAnswerForHours is counted while it goes on, and once more when it breaks off.
func TestAnAnswerForHours(t *testing.T) {
	f := newSite(t, say("0"))
	p := f.pools["front"]
	a := &attempt{x: &exchange{pool: p, path: "/"}, t: p.lane.Load().targets[0]}
	a.count(http.StatusOK, true) // so far
	a.account(fate{status: http.StatusOK}, true)
	if n, failed := f.Answered("timetable-0"); n != 1 || failed != 0 {
		t.Errorf("one that ended well counts as %d, %d failed", n, failed)
	}
	b := &attempt{x: &exchange{pool: p, path: "/"}, t: p.lane.Load().targets[0]}
	b.count(http.StatusOK, true)
	b.account(fate{by: theTarget}, true)
	if n, failed := f.Answered("timetable-0"); n != 3 || failed != 1 {
		t.Errorf("one that broke off counts so that there are %d, %d failed", n, failed)
	}
	if s, _ := f.Stats("front"); s.Requests != 2 || s.Failures != 1 {
		t.Errorf("of the pool it is %d requests, %d failed", s.Requests, s.Failures)
	}
}

// TestAllOfTheNearestAreSetAside: the next region has the requests.
func TestAllOfTheNearestAreSetAside(t *testing.T) {
	f := newSite(t, say("harbour"), say("harbour"), say("headland"), say("headland"))
	f.regions(t)
	for i := range f.targets {
		f.targets[i].Region = []string{"harbour", "harbour", "headland", "headland"}[i]
	}
	f.apply()
	f.listen(func(l *traffic.Listener) {
		l.RegionOrder, l.Regions, l.Enough = traffic.InOrder, []string{"harbour", "headland"}, 50
	})
	if c := f.counts(t, 4); c["harbour"] != 4 {
		t.Fatalf("the requests went %v", c)
	}
	for _, one := range f.pools["front"].lane.Load().targets[:2] {
		one.until(&one.aside, time.Now(), time.Minute, "5 failures in a row")
	}
	if c := f.counts(t, 4); c["headland"] != 4 { // by who is chosen, before anybody looks again
		t.Errorf("with all of the nearest set aside the requests went %v", c)
	}
	<-time.After(lookNear + 10*time.Millisecond)
	if c, s := f.counts(t, 4), f.Listening()[0]; c["headland"] != 4 || s.Spill == "" {
		t.Errorf("with all of the nearest set aside the requests went %v, and it tells %q", c, s.Spill)
	}
}

// TestACookieForOneThatIsDead: who stays at a target that was just tried in vain goes elsewhere.
func TestACookieForOneThatIsDead(t *testing.T) {
	f := newSite(t, say("0"), say("1"))
	f.pool.Spoken.Affinity = traffic.Affinity{By: traffic.ByCookie}
	f.apply()
	f.servers[0].Close()
	for _, one := range f.pools["front"].lane.Load().targets {
		one.refused.Store(0)
	}
	f.targets[1].Open = true
	cookie := cookieOf("front") + "=" + f.pools["front"].signed("timetable-0")
	// So many are set aside already that it is not.
	f.pools["front"].lane.Load().targets[1].until(&f.pools["front"].lane.Load().targets[1].aside, time.Now(), time.Minute, "")
	got := talk(t, f.address, "GET / HTTP/1.1\r\nHost: h\r\nConnection: close\r\nCookie: "+cookie+"\r\n\r\n", ends("never"))
	if !strings.Contains(got, "200 OK") || !strings.HasSuffix(got, "1") || !strings.Contains(got, "Set-Cookie: ") {
		t.Errorf("answered %q", got)
	}
}

// TestRefusalsGiveWay: what is set aside for refusing takes no place from what answers badly.
func TestRefusalsGiveWay(t *testing.T) {
	bad := func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) }
	f := newSite(t, say("ok"), bad, say("ok"), say("ok"))
	f.pool.Spoken.Eject = traffic.UsualEject
	f.apply()
	p := f.pools["front"]
	targets := p.lane.Load().targets
	p.judge(time.Now())
	f.counts(t, 40)
	for _, one := range targets[2:] {
		p.setAside(one, time.Now(), "no connection")
	}
	if !targets[2].isAside(time.Now()) || !targets[3].isAside(time.Now()) {
		t.Fatal("those that refuse are not set aside")
	}
	p.judge(time.Now())
	now := time.Now()
	if !targets[1].isEjected(now) {
		t.Error("the one that answers badly gets no place")
	}
	aside := 0
	for _, one := range targets {
		if one.isAside(now) {
			aside++
		}
	}
	if aside != 2 {
		t.Errorf("%d of 4 are set aside", aside)
	}
}

// TestAnEjectionIsNotEndedByAnAnswer, and begins with a clean sheet.
func TestAnEjectionIsNotEndedByAnAnswer(t *testing.T) {
	bad := func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) }
	f := newSite(t, say("ok"), bad)
	f.pool.Spoken.Eject = traffic.UsualEject
	f.apply()
	p := f.pools["front"]
	one := p.lane.Load().targets[1]
	p.judge(time.Now())
	f.counts(t, 40)
	p.setAside(one, time.Now(), "no connection")
	p.judge(time.Now())
	if n, _, _ := one.conduct.read(time.Now()); n != 0 || one.inARow.Load() != 0 {
		t.Errorf("as it is set aside %d answers and %d failures are held against it", n, one.inARow.Load())
	}
	one.answered() // what was under way
	if !one.isEjected(time.Now()) || one.refused.Load() != 0 {
		t.Error("an answer ended it")
	}
	one.aside.Store(nanos(time.Now().Add(-time.Millisecond)))
	p.judge(time.Now())
	if one.isEjected(time.Now()) {
		t.Error("it is set aside again for what was before")
	}
}

// TestTheFastestFailer is not the least busy for failing at once.
func TestTheFastestFailer(t *testing.T) {
	t.Parallel() // it mostly waits
	slow := func(w http.ResponseWriter, _ *http.Request) {
		<-time.After(10 * time.Millisecond)
		fmt.Fprint(w, "ok")
	}
	bad := func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) }
	f := newSite(t, bad, slow, slow, slow)
	f.pool.LeastBusy = true
	f.apply()
	done := make(chan bool)
	for range 8 {
		go func() {
			for range 60 {
				f.get(t, http.MethodGet, "")
			}
			done <- true
		}()
	}
	for range 8 {
		<-done
	}
	if n, failed := f.Answered("timetable-0"); failed > 60 || n == 0 {
		t.Errorf("of 480 requests %d went to the one that fails", n)
	}
}
