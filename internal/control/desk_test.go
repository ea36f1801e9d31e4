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
	}}, nothing); err != nil {
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

// judging is a balancer that sets targets aside when it is told to.
type judging struct {
	noTraffic
	mu    sync.Mutex
	aside func(instance string, nth int, why string)
}

func (j *judging) WatchAside(aside func(string, int, string)) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.aside = aside
}

// TestWhoHealsByTraffic: what a pool sets aside for the third time in a row is ill for a group
// that heals by that, and for no other.
func TestWhoHealsByTraffic(t *testing.T) {
	b := newBench(t)
	j := &judging{}
	b.balancer = j
	b.pooled(3)
	b.start("one")
	all := b.well(3)
	victim := all[0].ID
	j.aside(victim, 3, "5 failures in a row")
	b.stays("as it was while the group heals by machines", func() bool { return len(b.journal("verdict.unhealthy")) == 0 })
	if err := b.store.ChangeGroup(ctx, time.Now(), "ada", "berths", store.AnyRevision, func(_ store.Reader, g *store.Group) (fleet.Entry, error) {
		g.Heal, g.HealLimit = fleet.HealTraffic, 50
		return fleet.Entry{Kind: "group.changed", Cause: fleet.Asked("")}, nil
	}); err != nil {
		t.Fatal(err)
	}
	b.eventually("it heals by traffic", func() bool { return len(b.journal("group.changed")) == 1 })
	j.aside(victim, 2, "5 failures in a row")
	b.stays("as it was the second time", func() bool { return len(b.journal("verdict.unhealthy")) == 0 })
	j.aside(victim, 3, "5 failures in a row")
	b.eventually("it is ill", func() bool { return len(b.journal("verdict.unhealthy")) == 1 })
	j.aside(victim, 0, "")
	b.eventually("it is well again, or being replaced", func() bool {
		return len(b.journal("verdict.healthy")) > 3 || len(b.journal("instance.ordered")) > 3
	})
}
