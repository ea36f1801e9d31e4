package store_test

import (
	"errors"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/store"
)

// TestOldEpochIsRefused has two replicas decide for one group: the one whose
// lease was taken over writes nothing.
func TestOldEpochIsRefused(t *testing.T) {
	s := stocked(t)
	lease := func(replica string) int64 {
		t.Helper()
		if _, err := s.Renew(ctx, store.Replica{ID: replica}, time.Minute); err != nil {
			t.Fatal(err)
		}
		names, err := s.Lease(ctx, replica, true)
		if err != nil || len(names) != 1 {
			t.Fatalf("%s leased %v: %v", replica, names, err)
		}
		g, err := s.Group(ctx, "timetable")
		if err != nil {
			t.Fatal(err)
		}
		return g.Epoch
	}
	old := lease("one")
	if names, err := s.Lease(ctx, "two", false); err != nil || len(names) != 0 {
		t.Fatalf("a live replica lost %v: %v", names, err)
	}
	if _, err := s.Renew(ctx, store.Replica{ID: "one"}, -time.Second); err != nil { // its time is up
		t.Fatal(err)
	}
	now := lease("two")
	if now <= old {
		t.Errorf("the epoch went from %d to %d", old, now)
	}
	l, err := s.Load(ctx, "timetable")
	if err != nil {
		t.Fatal(err)
	}
	c := store.Commit{Group: "timetable", Epoch: old, Generation: l.Group.Generation, Changed: []store.Instance{instance(1)},
		Entries: []fleet.Entry{{Kind: "instance.ordered", Cause: fleet.Because("x")}}}
	if err := s.Commit(ctx, noon, c); !errors.Is(err, store.ErrStale) {
		t.Errorf("the old epoch wrote: %v", err)
	}
	c.Epoch = now
	if err := s.Commit(ctx, noon, c); err != nil {
		t.Fatal(err)
	}
	if err := s.Commit(ctx, noon, c); !errors.Is(err, store.ErrStale) {
		t.Errorf("a decision on an old view was written: %v", err)
	}
	l, err = s.Load(ctx, "timetable")
	if err != nil || len(l.Instances) != 1 || l.Instances[0].Address != "127.64.0.1" || l.Group.Checks[0] != "sailings-up" {
		t.Errorf("loaded %+v: %v", l, err)
	}
}

// TestAClockThatIsSetBackKeepsNoDeadReplica: a lease that would last for hours is cut by
// whoever renews.
func TestAClockThatIsSetBackKeepsNoDeadReplica(t *testing.T) {
	s := stocked(t)
	if _, err := s.Renew(ctx, store.Replica{ID: "dead"}, time.Hour); err != nil { // before it was
		t.Fatal(err)
	}
	alive, err := s.Renew(ctx, store.Replica{ID: "one"}, time.Second)
	if err != nil || len(alive) != 2 {
		t.Fatalf("%v live on (%v)", alive, err)
	}
	all, err := s.Replicas(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range all {
		if left := time.Until(r.Until); left > time.Second {
			t.Errorf("%s lives on for %s", r.ID, left)
		}
	}
}

// TestLeasesAreShared: each of two takes its half, and gives up its own alone.
func TestLeasesAreShared(t *testing.T) {
	s := stocked(t)
	for _, name := range []string{"tickets", "freight", "berths"} {
		if _, err := s.AddGroup(ctx, noon, "ada", store.Group{Group: fleet.Group{Name: name, Settings: fleet.Settings{
			Size: 1, Max: 1, Template: fleet.Version{Name: "timetable-web", N: 1}, Zones: []string{"east-pier"}, Heal: fleet.HealOff, Settle: time.Minute}}}, nothing); err != nil {
			t.Fatal(err)
		}
	}
	for _, replica := range []string{"one", "two"} {
		if _, err := s.Renew(ctx, store.Replica{ID: replica}, time.Minute); err != nil {
			t.Fatal(err)
		}
	}
	for _, replica := range []string{"one", "two"} {
		if names, err := s.Lease(ctx, replica, false); err != nil || len(names) != 2 {
			t.Errorf("%s leased %v of four groups (%v)", replica, names, err)
		}
	}
	if err := s.Release(ctx, "one"); err != nil {
		t.Fatal(err)
	}
	for replica, want := range map[string]int{"one": 0, "two": 2} {
		if has, _, err := s.Leased(ctx, replica); err != nil || len(has) != want {
			t.Errorf("after one gave up, %s has %v (%v)", replica, has, err)
		}
	}
	if names, err := s.Lease(ctx, "two", false); err != nil || len(names) != 2 {
		t.Errorf("two takes %v (%v)", names, err)
	}
}
