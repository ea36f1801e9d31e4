package control_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/balancer"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/template"
	"unitas/internal/machine"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

var ctx = context.Background()

// yard is a machine driver in memory that does what it is told to get wrong.
type yard struct {
	mu       sync.Mutex
	machines map[string]fleet.MachineState
	launches map[string]int
	stops    map[string]int
	refuse   func(machine.Spec) error
	failStop int // how many stops still fail
	tell     func(machine.Fact)
	// recorded is asked at every launch whether the instance has its record.
	recorded func(id string) bool
	early    []string
	// stall, when set, holds launches, which then come to nothing.
	stall chan struct{}
	// stopping, when set, is called before a machine is stopped.
	stopping func(id string)
}

func newYard() *yard {
	return &yard{machines: map[string]fleet.MachineState{}, launches: map[string]int{}, stops: map[string]int{}}
}

func (y *yard) Address(zone string, number int64) (string, error) {
	return fmt.Sprintf("%s-%d", zone, number), nil
}

func (y *yard) Launch(_ context.Context, spec machine.Spec) error {
	if y.recorded != nil && !y.recorded(spec.ID) {
		y.mu.Lock()
		y.early = append(y.early, spec.ID)
		y.mu.Unlock()
	}
	y.mu.Lock()
	defer y.mu.Unlock()
	if stall := y.stall; stall != nil {
		y.mu.Unlock()
		<-stall
		y.mu.Lock()
		return nil
	}
	if y.machines[spec.ID] != fleet.MachineUnknown {
		return nil
	}
	y.launches[spec.ID]++
	if y.refuse != nil {
		if err := y.refuse(spec); err != nil {
			return err
		}
	}
	y.machines[spec.ID] = fleet.MachineRunning
	return nil
}

func (y *yard) Stop(_ context.Context, id string, _ time.Duration) error {
	if y.stopping != nil {
		y.stopping(id)
	}
	y.mu.Lock()
	defer y.mu.Unlock()
	y.stops[id]++
	if y.failStop > 0 {
		y.failStop--
		return errors.New("the driver is busy")
	}
	delete(y.machines, id)
	return nil
}

func (y *yard) List(context.Context) ([]machine.Fact, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	var facts []machine.Fact
	for id, state := range y.machines {
		facts = append(facts, machine.Fact{ID: id, State: state, Why: "its process was not found"})
	}
	return facts, nil
}

func (y *yard) Watch(tell func(machine.Fact)) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.tell = tell
}

func (y *yard) Halt(context.Context, string, time.Duration) error { return nil }
func (y *yard) Wake(context.Context, string) error                { return nil }
func (y *yard) Files(string, func(string) error) error            { return nil }
func (y *yard) Memory(string) (int64, bool)                       { return 0, false }
func (y *yard) BootLog(string, int64) ([]byte, error)             { return nil, nil }

func (y *yard) end(id string) {
	y.mu.Lock()
	y.machines[id] = fleet.MachineStopped
	tell := y.tell
	y.mu.Unlock()
	tell(machine.Fact{ID: id, State: fleet.MachineStopped, Why: "killed by signal 9"})
}

func (y *yard) count() int {
	y.mu.Lock()
	defer y.mu.Unlock()
	return len(y.machines)
}

// noTraffic is a balancer that nobody asks anything of.
type noTraffic struct{}

func (noTraffic) Apply(balancer.Pool)                 {}
func (noTraffic) Listen(string, []balancer.Listener)  {}
func (noTraffic) Shut(string, string)                 {}
func (noTraffic) Remove(string)                       {}
func (noTraffic) InFlight(string) int                 { return 0 }
func (noTraffic) Stats(string) (balancer.Stats, bool) { return balancer.Stats{}, false }
func (noTraffic) Watch(func(string))                  {}
func (noTraffic) Close()                              {}

// bench is a store with a template, and a control that can be started again.
type bench struct {
	t        *testing.T
	url      string
	metrics  *prometheus.Registry
	store    *store.Store
	yard     *yard
	balancer balancer.Driver
	ctl      *control.Control
	stop     func() // the newest; twice is like once
	stops    []func()
}

