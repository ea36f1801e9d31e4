package control

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/balancer"
	"unitas/internal/clock"
	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/health"
	"unitas/internal/machine"
	"unitas/internal/probe"
	"unitas/internal/store"
)

// TestWhatIsMissing: a machine is missed on a list that was made after it came up, and
// only when it is known to run.
func TestWhatIsMissing(t *testing.T) {
	at := time.Now()
	list := map[string]bool{"there": true}
	for what, c := range map[string]struct {
		in   fleet.Instance
		want bool
	}{
		"one that ran before":      {fleet.Instance{ID: "gone", Up: at.Add(-time.Second), Machine: fleet.Machine{State: fleet.MachineRunning}}, true},
		"one that is on the list":  {fleet.Instance{ID: "there", Up: at.Add(-time.Second), Machine: fleet.Machine{State: fleet.MachineRunning}}, false},
		"one that came up since":   {fleet.Instance{ID: "new", Up: at.Add(time.Second), Machine: fleet.Machine{State: fleet.MachineRunning}}, false},
		"one that is not up":       {fleet.Instance{ID: "coming", Machine: fleet.Machine{State: fleet.MachineRunning}}, false},
		"one that is known to end": {fleet.Instance{ID: "ended", Up: at.Add(-time.Second), Machine: fleet.Machine{State: fleet.MachineStopped}}, false},
	} {
		if got := isMissing(&c.in, at, list); got != c.want {
			t.Errorf("%s is missing: %v", what, got)
		}
	}
}

// TestTheTermEnds: by itself, for everything that is under way, and not for an answer that
// came too late.
func TestTheTermEnds(t *testing.T) {
	term := newTerm()
	if term.holds() || term.context().Err() == nil {
		t.Error("it holds before it began")
	}
	term.renewed(time.Now().Add(-time.Minute), time.Second)
	if term.holds() {
		t.Error("an answer that came too late renews it")
	}
	term.renewed(time.Now(), 60*time.Millisecond)
	first := term.context()
	if !term.holds() || first.Err() != nil {
		t.Error("it does not hold")
	}
	term.renewed(time.Now(), 150*time.Millisecond)
	if term.context() != first {
		t.Error("a renewal ends what is under way")
	}
	select {
	case <-first.Done():
	case <-time.After(20 * time.Second):
		t.Fatal("it does not end")
	}
	if term.holds() || !term.ended(first) {
		t.Errorf("after its end it holds, or %v ended it", context.Cause(first))
	}
	term.renewed(time.Now(), time.Hour)
	if !term.holds() || term.context().Err() != nil {
		t.Error("it cannot begin again")
	}
	term.renewed(time.Now().Add(-time.Minute), time.Second)
	if !term.holds() || term.context().Err() != nil {
		t.Error("an answer that came too late ends it")
	}
	term.over()
	if term.holds() {
		t.Error("it holds after it was given up")
	}
	// As a process learns it that stood still: its timer has not run, its clock has.
	term.renewed(time.Now(), time.Hour)
	term.until = time.Now().Add(-time.Second)
	if term.holds() {
		t.Error("it holds past its time")
	}
}

func TestGates(t *testing.T) {
	g := gates{at: 2, all: map[string]chan struct{}{}}
	ctx, cancel := context.WithCancel(context.Background())
	var backs []func()
	for range 2 {
		back, err := g.enter(ctx, "east-pier")
		if err != nil {
			t.Fatal(err)
		}
		backs = append(backs, back)
	}
	if _, err := g.enter(ctx, "mid-pier"); err != nil {
		t.Errorf("another zone is full as well: %v", err)
	}
	third := make(chan error, 1)
	go func() {
		_, err := g.enter(ctx, "east-pier")
		third <- err
	}()
	select {
	case err := <-third:
		t.Errorf("a third is let in: %v", err)
	case <-time.After(50 * time.Millisecond):
	}
	backs[0]()
	if err := <-third; err != nil {
		t.Error(err)
	}
	cancel()
	if _, err := g.enter(ctx, "east-pier"); !errors.Is(err, context.Canceled) {
		t.Errorf("who does not wait any more is let in: %v", err)
	}
}

