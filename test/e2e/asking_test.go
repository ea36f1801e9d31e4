package e2e

import (
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
)

// traffic asks through the listener all the time.
type traffic struct {
	stop         func()
	sent, failed atomic.Int64
	first        atomic.Pointer[string]
	lowest       atomic.Int64
}

func (s *service) traffic() *traffic { return s.trafficBy(&http.Transport{}) }

func (s *service) trafficBy(transport *http.Transport) *traffic {
	return s.trafficTo(s.front, 5*time.Millisecond, transport)
}

// askers is how many ask at once; each has one request in flight.
const askers = 3

// trafficTo has each of those ask at an address from time to time.
func (s *service) trafficTo(address string, every time.Duration, transport *http.Transport) *traffic {
	tr := &traffic{}
	tr.lowest.Store(1 << 30)
	done := make(chan struct{})
	var all sync.WaitGroup
	for range askers {
		all.Go(func() {
			c := &http.Client{Timeout: 20 * time.Second, Transport: transport.Clone()}
			defer c.CloseIdleConnections()
			tick := time.NewTicker(every)
			defer tick.Stop()
			for {
				select {
				case <-done:
					return
				case <-tick.C:
				}
				tr.ask(c, "http://"+address+"/")
			}
		})
	}
	all.Go(func() {
		tick := time.NewTicker(30 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
			}
			if g, _, err := client.Read[contract.Group](s.api.GetGroup(ctx, "timetable")); err == nil {
				tr.lowest.Store(min(tr.lowest.Load(), int64(g.Summary.Serving)))
			}
		}
	})
	var once sync.Once
	tr.stop = func() { once.Do(func() { close(done); all.Wait() }) }
	s.t.Cleanup(tr.stop)
	return tr
}

// ask asks once.
func (tr *traffic) ask(c *http.Client, url string) {
	res, err := c.Get(url)
	tr.sent.Add(1)
	failure := ""
	if err != nil {
		failure = err.Error()
	} else {
		raw, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != http.StatusOK {
			failure = res.Status + " " + string(raw)
		}
	}
	if failure != "" {
		failure = time.Now().Format("15:04:05.000 ") + failure
		tr.failed.Add(1)
		tr.first.CompareAndSwap(nil, &failure)
	}
}

func (tr *traffic) mustBeWhole(t testing.TB) {
	t.Helper()
	tr.stop()
	if n := tr.failed.Load(); n > 0 {
		t.Errorf("%d of %d requests failed, the first with: %s", n, tr.sent.Load(), *tr.first.Load())
	}
	if tr.sent.Load() == 0 {
		t.Error("no request was sent")
	}
}
