package builtin

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
	"unitas/internal/waittest"
)

// TestTheShorterLimitCounts: a pool's limit of bodies does not widen its listener's, nor the other
// way round.
func TestTheShorterLimitCounts(t *testing.T) {
	f := newSite(t, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, "ok")
	})
	for _, c := range []struct {
		listener, pool int64
		want           string
	}{{10, 1000, " 413 "}, {1000, 10, " 413 "}, {0, 10, " 413 "}, {10, 0, " 413 "}, {1000, 1000, " 200 "}} {
		f.listen(func(l *traffic.Listener) { l.Limits.BodyBytes = c.listener })
		f.pool.Spoken.Limits.BodyBytes = c.pool
		f.apply()
		send := "POST / HTTP/1.1\r\nHost: h\r\nConnection: close\r\nTransfer-Encoding: chunked\r\n\r\n32\r\n" + strings.Repeat("a", 50) + "\r\n0\r\n\r\n"
		if got := talk(t, f.address, send, ends("never")); !strings.Contains(got, c.want) {
			t.Errorf("of %d and %d bytes: answered %q", c.listener, c.pool, got)
		}
	}
}

// TestACookieIsOfOnePool, and leads to nobody who takes no requests or is set aside.
func TestACookieIsOfOnePool(t *testing.T) {
	f := newSite(t, say("0"), say("1"), say("2"))
	f.second(t, "fares", say("fares"))
	f.pool.Spoken.Affinity = traffic.Affinity{By: traffic.ByCookie}
	f.apply()
	p := f.pools["front"]
	name := cookieOf("front") + "="
	if p.byCookie(name+p.signed("timetable-0")) == nil {
		t.Error("its own cookie is none")
	}
	if p.byCookie(name+f.pools["fares"].signed("timetable-0")) != nil {
		t.Error("a cookie of another pool is good")
	}
	ask := func() string {
		got := talk(t, f.address, "GET / HTTP/1.1\r\nHost: h\r\nConnection: close\r\nCookie: "+name+p.signed("timetable-0")+"\r\n\r\n", ends("never"))
		return got[len(got)-1:]
	}
	for range 4 {
		if got := ask(); got != "0" {
			t.Fatalf("who stays gets %s", got)
		}
	}
	one := p.lane.Load().targets[0]
	one.until(&one.aside, time.Now(), time.Minute, "5 failures in a row")
	for range 4 {
		if got := ask(); got == "0" {
			t.Error("who stays gets one that is set aside")
		}
	}
	one.aside.Store(0)
	f.targets[0].Open = false
	f.apply()
	for range 4 {
		if got := ask(); got == "0" {
			t.Error("who stays gets one that takes no requests")
		}
	}
}

// TestAHashGoesByWeights: of a target that weighs three times as much are three times as many.
func TestAHashGoesByWeights(t *testing.T) {
	f := newSite(t, say("0"), say("1"))
	f.targets[0].Weight = 300
	f.apply()
	l := f.pools["front"].lane.Load()
	heavy := 0
	for n := range 2000 {
		if l.byHash(&choice{trial: true}, hashOf(fmt.Sprint("caller ", n))) == l.targets[0] {
			heavy++
		}
	}
	if heavy < 1400 || heavy > 1600 {
		t.Errorf("%d of 2000 are the heavier one's", heavy)
	}
}

// TestWhatIsTakenAwayKeepsNoConnections: those that rest end at once.
func TestWhatIsTakenAwayKeepsNoConnections(t *testing.T) {
	ended := make(chan bool, 1)
	address := connected(t, func(c net.Conn) {
		r := bufio.NewReader(c)
		if _, err := http.ReadRequest(r); err == nil {
			fmt.Fprint(c, fine)
		}
		_, _ = r.ReadByte()
		ended <- true
	})
	f := newSite(t, say("0"))
	f.targets = []balancer.Target{{Instance: "rests", Address: address, Open: true, Weight: 100}}
	f.apply()
	f.get(t, http.MethodGet, "")
	f.targets = nil
	begun := time.Now()
	f.apply()
	waittest.For(t, "the end of the connection", ended)
	if took := time.Since(begun); took > time.Second {
		t.Errorf("it ends after %s", took)
	}
}

// TestABodyThatNobodyWants is not asked for: a target that answers instead of saying go on gets none
// of it, and its caller is not told to send it.
func TestABodyThatNobodyWants(t *testing.T) {
	after := make(chan string, 1)
	address := connected(t, func(c net.Conn) {
		r := bufio.NewReader(c)
		for {
			line, err := r.ReadString('\n')
			if err != nil || line == "\r\n" {
				break
			}
		}
		fmt.Fprint(c, "HTTP/1.1 403 Forbidden\r\nContent-Length: 2\r\n\r\nno")
		rest, _ := io.ReadAll(r)
		after <- string(rest)
	})
	f := newSite(t)
	f.targets = []balancer.Target{{Instance: "forbids", Address: address, Open: true, Weight: 100}}
	f.apply()
	got := talk(t, f.address, "POST / HTTP/1.1\r\nHost: h\r\nExpect: 100-continue\r\nContent-Length: 4\r\n\r\nbody", ends("never"))
	if !strings.HasPrefix(got, "HTTP/1.1 403 ") {
		t.Errorf("the caller got %q", got)
	}
	if rest := waittest.For(t, "the end of the connection", after); rest != "" {
		t.Errorf("the target got %q", rest)
	}
}
