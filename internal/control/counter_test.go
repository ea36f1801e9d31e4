package control

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
	"unitas/internal/store"
)

// taker is a balancer that takes what it is told when the test lets it.
type taker struct {
	mu     sync.Mutex
	pools  []balancer.Pool // that it took, in order
	shut   []string
	refuse int           // how many it refuses first
	hold   chan struct{} // when set, it takes nothing before it is closed
}

func (t *taker) Sync(ctx context.Context, p balancer.Pool) error {
	t.mu.Lock()
	hold := t.hold
	t.mu.Unlock()
	if hold != nil {
		select {
		case <-hold:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.refuse > 0 {
		t.refuse--
		return errors.New("not now")
	}
	t.pools = append(t.pools, p)
	return nil
}

func (t *taker) Shut(_, instance string, _ int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.shut = append(t.shut, instance)
}
func (*taker) Listen([]balancer.Listener)                               {}
func (*taker) Listening() []balancer.ListenerStats                      { return nil }
func (*taker) AccessLog(string, int) ([]json.RawMessage, string, error) { return nil, "", nil }
func (*taker) Try(string, balancer.Trial) (balancer.Trace, bool)        { return balancer.Trace{}, false }
func (*taker) Remove(string)                                            {}
func (*taker) InFlight(string) (int, bool)                              { return 0, true }
func (*taker) Untaken(string) int64                                     { return 0 }
func (*taker) Answered(string) (int64, int64)                           { return 0, 0 }
func (*taker) Passed(string) (balancer.Passed, bool)                    { return balancer.Passed{}, false }

func (*taker) Slower(string, time.Duration) (int64, int64) { return 0, 0 }
func (*taker) Stats(string) (balancer.Stats, bool)         { return balancer.Stats{}, false }
func (*taker) Watch(func(string))                          {}
func (*taker) WatchAside(func(string, int, string))        {}
func (*taker) Close()                                      {}

// newest is the pool as it was taken last.
func (t *taker) newest() balancer.Pool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.pools) == 0 {
		return balancer.Pool{}
	}
	return t.pools[len(t.pools)-1]
}

// open are the instances that the balancer sends requests to, by its newest pool.
func (t *taker) open() (all []string) {
	for _, target := range t.newest().Targets {
		if target.Open {
			all = append(all, target.Instance)
		}
	}
	return all
}

func newCounter(t *testing.T, b *taker, p store.Pool) (*desk, func(what string, so func() bool)) {
	t.Helper()
	d := newDesk(b, "", nil, slog.New(slog.DiscardHandler), func([]string) {})
	t.Cleanup(d.close)
	p.Name, p.Check = "front", "up"
	d.setPool(p)
	return d, func(what string, so func() bool) {
		t.Helper()
		limit, tick := time.After(20*time.Second), time.NewTicker(time.Millisecond)
		defer tick.Stop()
		for !so() {
			select {
			case <-limit:
				t.Fatalf("it never came to be that %s: %+v", what, b.newest())
			case <-tick.C:
			}
		}
	}
}

func healthy(ids ...string) targetsOf {
	of := targetsOf{size: len(ids)}
	for _, id := range ids {
		of.targets = append(of.targets, target{Target: balancer.Target{Instance: id}, healthy: []string{"up"}})
	}
	return of
}

// TestAnIllOneIsClosedAtOnce, and stays closed whatever its keeper knew before.
func TestAnIllOneIsClosedAtOnce(t *testing.T) {
	b := &taker{}
	d, eventually := newCounter(t, b, store.Pool{})
	d.set("timetable", []string{"front"}, healthy("a", "b"))
	eventually("both are open", func() bool { return len(b.open()) == 2 })
	d.shut("a", "up")
	b.mu.Lock()
	shut := slices.Clone(b.shut)
	b.mu.Unlock()
	if !slices.Equal(shut, []string{"a"}) {
		t.Errorf("closed at once are %v", shut)
	}
	d.shut("b", "another check") // which this pool does not ask
	d.set("timetable", []string{"front"}, healthy("a", "b", "c"))
	eventually("the keeper's word is taken", func() bool { return len(b.newest().Targets) == 3 })
	if open := b.open(); !slices.Equal(open, []string{"b", "c"}) {
		t.Errorf("open are %v", open)
	}
	d.fit("a", "up")
	eventually("all are open", func() bool { return len(b.open()) == 3 })
}

// TestSharesAreTold: weights of groups and instances reach the balancer.
func TestSharesAreTold(t *testing.T) {
	b := &taker{}
	d, eventually := newCounter(t, b, store.Pool{Sharing: traffic.Sharing{
		Shares: []traffic.Share{{Group: "berths", Weight: 300}, {Group: "timetable", Weight: 100}}, Weights: map[string]int{"a": 25}}})
	d.set("timetable", []string{"front"}, healthy("a", "b"))
	d.set("berths", []string{"front"}, healthy("c"))
	eventually("all are told", func() bool { return len(b.newest().Targets) == 3 })
	weight := map[string]float64{}
	for _, target := range b.newest().Targets {
		weight[target.Instance] = target.Weight
	}
	if weight["a"]*4 != weight["b"] || weight["c"] != 3*(weight["a"]+weight["b"]) {
		t.Errorf("the weights are %v", weight)
	}
}

// TestClosedIsKnownOnceItIsTaken: not before the balancer took it, in pools that the group
// left as well, and however often it refuses first.
func TestClosedIsKnownOnceItIsTaken(t *testing.T) {
	b := &taker{}
	d, eventually := newCounter(t, b, store.Pool{})
	asked := d.set("timetable", []string{"front"}, healthy("a"))
	eventually("it is taken", func() bool { return d.knows(asked) })
	hold := make(chan struct{})
	b.mu.Lock()
	b.hold, b.refuse = hold, 1
	b.mu.Unlock()
	asked = d.leave("timetable", nil)
	if len(asked) != 1 || d.knows(asked) {
		t.Errorf("that it left %v is taken for known", asked)
	}
	close(hold)
	eventually("it is taken in the end", func() bool { return d.knows(asked) })
	if left := b.newest().Targets; len(left) != 0 {
		t.Errorf("in the pool are %+v", left)
	}
}
