package builtin

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// TestRequestOfDeath: a request that ends every workload it reaches reaches two, and
// the pool goes on taking requests. The first attempt goes over connections that were
// used before, where the transport tries a second time by itself.
func TestRequestOfDeath(t *testing.T) {
	var deaths atomic.Int64
	deadly := func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/death" {
			deaths.Add(1)
			panic(http.ErrAbortHandler)
		}
		fmt.Fprint(w, "well")
	}
	f := newSite(t, deadly, deadly, deadly, deadly, deadly, deadly)
	f.counts(t, 12)
	res, err := http.Get(f.url + "/death")
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	hit := 0
	s, _ := f.Stats("front")
	for _, target := range s.Targets {
		if target.Failures > 0 || target.Retried > 0 {
			hit++
		}
	}
	if res.StatusCode != http.StatusBadGateway || hit != 2 {
		t.Errorf("the answer is %d, and %d targets had the request (%d times)", res.StatusCode, hit, deaths.Load())
	}
	if c := f.counts(t, 12); c["well"] != 12 {
		t.Errorf("afterwards the answers are %v", c)
	}
}

// TestRetriesAreATenth: with every target hanging up, the pool sends few requests twice.
func TestRetriesAreATenth(t *testing.T) {
	var reached atomic.Int64
	hangUp := func(http.ResponseWriter, *http.Request) {
		reached.Add(1)
		panic(http.ErrAbortHandler)
	}
	f := newSite(t, hangUp, hangUp, hangUp)
	const sent = 200
	c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	for range sent {
		res, err := c.Get(f.url)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
	}
	if again := reached.Load() - sent; again < 10 || again > 10+sent/10 {
		t.Errorf("of %d requests %d were sent again, more than a tenth and the ten in hand", sent, again)
	}
}

// TestHalfIsNeverSetAside: whatever they refuse, half of the targets stay.
func TestHalfIsNeverSetAside(t *testing.T) {
	for n, most := range map[int]int{1: 0, 2: 1, 3: 1, 5: 2} {
		handlers := make([]http.HandlerFunc, n)
		for i := range handlers {
			handlers[i] = say("up")
		}
		f := newSite(t, handlers...)
		p := f.Balancer.pools["front"]
		for range 3 {
			for _, target := range p.lane.Load().targets {
				p.setAside(target, time.Now(), "no connection")
			}
		}
		aside := 0
		s, _ := f.Stats("front")
		for _, target := range s.Targets {
			if !target.Aside.IsZero() {
				aside++
			}
		}
		if aside != most {
			t.Errorf("of %d targets %d are set aside, want %d", n, aside, most)
		}
	}
}

// TestWhatComesInGoesOut holds what a target gets against what a client sent.
func TestWhatComesInGoesOut(t *testing.T) {
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "query %s body %s trailer %s", r.URL.RawQuery, body, r.Trailer.Get("Checksum"))
	})
	req, _ := http.NewRequest(http.MethodPost, f.url+"/sailings?a=%2F;b=1&c", io.MultiReader(strings.NewReader("two adults")))
	req.Trailer = http.Header{"Checksum": []string{"7f"}}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(res.Body)
	if want := "query a=%2F;b=1&c body two adults trailer 7f"; string(raw) != want {
		t.Errorf("the target got %q, want %q", raw, want)
	}
}

// TestContinueOnce reads the very bytes that a client gets that asks before it sends
// its body: one "100 Continue" when the target wants it, also late, and none when it
// does not.
func TestContinueOnce(t *testing.T) {
	answer := func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/full":
			w.WriteHeader(http.StatusConflict)
			return
		case "/late":
			<-time.After(100 * time.Millisecond)
		}
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "got %s", body)
	}
	for _, c := range []struct {
		path, want string
		patience   time.Duration // with the target's word
	}{
		{"/", "100 200", 10 * time.Second}, {"/full", "409", 10 * time.Second}, {"/late", "100 200", 20 * time.Millisecond},
	} {
		f := newSite(t, answer)
		p := f.Balancer.pools["front"]
		if p.patience == 0 {
			t.Error("a target's word is not waited for")
		}
		p.patience = c.patience
		f.apply()
		conn, err := net.Dial("tcp", f.address)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
		fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: front\r\nContent-Length: 3\r\nExpect: 100-continue\r\nConnection: close\r\n\r\n", c.path)
		var got []string
		for r := bufio.NewScanner(conn); r.Scan(); {
			if status, ok := strings.CutPrefix(r.Text(), "HTTP/1.1 "); ok {
				got = append(got, status[:3])
				if status[:3] == "100" && len(got) == 1 {
					fmt.Fprint(conn, "two")
				}
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("for %s the client got %v, want %s", c.path, got, c.want)
		}
	}
}

// TestUnknownTargetsAreWaitedFor: a request that comes before the targets are known
// is answered once they are; with targets known to be none it is refused at once.
func TestUnknownTargetsAreWaitedFor(t *testing.T) {
	f := newSite(t, say("up"))
	all := f.targets
	f.targets, f.pool.Known = nil, false
	f.apply()
	answer := make(chan string, 1)
	go func() {
		_, body := f.get(t, http.MethodGet, "")
		answer <- body
	}()
	select {
	case got := <-answer:
		t.Fatalf("it was answered %q before anything is known", got)
	case <-time.After(50 * time.Millisecond):
	}
	f.targets, f.pool.Known = all, true
	f.apply()
	if got := <-answer; got != "up" {
		t.Errorf("it was answered %q", got)
	}
	f.targets = nil
	f.apply()
	begun := time.Now()
	if status, _ := f.get(t, http.MethodGet, ""); status != http.StatusServiceUnavailable || time.Since(begun) > knownWithin/2 {
		t.Errorf("with no targets at all the answer is %d after %s", status, time.Since(begun))
	}
}

// TestShut: closed at once, without all targets being told anew, until they are.
func TestShut(t *testing.T) {
	f := newSite(t, say("0"), say("1"))
	now := f.pool.As + 1
	f.Shut("front", "timetable-0", now)
	f.Shut("front", "timetable-9", now)
	f.Shut("back", "timetable-0", now)
	if err := f.Sync(context.Background(), f.pool); err != nil { // as it was before
		t.Fatal(err)
	}
	if c := f.counts(t, 6); c["1"] != 6 {
		t.Errorf("the requests went %v", c)
	}
	f.apply()
	if c := f.counts(t, 6); c["0"] != 3 {
		t.Errorf("the requests went %v", c)
	}
}