// TestOthersAreWaitedFor: all that are alive, by the drain of now.
func TestOthersAreWaitedFor(t *testing.T) {
	var o others
	if !o.quiet(nil) || o.any() {
		t.Error("nobody is waited for")
	}
	o.set([]string{"two", "three"})
	if o.quiet(map[string]bool{"two": true}) || !o.quiet(map[string]bool{"two": true, "three": true, "dead": true}) {
		t.Error("not all of them are waited for")
	}
	now := time.Now()
	k := newKeeper(&Control{Config: Config{Clock: clock.New()}}, "timetable", 1, nil)
	k.view.Instances = []fleet.Instance{{ID: "a", State: fleet.Draining, Since: now}}
	k.kept["a"] = &kept{}
	k.take(ofOther{id: "a", replica: "two", since: now.Add(-time.Minute)})
	k.take(ofOther{id: "b", replica: "two", since: now})
	if len(k.kept["a"].quiet) != 0 {
		t.Error("the word about an earlier drain counts")
	}
	k.take(ofOther{id: "a", replica: "two", since: now})
	if !k.kept["a"].quiet["two"] || !k.urgent {
		t.Error("the word does not count")
	}
	// A person had it serve again, and closed it once more: both are read from the records.
	k.ctl.roster = newRoster()
	k.takeIn([]store.Instance{{Instance: fleet.Instance{ID: "a", State: fleet.Parked, Since: now.Add(time.Minute)}}})
	if len(k.kept["a"].quiet) != 0 {
		t.Error("the word about the drain before counts for the next")
	}
}

// TestACommitWhoseAnswerWasLost takes off the books what it wrote and no more.
func TestACommitWhoseAnswerWasLost(t *testing.T) {
	k := newKeeper(&Control{Config: Config{Clock: clock.New()}}, "timetable", 1, nil)
	k.kept = map[string]*kept{"a": {}, "b": {}}
	k.spoil("a")
	k.noted, k.drawn = []fleet.Entry{{Kind: "first"}}, []int64{1, 2, 3}
	lost := attempt{noted: len(k.noted), dirty: len(k.dirty), drawn: 2}
	k.spoil("b")
	k.spoil("b")
	k.noted = append(k.noted, fleet.Entry{Kind: "second"})
	k.written(lost)
	if len(k.noted) != 1 || k.noted[0].Kind != "second" || len(k.dirty) != 1 || k.kept["a"].dirty || !k.kept["b"].dirty || len(k.drawn) != 1 || k.drawn[0] != 3 {
		t.Errorf("left are %v, %v and %v", k.noted, k.dirty, k.drawn)
	}
}

// keeping is a control that keeps one instance, which is in its second launch, without a
// database or goroutines.
func keeping(t *testing.T, balancer *taker) (*Control, *keeper, func(what string, so func() bool)) {
	t.Helper()
	d, eventually := newCounter(t, balancer, store.Pool{})
	c := &Control{Config: Config{Clock: clock.New(), Balancer: balancer, Log: slog.New(slog.DiscardHandler)}, roster: newRoster(), desk: d, term: newTerm(),
		metrics: newMetrics(prometheus.NewRegistry()), prober: probe.New(func(string, health.Report) {})}
	t.Cleanup(c.prober.Close)
	k := newKeeper(c, "timetable", 1, nil)
	c.roster.add(k)
	k.takeIn([]store.Instance{{Instance: fleet.Instance{ID: "a", State: fleet.Serving, Launch: 2, Machine: fleet.Machine{State: fleet.MachineRunning, Launch: 2}}, Address: "127.0.0.1"}})
	k.loaded, k.fresh = true, true
	k.publish()
	d.set("timetable", []string{"front"}, healthy("a"))
	eventually("it is open", func() bool { return len(balancer.open()) == 1 })
	return c, k, eventually
}

// TestFactsOfAFormerMachine close no target.
func TestFactsOfAFormerMachine(t *testing.T) {
	b := &taker{}
	c, k, _ := keeping(t, b)
	c.machineSaid(machine.Fact{ID: "a", State: fleet.MachineStopped, Launch: 1})
	if len(b.shut) != 0 || len(k.inbox) != 0 {
		t.Errorf("what its former machine did closed %v, and was told: %v", b.shut, k.inbox)
	}
	c.machineSaid(machine.Fact{ID: "a", State: fleet.MachineStopped, Launch: 2})
	if len(b.shut) != 1 || len(k.inbox) != 1 {
		t.Errorf("what its machine did closed %v, and was told: %v", b.shut, k.inbox)
	}
}

// TestChangedRecordsAreNotShownAsTheyWere: between a person's change and its reading the
// records are asked.
func TestChangedRecordsAreNotShownAsTheyWere(t *testing.T) {
	_, k, _ := keeping(t, &taker{})
	if all, ok := k.instancesNow(); !ok || len(all) != 1 {
		t.Fatalf("what is known is not shown: %v", all)
	}
	k.reloadNow()
	if all, ok := k.instancesNow(); ok {
		t.Errorf("what a person changed is shown as it was: %v", all)
	}
}

