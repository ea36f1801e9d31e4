package control_test

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/balancer"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rollout"
	"unitas/internal/store"
	"unitas/internal/waittest"
)

// pooled gives the bench a check and a pool, and a group of the size in it.
func (b *bench) pooled(size int) {
	b.t.Helper()
	now := time.Now()
	if _, err := b.store.AddCheck(ctx, now, "ada", store.Check{Check: health.Check{Name: "berths-up", Kind: health.TCP, Port: 9, Interval: time.Hour, Timeout: time.Second, Passes: 1, Fails: 20}}); err != nil {
		b.t.Fatal(err)
	}
	if _, err := b.store.AddPool(ctx, now, "ada", store.Pool{Name: "front", Listeners: []store.Listener{store.NewListener("127.0.0.1:1", "", "")}, Check: "berths-up"}, anything); err != nil {
		b.t.Fatal(err)
	}
	if _, err := b.store.AddGroup(ctx, now, "ada", store.Group{Group: fleet.Group{
		Name: "berths", Settings: fleet.Settings{
			Size: size, Max: 20, Template: fleet.Version{Name: "berths-api", N: 1}, Zones: []string{"east-pier", "mid-pier"}, Pools: []string{"front"}, Heal: fleet.HealMachine, HealLimit: 30, Settle: time.Minute, Drain: time.Second,
		},
	}}, nothing); err != nil {
		b.t.Fatal(err)
	}
}

// well has every instance of the group found healthy once it settles.
func (b *bench) well(size int) []store.Instance {
	b.t.Helper()
	b.eventually("all settle", func() bool {
		p, err := b.ctl.Picture(ctx, "berths")
		return err == nil && len(p.Instances) == size && !slices.ContainsFunc(p.Instances, func(in store.Instance) bool { return in.State != fleet.Settling })
	})
	all, err := b.store.Instances(ctx, "berths", false, store.Page{Limit: 100})
	if err != nil {
		b.t.Fatal(err)
	}
	for _, in := range all {
		control.VerdictChanged(b.ctl, in.ID, health.Report{Check: "berths-up", Verdict: health.Healthy, Since: time.Now(), Why: "1 of 1"})
	}
	b.whole(size)
	return all
}

// TestTakeoverFindsMachines: a replica that was there before the group was takes it
// over with all its machines.
func TestTakeoverFindsMachines(t *testing.T) {
	b := newBench(t)
	b.start("one")
	first := b.stop
	b.start("two") // both run before there is a group
	second := b.stop
	b.group(3)
	b.whole(3)
	before := b.serving()
	leased, _, err := b.store.Leased(ctx, "one")
	if err != nil {
		t.Fatal(err)
	}
	stop, next := first, "two"
	if len(leased) == 0 {
		stop, next = second, "one"
	}
	stop()
	b.eventually("the other has it", func() bool { l, _, err := b.store.Leased(ctx, next); return err == nil && len(l) == 1 })
	victim := before[0].ID
	b.yard.end(victim) // the new keeper hears of it
	b.gone("the new one acts", victim)
	b.whole(3)
	b.lostOnly(victim)
}

// TestLeasedAwayAndBack: a group whose lease went to another replica and came back
// is kept.
func TestLeasedAwayAndBack(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	if _, err := b.store.Renew(ctx, store.Replica{ID: "one"}, -time.Second); err != nil {
		t.Fatal(err)
	}
	if names, err := b.store.Lease(ctx, "two", false); err != nil || len(names) != 1 { // which is never heard of again
		t.Fatalf("the other took %v: %v", names, err)
	}
	b.eventually("it is back", func() bool { l, _, err := b.store.Leased(ctx, "one"); return err == nil && len(l) == 1 })
	victim := b.serving()[0].ID
	b.yard.end(victim)
	b.gone("it is kept", victim)
	b.whole(2)
}

// listenIn has the bench use a balancer that notes what it is told.
func (b *bench) listenIn() *heard {
	h := &heard{open: map[string]bool{}, told: make(chan time.Time, 100)}
	b.balancer = h
	return h
}