func newBench(t *testing.T) *bench {
	t.Helper()
	url := pgtest.Database(t)
	s, err := store.Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	now := time.Now()
	if _, err := s.AddImage(ctx, now, "ada", store.Image{Name: "berths", State: "ready", Start: []string{"./berths"}}); err != nil {
		t.Fatal(err)
	}
	for n := range 2 {
		if _, err := s.AddTemplate(ctx, now, "ada", store.Template{Name: "berths-api", Spec: template.Spec{Image: "berths", ImageVersion: 1, Port: 8080}}, n > 0); err != nil {
			t.Fatal(err)
		}
	}
	b := &bench{t: t, url: url, store: s, yard: newYard(), balancer: noTraffic{}}
	b.yard.recorded = func(id string) bool { _, err := s.Instance(ctx, id); return err == nil }
	t.Cleanup(func() {
		for _, stop := range b.stops {
			stop()
		}
		if len(b.yard.early) > 0 {
			t.Errorf("machines were asked for before they had a record: %v", b.yard.early)
		}
		for id, n := range b.yard.launches {
			if n > 1 {
				t.Errorf("%s was launched %d times", id, n)
			}
		}
	})
	return b
}

func (b *bench) start(replica string) {
	b.t.Helper()
	b.metrics = prometheus.NewRegistry()
	b.ctl = control.New(control.Config{Store: b.store, Machines: b.yard, Balancer: b.balancer, Replica: replica,
		Log: slog.New(slog.DiscardHandler), Metrics: b.metrics,
		SweepEvery: 300 * time.Millisecond})
	running, cancel := context.WithCancel(ctx)
	done := make(chan error, 1)
	ctl := b.ctl
	go func() { done <- ctl.Run(running) }()
	var once sync.Once
	b.stop = func() {
		once.Do(func() {
			cancel()
			if err := <-done; err != nil {
				b.t.Error(err)
			}
		})
	}
	b.stops = append(b.stops, b.stop)
}

// metric is the value of a gauge or counter without labels.
func (b *bench) metric(name string) float64 {
	families, err := b.metrics.Gather()
	if err != nil {
		b.t.Error(err)
	}
	for _, f := range families {
		if f.GetName() == name {
			m := f.GetMetric()[0]
			return m.GetGauge().GetValue() + m.GetCounter().GetValue()
		}
	}
	b.t.Errorf("there is no metric %s", name)
	return 0
}

func (b *bench) group(size int) {
	b.t.Helper()
	if _, err := b.store.AddGroup(ctx, time.Now(), "ada", store.Group{Group: fleet.Group{Name: "berths", Size: size, Max: 20,
		Template: fleet.Version{Name: "berths-api", N: 1}, Zones: []string{"east-pier", "mid-pier"}, Heal: fleet.HealMachine,
		Settle: time.Minute, Drain: time.Second}}, false, nothing); err != nil {
		b.t.Fatal(err)
	}
	b.ctl.GroupChanged("berths")
}

func anything(store.Reader) error { return nil }

func nothing(*store.Tx) error { return nil }

func (b *bench) eventually(what string, so func() bool) {
	b.t.Helper()
	limit := time.After(45 * time.Second)
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for !so() {
		select {
		case <-limit:
			b.t.Fatalf("it never came to be that %s: %s", what, b.sentence())
		case <-tick.C:
		}
	}
}

func (b *bench) sentence() string {
	p, err := b.ctl.Picture(ctx, "berths")
	if err != nil {
		return err.Error()
	}
	return fleet.Summarise(time.Now(), p.View()).Sentence
}

func (b *bench) serving() []store.Instance {
	all, err := b.store.Instances(ctx, "berths", false, store.Page{Limit: 100})
	if err != nil {
		b.t.Error(err)
	}
	return slices.DeleteFunc(all, func(in store.Instance) bool { return in.State != fleet.Serving })
}

