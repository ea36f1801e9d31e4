package control_test

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/machine"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

var ctx = context.Background()

func TestGroupLives(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(4)
	b.whole(4)
	lost := b.serving()[0].ID
	b.yard.end(lost)
	b.eventually("the lost one is gone", func() bool { in, _ := b.store.Instance(ctx, lost); return in.State == fleet.Gone })
	b.whole(4)
	if e := b.journal("instance.lost"); len(e) != 1 || !strings.Contains(e[0].Because, "killed by signal 9") {
		t.Errorf("the journal says %+v", e)
	}
	if err := b.store.ChangeGroup(ctx, time.Now(), "ada", "berths", store.AnyRevision, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
		g.Group, e, err = g.Change(func(g *fleet.Group) { g.Size = 7 }, "")
		return e, err
	}); err != nil {
		t.Fatal(err)
	}
	b.whole(7)
}

// TestQuietGroupWritesNothing looks at the generation of a group in which
// nothing happens, through renewals of the lease and a sweep's worth of polls.
func TestQuietGroupWritesNothing(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	before, err := b.store.Group(ctx, "berths")
	if err != nil {
		t.Fatal(err)
	}
	wait := time.NewTimer(3 * time.Second) // more than one renewal
	<-wait.C
	after, err := b.store.Group(ctx, "berths")
	if err != nil || after.Generation != before.Generation || after.Epoch != before.Epoch {
		t.Errorf("the generation went from %d to %d: %v", before.Generation, after.Generation, err)
	}
}

// TestRefusedLaunchesBackOff refuses one zone its first machines.
func TestRefusedLaunchesBackOff(t *testing.T) {
	b := newBench(t)
	refusals := 3
	b.yard.refuse = func(s machine.Spec) error {
		if s.Zone == "east-pier" && refusals > 0 {
			refusals--
			return errors.New("no room on the pier")
		}
		return nil
	}
	b.start("one")
	b.group(4)
	b.whole(4)
	if e := b.journal("zone.backing-off"); len(e) == 0 || !strings.Contains(e[0].Text, "east-pier") {
		t.Errorf("the journal says %+v", e)
	}
	refused := b.journal("instance.leaving")
	if len(refused) == 0 || !strings.Contains(refused[0].Because, "no room on the pier") {
		t.Errorf("the journal says %+v", refused)
	}
}

// TestStopIsTriedAgain has the driver fail to stop a machine at first.
func TestStopIsTriedAgain(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	b.yard.mu.Lock()
	b.yard.failStop = 2
	b.yard.mu.Unlock()
	victim := b.serving()[1].ID
	b.yard.end(victim)
	b.gone("it is cleared in the end", victim)
	if b.yard.stops[victim] < 3 {
		t.Errorf("it was stopped %d times", b.yard.stops[victim])
	}
	b.whole(2)
}

// TestRestart stops the control, lets the world go on without it, and starts
// it again: what vanished is lost, what runs is kept, strays are stopped.
func TestRestart(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(3)
	b.whole(3)
	ids := b.serving()
	b.stop()
	b.yard.mu.Lock()
	delete(b.yard.machines, ids[0].ID)                // vanished without a trace
	b.yard.machines[ids[1].ID] = fleet.MachineStopped // ended
	b.yard.machines["stray-001"] = fleet.MachineRunning
	b.yard.mu.Unlock()
	b.start("one")
	b.eventually("the lost are replaced", func() bool {
		now := b.serving()
		return len(now) == 3 && now[0].ID == ids[2].ID
	})
	if lost := b.journal("instance.lost"); len(lost) != 2 {
		t.Errorf("%d were lost: %+v", len(lost), lost)
	}
	b.eventually("the stray is swept", func() bool { return b.yard.count() == 3 })
}

// TestStraysHaveTime: a machine that no record knows runs on for its grace, told as a trouble and in
// the journal, and then goes; one whose instance is gone goes at once.
func TestStraysHaveTime(t *testing.T) {
	b := newBench(t)
	b.grace = 1500 * time.Millisecond
	b.start("one")
	b.group(2)
	b.whole(2)
	gone := b.serving()[0].ID
	b.yard.end(gone)
	b.gone("one is gone", gone)
	b.whole(2)
	b.yard.mu.Lock()
	b.yard.machines[gone], b.yard.machines["stray-001"] = fleet.MachineRunning, fleet.MachineRunning
	b.yard.mu.Unlock()
	b.eventually("the one whose instance is gone goes at once", func() bool { return b.yard.count() == 3 })
	b.eventually("the other is told", func() bool {
		all := b.ctl.Strays()
		return len(all) == 1 && all[0].Machine == "stray-001" && len(b.journalOf("", "machine.stray")) == 1
	})
	b.yard.mu.Lock()
	b.yard.failStop = 1 // which gives it no other grace, and is not told as another
	b.yard.mu.Unlock()
	b.eventually("its grace is over", func() bool { return b.yard.count() == 2 && len(b.journalOf("", "machine.stopped")) == 1 })
	b.eventually("it is no trouble any more", func() bool { return len(b.ctl.Strays()) == 0 })
	if n := len(b.journalOf("", "machine.stray")); n != 1 {
		t.Errorf("it is told %d times", n)
	}
}

