package control_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/store"
)

// TestALeaseIsShortAndKnown: it lasts for seconds, the driver knows of it, and it is given
// up when the service ends.
func TestALeaseIsShortAndKnown(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(1)
	b.whole(1)
	all, err := b.store.Replicas(ctx)
	if err != nil || len(all) != 1 {
		t.Fatalf("the replicas are %+v (%v)", all, err)
	}
	if left := time.Until(all[0].Until); left > 10*time.Second {
		t.Errorf("its lease lasts for %s", left)
	}
	g, err := b.store.Group(ctx, "berths")
	if err != nil {
		t.Fatal(err)
	}
	b.yard.mu.Lock()
	fence := b.yard.fences["berths"]
	b.yard.mu.Unlock()
	if fence != g.Epoch || fence == 0 {
		t.Errorf("the driver knows of the lease %d, and it is %d", fence, g.Epoch)
	}
	b.stop()
	if all, err := b.store.Replicas(ctx); err != nil || len(all) != 0 {
		t.Errorf("after its end the replicas are %+v (%v)", all, err)
	}
	if _, err := b.store.Renew(ctx, store.Replica{ID: "two"}, time.Minute); err != nil {
		t.Fatal(err)
	}
	if names, err := b.store.Lease(ctx, "two", false); err != nil || len(names) != 1 {
		t.Errorf("another leases %v (%v)", names, err)
	}
}

// TestLaunchesAtOnceAreBounded, in each zone.
func TestLaunchesAtOnceAreBounded(t *testing.T) {
	b := newBench(t)
	b.yard.stall = make(chan struct{})
	letGo := sync.OnceFunc(func() {
		b.yard.mu.Lock()
		defer b.yard.mu.Unlock()
		close(b.yard.stall)
		b.yard.stall = nil
	})
	t.Cleanup(letGo)
	b.start("one")
	for n := range 3 {
		if _, err := b.store.AddGroup(ctx, time.Now(), "ada", store.Group{Group: fleet.Group{Name: fmt.Sprint("berths-", n), Settings: fleet.Settings{
			Size: 20, Max: 20, Template: fleet.Version{Name: "berths-api", N: 1}, Zones: []string{"east-pier", "mid-pier"}, Heal: fleet.HealMachine, Settle: time.Minute, Drain: time.Second,
		}}}, nothing); err != nil {
			t.Fatal(err)
		}
	}
	under := func(east, mid int) func() bool {
		return func() bool {
			b.yard.mu.Lock()
			defer b.yard.mu.Unlock()
			return b.yard.under["east-pier"] == east && b.yard.under["mid-pier"] == mid
		}
	}
	b.eventually("sixteen of each zone are launched at once", under(16, 16))
	b.stays("sixteen", under(16, 16))
	letGo()
	b.eventually("all run", func() bool { return b.yard.count() == 60 })
}