func (b *bench) whole(n int) {
	b.t.Helper()
	b.eventually(fmt.Sprintf("%d serve", n), func() bool { return len(b.serving()) == n && b.yard.count() == n })
}

func (b *bench) journal(kind string) []store.Entry {
	b.t.Helper()
	entries, err := b.store.Journal(ctx, store.JournalQuery{Group: "berths", Page: store.Page{Limit: 1000}})
	if err != nil {
		b.t.Fatal(err)
	}
	return slices.DeleteFunc(entries, func(e store.Entry) bool { return e.Kind != kind })
}

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
	b.ctl.GroupChanged("berths")
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
	b.eventually("it is cleared in the end", func() bool { in, _ := b.store.Instance(ctx, victim); return in.State == fleet.Gone })
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

// TestKilledWhileBooting loses a replica after it wrote that the machines were
// accepted and before it started them: the next one starts them.
func TestKilledWhileBooting(t *testing.T) {
	b := newBench(t)
	stall := make(chan struct{})
	b.yard.stall = stall
	b.start("one")
	b.group(2)
	var booting []store.Instance
	b.eventually("both are booting", func() bool {
		booting, _ = b.store.Instances(ctx, "berths", false, store.Page{Limit: 100})
		return len(booting) == 2 && booting[0].State == fleet.Booting && booting[1].State == fleet.Booting
	})
	first := b.stop
	if err := b.store.Renew(ctx, "one", -time.Second); err != nil {
		t.Fatal(err)
	}
	b.yard.mu.Lock()
	b.yard.stall = nil
	b.yard.machines[booting[0].ID] = fleet.MachineUnknown // half unpacked; of the other there is nothing
	b.yard.mu.Unlock()
	b.start("two")
	b.whole(2)
	close(stall)
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
	if err := b.store.Renew(ctx, "one", -time.Second); err != nil { // as if it had not been heard of
		t.Fatal(err)
	}
	if err := b.store.Renew(ctx, "two", time.Minute); err != nil {
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
	b.eventually("the next one lost it", func() bool { in, _ := b.store.Instance(ctx, victim); return in.State == fleet.Gone })
	b.whole(2)
	if lost := b.journal("instance.lost"); len(lost) != 1 || lost[0].Instance != victim {
		t.Errorf("the journal says %+v", lost)
	}
}

func TestDeletedGroupLeavesNothing(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(3)
	b.whole(3)
	if err := b.store.ChangeGroup(ctx, time.Now(), "ada", "berths", store.AnyRevision, func(_ store.Reader, g *store.Group) (fleet.Entry, error) {
		g.Deleting = true
		return fleet.Entry{Kind: "group.deleting", Because: "a person asked for it"}, nil
	}); err != nil {
		t.Fatal(err)
	}
	b.ctl.GroupChanged("berths")
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
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	b.whole(2)
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
		if _, err := b.store.AddGroup(ctx, time.Now(), "ada", store.Group{Group: fleet.Group{Name: "trial", Size: 1, Min: 0, Max: 1, Alone: true,
			Template: fleet.Version{Name: "berths-api", N: 1}, Zones: []string{"mid-pier"}, Heal: fleet.HealOff, Settle: time.Minute},
			Overrides: store.Overrides{Labels: map[string]string{"for": "ada"}}}, false, nothing); err != nil {
			t.Fatal(err)
		}
		b.ctl.GroupChanged("trial")
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
	b.ctl.GroupChanged("trial")
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
		from, err := b.store.ReleaseInstance(ctx, now, "ada", id, store.AnyRevision, func(g fleet.Group, in fleet.Instance) (fleet.Group, fleet.Instance, fleet.Entry, error) {
			return g.Release(now, in, replace, "")
		})
		if err != nil {
			t.Fatal(err)
		}
		b.ctl.GroupChanged(from)
		b.ctl.GroupChanged(id)
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
	b.ctl.GroupChanged(id)
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
	b.ctl.GroupChanged("berths")
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
