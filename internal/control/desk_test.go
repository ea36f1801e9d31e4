package control_test

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/store"
	"unitas/internal/waittest"
)

// heard is a balancer that notes when it was told that a target is closed or open.
type heard struct {
	noTraffic
	mu   sync.Mutex
	open map[string]bool
	told chan time.Time // of every change of the one that is waited for
	who  string
}

func (h *heard) Sync(_ context.Context, p balancer.Pool) error {
	now := time.Now()
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, t := range p.Targets {
		if was := h.open[t.Instance]; was != t.Open && t.Instance == h.who {
			h.told <- now
		}
		h.open[t.Instance] = t.Open
	}
	return nil
}

func (h *heard) Shut(_, instance string, _ int64) {
	now := time.Now()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.open[instance] && instance == h.who {
		h.told <- now
	}
	h.open[instance] = false
}

func (h *heard) allOpen(n int) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	open := 0
	for _, o := range h.open {
		if o {
			open++
		}
	}
	return open == n
}

// TestBalancerIsToldAtOnce: that an instance turned ill reaches the balancer
// without a wait for a decision or the database. The bench holds the median
// against its promise; here it must only be far below the gap between decisions.
func TestBalancerIsToldAtOnce(t *testing.T) {
	b := newBench(t)
	now := time.Now()
	if _, err := b.store.AddCheck(ctx, now, "ada", store.Check{Check: health.Check{Name: "berths-up", Kind: health.TCP, Port: 9, Interval: time.Hour, Timeout: time.Second, Passes: 1, Fails: 20}}); err != nil {
		t.Fatal(err)
	}
	if _, err := b.store.AddPool(ctx, now, "ada", store.Pool{Name: "front", Listeners: []store.Listener{store.NewListener("127.0.0.1:1", "", "")}, Check: "berths-up"}, anything); err != nil {
		t.Fatal(err)
	}
	h := &heard{open: map[string]bool{}, told: make(chan time.Time, 100), who: "berths-007"}
	b.balancer = h
	b.start("one")
	const size = 20
	if _, err := b.store.AddGroup(ctx, now, "ada", store.Group{Group: fleet.Group{
		Name: "berths", Settings: fleet.Settings{
			Size: size, Max: size, Template: fleet.Version{Name: "berths-api", N: 1}, Zones: []string{"east-pier", "mid-pier"}, Pools: []string{"front"}, Heal: fleet.HealMachine, HealLimit: 30, Settle: time.Minute, Drain: time.Second,
		},
	}}, false, nothing); err != nil {
		t.Fatal(err)
	}
	say := func(id string, v health.Verdict) {
		control.VerdictChanged(b.ctl, id, health.Report{Check: "berths-up", Verdict: v, Since: time.Now(), Why: "3 of 3"})
	}
	b.eventually("all settle", func() bool {
		p, err := b.ctl.Picture(ctx, "berths")
		return err == nil && len(p.Instances) == size && !slices.ContainsFunc(p.Instances, func(in store.Instance) bool { return in.State != fleet.Settling })
	})
	all, err := b.store.Instances(ctx, "berths", false, store.Page{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, in := range all {
		say(in.ID, health.Healthy)
	}
	b.eventually("all serve", func() bool { return h.allOpen(size) })
	for len(h.told) > 0 {
		waittest.For(t, "the word to the balancer", h.told)
	}
	var took []time.Duration
	for n := range 40 {
		v := health.Unhealthy
		if n%2 == 1 {
			v = health.Healthy
		}
		begun := time.Now()
		say(h.who, v)
		at := waittest.For(t, "the word to the balancer", h.told)
		if v == health.Unhealthy { // that it is well again is a decision's to take
			took = append(took, at.Sub(begun))
		}
	}
	slices.Sort(took)
	t.Logf("verdict to balancer: median %.3f ms, slowest %.3f ms", took[len(took)/2].Seconds()*1000, took[len(took)-1].Seconds()*1000)
	if median := took[len(took)/2]; median > 50*time.Millisecond {
		t.Errorf("the balancer was told after %s", median)
	}
}