// TestSlowDatabaseKeepsNobodyInTraffic: while a commit waits, one that turns ill and
// one whose machine ends are taken out of traffic all the same.
func TestSlowDatabaseKeepsNobodyInTraffic(t *testing.T) {
	b := newBench(t)
	h := b.listenIn()
	b.pooled(4)
	b.start("one")
	all := b.well(4)
	b.eventually("all get requests", func() bool { return h.allOpen(4) })

	conn, err := pgx.Connect(ctx, b.url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	tx, err := conn.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(ctx, `select 1 from groups where name = 'berths' for update`); err != nil {
		t.Fatal(err)
	}
	ill := func(id string) {
		control.VerdictChanged(b.ctl, id, health.Report{Check: "berths-up", Verdict: health.Unhealthy, Since: time.Now(), Why: "failed 3 of 3"})
	}
	ill(all[0].ID) // its entry waits to be written
	b.eventually("a commit waits", func() bool {
		var waits bool
		_ = conn.QueryRow(ctx, `select exists (select from pg_stat_activity where wait_event_type = 'Lock' and datname = current_database())`).Scan(&waits)
		return waits
	})
	begun := time.Now()
	ill(all[1].ID)
	b.yard.end(all[2].ID)
	b.eventually("they are closed", func() bool { return h.allOpen(1) })
	if took := time.Since(begun); took > time.Second {
		t.Errorf("with a database that waits it took %s", took)
	}
	if err := tx.Rollback(ctx); err != nil {
		t.Fatal(err)
	}
	b.eventually("the decision is written in the end", func() bool { return len(b.journal("verdict.unhealthy")) == 2 })
	if !h.allOpen(1) && !h.allOpen(2) { // the lost one may be replaced by now, not yet healthy
		t.Error("a decision opened what is ill")
	}
}

// TestStuckGroupSaysSo: a group whose decisions the database refuses says so, in its
// sentence and among the groups that are stuck, and goes on once they are taken.
func TestStuckGroupSaysSo(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	conn, err := pgx.Connect(ctx, b.url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	exec := func(sql string) {
		t.Helper()
		if _, err := conn.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	exec(`create function refuse() returns trigger language plpgsql as $$ begin raise exception 'the sea is rough' using errcode = '23514'; end $$`)
	exec(`create trigger refuse before insert on journal for each row execute function refuse()`)
	b.yard.end(b.serving()[0].ID)
	b.eventually("it says so", func() bool { return strings.Contains(b.sentence(), "the database refuses them: the sea is rough") })
	p, err := b.ctl.Picture(ctx, "berths")
	if err != nil || p.Stuck.Since.IsZero() || b.metric("unitas_groups_stuck") != 1 {
		t.Errorf("it is stuck since %v, and %v groups are: %v", p.Stuck.Since, b.metric("unitas_groups_stuck"), err)
	}
	exec(`drop trigger refuse on journal`)
	b.eventually("it goes on", func() bool { return len(b.journal("instance.lost")) == 1 })
	b.whole(2)
	b.eventually("and is not stuck any more", func() bool {
		return b.metric("unitas_groups_stuck") == 0 && strings.HasPrefix(b.sentence(), "2 of 2 serving")
	})
	// What was decided again every second and not written is no move.
	if n := b.metric("unitas_instance_transitions_total", "lost"); n != 1 {
		t.Errorf("%v instances are counted as lost, and one was", n)
	}
}

// door is a balancer that notes what was open when its listeners opened.
type door struct {
	heard
	hold   chan struct{} // before it is closed nothing is taken over
	mu     sync.Mutex
	opened []int
}

func (d *door) Sync(ctx context.Context, p balancer.Pool) error {
	<-d.hold
	return d.heard.Sync(ctx, p)
}

func (d *door) isShut() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.opened) == 0
}

// stays looks for a moment whether something stays so.
func (b *bench) stays(what string, so func() bool) {
	b.t.Helper()
	over := time.After(300 * time.Millisecond)
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-over:
			return
		case <-tick.C:
		}
		if !so() {
			b.t.Fatalf("it did not stay %s", what)
		}
	}
}