// TestKilledWhileBooting loses a replica after it wrote that the machines were
// accepted and before it started them: the next one starts them.
func TestKilledWhileBooting(t *testing.T) {
	b := newBench(t)
	stall := make(chan struct{})
	goOn := sync.OnceFunc(func() { close(stall) })
	t.Cleanup(goOn) // else who is stopped at the end waits for ever
	b.yard.stall = stall
	b.start("one")
	b.group(2)
	var booting []store.Instance
	b.eventually("both are booting", func() bool {
		booting, _ = b.store.Instances(ctx, "berths", false, store.Page{Limit: 100})
		return len(booting) == 2 && booting[0].State == fleet.Booting && booting[1].State == fleet.Booting
	})
	first := b.stop
	if _, err := b.store.Renew(ctx, store.Replica{ID: "one"}, -time.Second); err != nil {
		t.Fatal(err)
	}
	b.yard.mu.Lock()
	b.yard.stall = nil
	b.yard.machines[booting[0].ID] = fleet.MachineUnknown // half unpacked; of the other there is nothing
	b.yard.mu.Unlock()
	b.start("two")
	b.whole(2)
	goOn()
	first()
	for i, in := range b.serving() {
		if in.ID != booting[i].ID {
			t.Errorf("%s serves in the place of %s", in.ID, booting[i].ID)
		}
	}
	if lost := b.journal("instance.lost"); len(lost) > 0 {
		t.Errorf("machines were lost: %+v", lost)
	}
}

// TestAnotherReplicaTakesOver kills a replica without a word: the next one
// gets its groups once its time is up, and the first writes no more.
func TestAnotherReplicaTakesOver(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	first := b.stop
	if _, err := b.store.Renew(ctx, store.Replica{ID: "one"}, -time.Second); err != nil { // as if it had not been heard of
		t.Fatal(err)
	}
	if _, err := b.store.Renew(ctx, store.Replica{ID: "two"}, time.Minute); err != nil {
		t.Fatal(err)
	}
	names, err := b.store.Lease(ctx, "two", false)
	if err != nil || len(names) != 1 {
		t.Fatalf("the second replica took %v: %v", names, err)
	}
	victim := b.serving()[0].ID
	b.yard.end(victim) // the first one's keeper hears of it, and may not write
	wait := time.NewTimer(time.Second)
	<-wait.C
	if in, _ := b.store.Instance(ctx, victim); in.State != fleet.Serving {
		t.Errorf("the old replica wrote that %s is %s", victim, in.State)
	}
	first()
	b.start("two")
	b.gone("the next one lost it", victim)
	b.whole(2)
	b.lostOnly(victim)
}

func TestDeletedGroupLeavesNothing(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(3)
	b.whole(3)
	if err := b.store.ChangeGroup(ctx, time.Now(), "ada", "berths", store.AnyRevision, func(_ store.Reader, g *store.Group) (fleet.Entry, error) {
		g.Deleting = true
		return fleet.Entry{Kind: "group.deleting", Cause: fleet.Because("a person asked for it")}, nil
	}); err != nil {
		t.Fatal(err)
	}
	b.eventually("the group is gone", func() bool { _, err := b.store.Group(ctx, "berths"); return errors.Is(err, store.ErrNotFound) })
	if b.yard.count() != 0 {
		t.Error("machines are left")
	}
	b.group(1) // the name is free again, and its ids go on
	b.whole(1)
	if id := b.serving()[0].ID; id != "berths-004" {
		t.Errorf("the next instance is %s", id)
	}
}