// TestWhatPoolsSaidBeforeTheStart is forgotten: nobody would say that it ended.
func TestWhatPoolsSaidBeforeTheStart(t *testing.T) {
	_, k, _ := keeping(t, &taker{})
	k.takeIn([]store.Instance{{Instance: fleet.Instance{ID: "b", State: fleet.Serving, Launch: 1, Reports: []health.Report{
		{Check: "up", Verdict: health.Healthy}, {Check: string(fleet.HealTraffic), Verdict: health.Unhealthy}}}}})
	if got := k.view.Instances[0].Reports; len(got) != 1 || got[0].Check != "up" {
		t.Errorf("it is known by %+v", got)
	}
}

// TestAFreshMachineIsAskedAnew: the answers of the former one count for nothing.
func TestAFreshMachineIsAskedAnew(t *testing.T) {
	c, k, eventually := keeping(t, &taker{})
	check := health.Check{Name: "up", Kind: health.TCP, Port: 1, Interval: time.Hour, Timeout: time.Second, Passes: 1, Fails: 1}
	k.checks = []health.Check{check}
	one := k.kept["a"]
	k.probe(&k.view.Instances[0], one)
	eventually("the former one was asked", func() bool { r, _ := c.prober.Standing("a", "up"); return r.Verdict == health.Unhealthy })
	next := k.record(one)
	next.Launch, next.State = 3, fleet.Ordered
	k.keepLedger()
	k.takeOver([]store.Instance{next})
	if one.watched {
		t.Error("the fresh one counts as asked")
	}
	if r, ok := c.prober.Standing("a", "up"); ok {
		t.Errorf("what the former one answered stands: %+v", r)
	}
}

// answering is a balancer that tells what it is told to.
type answering struct {
	taker
	said map[string][2]int64
	line time.Duration // that slow ones were last asked for by
	p95  float64       // of the old version, in ms
}

func (a *answering) Slower(instance string, than time.Duration) (n, slow int64) {
	a.line = than
	return a.Answered(instance)
}

func (a *answering) Stats(string) (balancer.Stats, bool) {
	return balancer.Stats{Versions: []balancer.VersionStats{
		{Version: "timetable-web@1", Windows: []balancer.Window{{Minutes: 1, Requests: 9, P95: 1}, {Minutes: 5, Requests: 99, P95: a.p95}}},
		{Version: "timetable-web@2", Windows: []balancer.Window{{Minutes: 5, Requests: 99, P95: 1000}}},
	}}, true
}

func (a *answering) Answered(instance string) (n, failed int64) {
	return a.said[instance][0], a.said[instance][1]
}