func (d *door) Listen([]balancer.Listener) {
	d.heard.mu.Lock()
	n := 0
	for _, open := range d.heard.open {
		if open {
			n++
		}
	}
	d.heard.mu.Unlock()
	d.mu.Lock()
	defer d.mu.Unlock()
	d.opened = append(d.opened, n)
}

// TestListenersOpenOnceTargetsAreKnown: after a restart nobody is let in before all
// targets are there, by the records or by their keeper, and the balancer knows them.
func TestListenersOpenOnceTargetsAreKnown(t *testing.T) {
	b := newBench(t)
	b.pooled(3)
	b.start("one")
	b.well(3)
	b.stop()
	for _, quick := range []bool{true, true, true, false} {
		d := &door{heard: heard{open: map[string]bool{}, told: make(chan time.Time, 100)}, hold: make(chan struct{})}
		letIn := sync.OnceFunc(func() { close(d.hold) })
		t.Cleanup(letIn) // before the control is stopped
		if quick {
			letIn()
		}
		b.balancer = d
		b.start("one")
		if !quick {
			b.stays("closed while the balancer knows no target", d.isShut)
			letIn()
		}
		b.eventually("the listeners open", func() bool { return !d.isShut() })
		d.mu.Lock()
		if d.opened[0] != 3 {
			t.Errorf("they opened with %d targets of 3 (quick: %v)", d.opened[0], quick)
		}
		d.mu.Unlock()
		b.stop()
	}
}

// TestSlowStrayHoldsNothingUp: while a stray takes its time to stop, groups are
// leased and kept.
func TestSlowStrayHoldsNothingUp(t *testing.T) {
	b := newBench(t)
	b.yard.machines["stray-001"] = fleet.MachineRunning
	stall, stalled := make(chan struct{}), make(chan struct{}, 1)
	b.yard.stopping = func(id string) {
		if id == "stray-001" {
			select {
			case stalled <- struct{}{}:
			default:
			}
			<-stall
		}
	}
	b.start("one")
	waittest.For(t, "the stop of the stray", stalled)
	b.group(2)
	b.eventually("two serve", func() bool { return len(b.serving()) == 2 })
	close(stall)
	b.eventually("the stray is gone", func() bool { return b.yard.count() == 2 })
}

// TestASoakIsWatched: what passed while the service was down does not count.
func TestASoakIsWatched(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(2)
	b.whole(2)
	ws, err := rollout.ParseWaves("1,100%")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.store.StartRollout(ctx, time.Now(), "ada", "berths", store.Rollout{Rollout: fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "berths-api", N: 2}, Waves: ws, Above: 1, Soak: time.Hour}}}, false, func(store.Reader, store.Group) error { return nil }); err != nil {
		t.Fatal(err)
	}
	b.eventually("the wave soaks", func() bool { return len(b.journal("rollout.soaking")) == 1 })
	b.stop()
	b.start("one")
	b.eventually("it soaks anew", func() bool { return len(b.journal("rollout.soaking")) == 2 })
}