// TestAtRest takes a picture of an instance at rest: it serves nobody meanwhile,
// nothing takes its place, and it comes back. A restart in the middle brings it
// back as well.
func TestAtRest(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	id := b.serving()[0].ID
	if err := b.ctl.AtRest(ctx, "ada", id, "berths", func() error {
		if in, _ := b.store.Instance(ctx, id); in.State != fleet.Resting {
			t.Errorf("its files are read while it is %s", in.State)
		}
		if halted, _ := b.yard.rests(id); !halted {
			t.Error("its files are read while its machine runs")
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	b.whole(2)
	if halted, wakes := b.yard.rests(id); halted || wakes != 1 {
		t.Errorf("afterwards it is halted (%v), and was woken %d times", halted, wakes)
	}
	if now := b.serving(); now[0].ID != id || len(b.journal("instance.ordered")) != 2 {
		t.Errorf("%v serve", now)
	}
	b.stop()
	if err := b.store.ChangeInstance(ctx, time.Now().UTC(), "ada", id, store.AnyRevision, func(g fleet.Group, in fleet.Instance, rolling bool) (fleet.Instance, fleet.Entry, error) {
		return g.RestInstance(time.Now().UTC(), in, rolling)
	}); err != nil {
		t.Fatal(err)
	}
	b.start("one")
	b.whole(2)
	if halted, wakes := b.yard.rests(id); halted || wakes != 2 {
		t.Errorf("after a restart it is halted (%v), and was woken %d times", halted, wakes)
	}
	var refusal *fleet.Refusal
	if err := b.ctl.AtRest(ctx, "ada", "berths-fff", "berths", func() error { return nil }); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an instance that is not there: %v", err)
	}
	if err := b.ctl.AtRest(ctx, "ada", id, "tickets", func() error { return nil }); !errors.As(err, &refusal) {
		t.Errorf("a group that is not kept here: %v", err)
	}
}

// TestAlone launches one instance outside any group: it bears its own name,
// nothing takes its place when its machine ends, and nothing of it stays.
func TestAlone(t *testing.T) {
	b := newBench(t)
	b.start("one")
	alone := func() {
		t.Helper()
		if _, err := b.store.AddGroup(ctx, time.Now(), "ada", store.Group{Group: fleet.Group{
			Name: "trial", Alone: true, Settings: fleet.Settings{
				Size: 1, Min: 0, Max: 1, Template: fleet.Version{Name: "berths-api", N: 1}, Zones: []string{"mid-pier"}, Heal: fleet.HealOff, Settle: time.Minute,
			},
		},
			Overrides: store.Overrides{Labels: map[string]string{"for": "ada"}}}, nothing); err != nil {
			t.Fatal(err)
		}
		b.eventually("it serves", func() bool { in, _ := b.store.Instance(ctx, "trial"); return in.State == fleet.Serving })
	}
	over := func() {
		t.Helper()
		b.eventually("it is over", func() bool { _, err := b.store.Group(ctx, "trial"); return errors.Is(err, store.ErrNotFound) })
		if b.yard.count() != 0 {
			t.Error("its machine is there")
		}
	}
	alone()
	if in, _ := b.store.Instance(ctx, "trial"); in.Overrides.Labels["for"] != "ada" || in.Zone != "mid-pier" {
		t.Errorf("it is %+v", in)
	}
	b.yard.end("trial")
	over()
	b.yard.mu.Lock()
	delete(b.yard.launches, "trial")
	b.yard.mu.Unlock()
	alone() // the name is free again
	if err := b.store.ChangeGroup(ctx, time.Now(), "ada", "trial", store.AnyRevision, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
		g.Group, e, err = g.Delete()
		return e, err
	}); err != nil {
		t.Fatal(err)
	}
	over()
}

// TestReleased: one that is let go runs on and is nobody's, and survives a restart.
func TestReleased(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	id := b.serving()[0].ID
	release := func(replace bool) {
		t.Helper()
		now := time.Now().UTC()
		err := b.store.ReleaseInstance(ctx, now, "ada", id, store.AnyRevision, func(g fleet.Group, in fleet.Instance) (fleet.Group, fleet.Instance, fleet.Entry, error) {
			return g.Release(now, in, replace, "")
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	release(true)
	both := func() bool { return len(b.serving()) == 2 }
	b.eventually("another to serve in its place", both)
	mine := func() bool {
		in, err := b.store.Instance(ctx, id)
		return err == nil && in.Group == id && in.State == fleet.Serving
	}
	b.eventually("the released one to run on", mine)
	if n := b.yard.count(); n != 3 {
		t.Errorf("there are %d machines", n)
	}
	b.stop()
	b.start("one")
	b.eventually("two to serve", both)
	if !mine() || b.yard.count() != 3 {
		t.Errorf("after a restart it is not there any more")
	}
	if err := b.store.ChangeGroup(ctx, time.Now().UTC(), "ada", id, store.AnyRevision, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
		g.Group, e, err = g.Delete()
		return e, err
	}); err != nil {
		t.Fatal(err)
	}
	b.eventually("its machine to stop", func() bool { return b.yard.count() == 2 })
}

// TestRecreated: a fresh machine under the same name, and no other instance.
func TestRecreated(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	before := b.serving()
	now := time.Now().UTC()
	if err := b.store.ChangeInstance(ctx, now, "ada", before[0].ID, store.AnyRevision, func(g fleet.Group, in fleet.Instance, _ bool) (fleet.Instance, fleet.Entry, error) {
		return g.TellInstance(now, in, fleet.CommandRecreate, "")
	}); err != nil {
		t.Fatal(err)
	}
	b.eventually("it to serve again", func() bool {
		in, err := b.store.Instance(ctx, before[0].ID)
		return err == nil && in.State == fleet.Serving && in.Ordered.After(before[0].Ordered)
	})
	if after := b.serving(); len(after) != 2 || after[0].Address != before[0].Address || b.yard.count() != 2 {
		t.Errorf("afterwards there are %v with %d machines", after, b.yard.count())
	}
	b.yard.mu.Lock()
	defer b.yard.mu.Unlock()
	if b.yard.launches[before[0].ID] != 2 {
		t.Errorf("it was launched %d times", b.yard.launches[before[0].ID])
	}
	b.yard.launches[before[0].ID] = 1 // one machine after another
	runs, err := b.store.Runs(ctx, now.Add(-time.Hour), time.Now().Add(time.Hour))
	if err != nil || len(runs) != 3 {
		t.Errorf("for the costs there are %d runs: %+v %v", len(runs), runs, err)
	}
}