// TestWhatIsCompared: what came since the last look, of those that counted then and count
// now, each on its side; and from the record where another rollout, or the same anew, is
// compared.
func TestWhatIsCompared(t *testing.T) {
	now := time.Now()
	old, fresh := fleet.Version{Name: "timetable-web", N: 1}, fleet.Version{Name: "timetable-web", N: 2}
	b := &answering{said: map[string][2]int64{}}
	k := newKeeper(&Control{Config: Config{Clock: clock.New(), Balancer: b}}, "timetable", 1, nil)
	in := func(id string, v fleet.Version) fleet.Instance {
		return fleet.Instance{ID: id, State: fleet.Serving, Since: now.Add(-time.Minute), Version: v}
	}
	k.view.Instances = []fleet.Instance{in("new", fresh), in("old", old), in("leaves", old)}
	usual := gate.Usual()
	usual.Seen = gate.Comparison{New: gate.Count{N: 10, Bad: 1}, Old: gate.Count{N: 50}}
	k.rollout = &store.Rollout{Rollout: fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 7, From: old, State: fleet.Moving}, RolloutSettings: fleet.RolloutSettings{To: fresh, Gates: []gate.Gate{usual}}}}
	look := func() gate.Comparison {
		t.Helper()
		k.comparing.looked = time.Time{}
		k.compare(now)
		if len(k.view.Seen) != 1 {
			t.Fatalf("of one gate is seen %+v", k.view.Seen)
		}
		return k.view.Seen[0]
	}
	expect := func(what string, got gate.Comparison, n, bad, oldN int64) {
		t.Helper()
		if got.New != (gate.Count{N: n, Bad: bad}) || got.Old.N != oldN {
			t.Errorf("%s: new %+v, old %+v; want %d of %d bad, and %d", what, got.New, got.Old, bad, n, oldN)
		}
	}
	b.said["new"], b.said["old"], b.said["leaves"] = [2]int64{1000, 900}, [2]int64{5000, 0}, [2]int64{5000, 0}
	expect("at the first look", look(), 10, 1, 50) // what was before it is nobody's
	b.said["new"], b.said["old"], b.said["leaves"] = [2]int64{1004, 902}, [2]int64{5010, 0}, [2]int64{5010, 0}
	k.view.Instances[2].State = fleet.Draining
	expect("at the next", look(), 14, 3, 60)
	k.view.Instances[2].State = fleet.Serving // again; what it answered meanwhile counts for nothing
	b.said["leaves"] = [2]int64{6000, 0}
	expect("when one is back", look(), 14, 3, 60)
	b.said["old"] = [2]int64{2, 0} // the balancer was started anew
	b.said["leaves"] = [2]int64{6001, 0}
	expect("when the count begins anew", look(), 14, 3, 61)
	k.compare(now)
	if k.comparing.looked.IsZero() || time.Since(k.comparing.looked) > time.Minute {
		t.Error("it is not noted when it was looked")
	}
	b.said["leaves"] = [2]int64{9999, 0}
	k.compare(now)
	expect("sooner than a second after", k.view.Seen[0], 14, 3, 61)
	k.rollout.Resumed = now // a person had it proceed, and the record was read
	k.rollout.Gates[0].Seen = gate.Comparison{}
	expect("after proceed", look(), 0, 0, 0)
	k.rollout.State = fleet.Held
	if k.compare(now); k.view.Seen != nil {
		t.Errorf("of one that is held is seen %+v", k.view.Seen)
	}
}

// TestTheLineOfAWave: what is slow is told by the old version when a wave begins, and what
// was counted against another line counts for nothing.
func TestTheLineOfAWave(t *testing.T) {
	now := time.Now()
	b := &answering{said: map[string][2]int64{}}
	k := newKeeper(&Control{Config: Config{Clock: clock.New(), Balancer: b}}, "timetable", 1, nil)
	k.group.Pools = []string{"front"}
	slow := gate.Usual()
	slow.Kind = gate.Latency
	k.rollout = &store.Rollout{Rollout: fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 7, From: fleet.Version{Name: "timetable-web", N: 1}, State: fleet.Moving}, RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Gates: []gate.Gate{slow}}}}
	k.view.Instances = []fleet.Instance{{ID: "new", State: fleet.Serving, Since: now.Add(-time.Minute), Version: k.rollout.To}}
	look := func(n int64) gate.Comparison {
		b.said["new"] = [2]int64{n, n / 2}
		k.comparing.looked = time.Time{}
		k.compare(now)
		return k.view.Seen[0]
	}
	if got := look(10); got.Line != 0 || b.line != 0 {
		t.Errorf("by nothing the line is %s", got.Line)
	}
	b.p95 = 48
	if got := look(20); got.Line != 48*time.Millisecond || b.line != got.Line || got.New.N != 0 {
		t.Errorf("the line is %s, and %d are counted", got.Line, got.New.N)
	}
	b.p95 = 300 // the wave has its line
	if got := look(30); got.Line != 48*time.Millisecond || got.New != (gate.Count{N: 10, Bad: 5}) {
		t.Errorf("in the wave the line is %s, and %+v are counted", got.Line, got.New)
	}
	k.rollout.Wave = 1
	if got := look(40); got.Line != 300*time.Millisecond || got.New.N != 10 {
		t.Errorf("in the next wave the line is %s, and %d are counted", got.Line, got.New.N)
	}
	if got := look(50); got.New.N != 20 {
		t.Errorf("and then %d", got.New.N)
	}
}