// TestRecordsOfAnotherTime: after a database was restored an instance whose machine runs another
// version, or is of another launch, than its record says is replaced, and no other.
func TestRecordsOfAnotherTime(t *testing.T) {
	b := newBench(t)
	b.start("one")
	b.group(4)
	b.whole(4)
	all := b.serving()
	b.stop()
	b.yard.mu.Lock() // an image that was made after the backup, under a number that the records give to another
	other := b.yard.specs[all[3].ID]
	other.Digest = "sha256:f00d"
	b.yard.specs[all[3].ID] = other
	b.yard.mu.Unlock()
	conn, err := pgx.Connect(ctx, b.url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	for _, do := range []string{`update instances set template_version = 2 where id = '` + all[0].ID + `'`, `update instances set launch = 7 where id = '` + all[1].ID + `'`} {
		if _, err := conn.Exec(ctx, do); err != nil {
			t.Fatal(err)
		}
	}
	b.start("one")
	b.gone("the one of another version is replaced", all[0].ID)
	b.gone("the one of another launch is replaced", all[1].ID)
	b.gone("the one of another image is replaced", all[3].ID)
	b.whole(4)
	lost := b.journal("instance.lost")
	said := ""
	for _, e := range lost {
		said += e.Because
	}
	if len(lost) != 3 || !strings.Contains(said, "its machine has the image sha256:f00d, and its record says sha256:") || !strings.Contains(said, "its machine is that of berths-api@1, launch 1, and its record says berths-api@2, launch 1") {
		t.Errorf("lost: %+v", lost)
	}
	if in, err := b.store.Instance(ctx, all[2].ID); err != nil || in.State != fleet.Serving {
		t.Errorf("the other is %+v, %v", in.State, err)
	}
}

// TestAFaultStaysInItsGroup: a keeper that errs is started again, the targets of its
// group go on getting requests, and the other groups notice nothing.
func TestAFaultStaysInItsGroup(t *testing.T) {
	b := newBench(t)
	h := b.listenIn()
	b.pooled(3)
	b.start("one")
	b.well(3)
	b.eventually("all get requests", func() bool { return h.allOpen(3) })
	b.ctl.Err("berths")
	b.eventually("it is said", func() bool { return strings.Contains(b.sentence(), "the service itself erred") })
	if !h.allOpen(3) {
		t.Error("targets were closed for a fault of the service")
	}
	victim := b.serving()[0].ID
	b.yard.end(victim)
	b.gone("it is kept again", victim)
	b.eventually("and says nothing of it any more", func() bool { return !strings.Contains(b.sentence(), "erred") })
	if n := b.metric("unitas_group_panics_total"); n != 1 {
		t.Errorf("%v faults are counted", n)
	}
}

// stuckDoor is a balancer whose listener cannot be opened the first time.
type stuckDoor struct {
	noTraffic
	mu    sync.Mutex
	tries int
}

func (d *stuckDoor) Listen([]balancer.Listener) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.tries++
}

func (d *stuckDoor) Listening() []balancer.ListenerStats {
	d.mu.Lock()
	defer d.mu.Unlock()
	s := []balancer.ListenerStats{{}}
	if d.tries < 2 {
		s[0].Trouble = "the address is in use"
	}
	return s
}

// TestAListenerIsTriedAgain: one that could not be opened is, and one that is open is let
// alone.
func TestAListenerIsTriedAgain(t *testing.T) {
	b := newBench(t)
	b.pooled(1)
	d := &stuckDoor{}
	b.balancer = d
	b.start("one")
	tries := func() int { d.mu.Lock(); defer d.mu.Unlock(); return d.tries }
	b.eventually("it is tried again", func() bool { return tries() == 2 })
	over := time.After(2500 * time.Millisecond)
	<-over
	if n := tries(); n != 2 {
		t.Errorf("an open listener was opened %d times", n)
	}
}

// TestAStartKnowsWhatRuns: what machines do is known from the list that is made when a
// lease is taken, long before the next sweep.
func TestAStartKnowsWhatRuns(t *testing.T) {
	b := newBench(t)
	b.sweeps = time.Hour
	b.start("one")
	b.group(2)
	b.whole(2)
	ended := b.serving()[0].ID
	b.stop()
	b.yard.mu.Lock()
	b.yard.machines[ended] = fleet.MachineStopped
	b.yard.mu.Unlock()
	b.start("one")
	b.gone("the one that ended is lost", ended)
	b.whole(2)
	for _, in := range b.serving() {
		p, err := b.ctl.Picture(ctx, "berths")
		if err != nil || len(p.Instances) != 2 {
			t.Fatalf("%+v: %v", p.Instances, err)
		}
		if k := slices.IndexFunc(p.Instances, func(o store.Instance) bool { return o.ID == in.ID }); p.Instances[k].Machine.State != fleet.MachineRunning {
			t.Errorf("of the machine of %s is known that it is %q", in.ID, p.Instances[k].Machine.State)
		}
	}
}