// TestAGateOnHealthComparesNothing, and one that compares keeps how it came to be.
func TestAGateOnHealthComparesNothing(t *testing.T) {
	now := time.Now()
	b := &answering{said: map[string][2]int64{"new": {0, 0}, "old": {0, 0}}}
	k := newKeeper(&Control{Config: Config{Clock: clock.New(), Balancer: b}}, "timetable", 1, nil)
	old, fresh := fleet.Version{Name: "timetable-web", N: 1}, fleet.Version{Name: "timetable-web", N: 2}
	for id, v := range map[string]fleet.Version{"new": fresh, "old": old} {
		k.view.Instances = append(k.view.Instances, fleet.Instance{ID: id, State: fleet.Serving, Since: now.Add(-time.Minute), Version: v})
	}
	k.rollout = &store.Rollout{Rollout: fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 7, From: old, State: fleet.Moving}, RolloutSettings: fleet.RolloutSettings{To: fresh, Gates: []gate.Gate{{Kind: gate.Healthy, Floor: 100}, gate.Usual()}}}}
	for n := range int64(5) {
		k.comparing.looked = time.Time{}
		b.said["new"], b.said["old"] = [2]int64{10 * n, n}, [2]int64{10 * n, 0}
		k.compare(now.Add(time.Duration(n) * time.Second))
	}
	if seen := k.view.Seen[0]; seen.New.N != 0 || len(seen.Trace) != 0 {
		t.Errorf("the gate on health compared %+v", seen)
	}
	if seen := k.view.Seen[1]; seen.New != (gate.Count{N: 40, Bad: 4}) || len(seen.Trace) != 4 || seen.Trace[3].New != 0.1 || seen.Trace[3].Old != 0 {
		t.Errorf("the other saw %+v", seen)
	}
}

// TestWhoHeardIsToldNoMore, nor whoever is being told, nor before the pause is over; and an
// errand ends with its ticket.
func TestWhoHeardIsToldNoMore(t *testing.T) {
	k := newKeeper(&Control{Config: Config{Clock: clock.New()}, term: newTerm()}, "timetable", 1, nil)
	k.group.Group = fleet.Group{Name: "timetable", Settings: fleet.Settings{Hooks: []fleet.Hook{{Name: "warm-cache", At: fleet.AtLaunch, Send: "http://127.0.0.1:9/"}}}}
	in := fleet.Instance{ID: "timetable-001", Launch: 1, State: fleet.HeldIn, Tickets: []fleet.Ticket{{Hook: "warm-cache", At: fleet.AtLaunch, Launch: 1, State: fleet.TicketOpen}}}
	k.view.Instances = []fleet.Instance{in}
	k.kept[in.ID] = &kept{}
	key := ticketKey{in.ID, "warm-cache", 1}
	stopped := 0
	for what, e := range map[string]errand{"heard": {heard: true}, "being told": {busy: true}, "in its pause": {next: time.Now().Add(time.Hour)}} {
		e.stop = func() { stopped++ }
		k.errands[key] = &e
		k.announce(&in, k.kept[in.ID])
		if e.tries != 0 {
			t.Errorf("one that is %s is told again", what)
		}
		k.dropErrands()
		if k.errands[key] == nil {
			t.Errorf("the errand of one that is %s ended before its ticket", what)
		}
	}
	k.view.Instances[0].Tickets = []fleet.Ticket{{Hook: "warm-cache", At: fleet.AtLaunch, Launch: 1, State: fleet.TicketPassed}}
	k.dropErrands()
	if len(k.errands) != 0 || stopped != 1 {
		t.Errorf("%d errands are left of a ticket that is closed, and %d were stopped", len(k.errands), stopped)
	}
}

// commands is a driver that runs any command as it says.
type commands struct {
	machine.Driver
	ran machine.Ran
	err error
}

func (c commands) Run(context.Context, string, []string) (machine.Ran, error) { return c.ran, c.err }

// TestWhatACommandAnswers: status 0 passes and any other fails, with its last line; one that
// could not be run answers nothing.
func TestWhatACommandAnswers(t *testing.T) {
	for _, c := range []struct {
		with   commands
		answer fleet.Answer
		note   string
	}{
		{commands{ran: machine.Ran{Output: []byte("joined\nas 7\n")}}, fleet.Pass, "as 7"},
		{commands{ran: machine.Ran{Status: 3, Output: []byte("no room\n")}}, fleet.Fail, "status 3: no room"},
		{commands{ran: machine.Ran{Status: -1, Why: "killed by signal 9"}}, fleet.Fail, "killed by signal 9"},
		{commands{err: errors.New("its machine is gone")}, "", ""},
	} {
		ctl := &Control{Config: Config{Clock: clock.New(), Machines: c.with}}
		var d store.Delivery
		answer, note := ctl.runFor(context.Background(), fleet.Hook{Run: []string{"join"}}, fleet.Ticket{Bound: time.Now().Add(time.Minute)}, &d)
		if answer != c.answer || note != c.note || d.Heard != (c.answer != "") || d.Kind != "command" {
			t.Errorf("%+v answers %q, %q; recorded is %+v", c.with.ran, answer, note, d)
		}
	}
}
