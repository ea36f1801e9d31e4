package rehearse

import (
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rollout"
)

// staged is a plan for a group of so many that serve.
func staged(t *testing.T, size int, waves string, soak time.Duration) Plan {
	t.Helper()
	g := fleet.Group{Name: "timetable", Checks: []string{"sailings-up"}, Settings: fleet.Settings{Size: size, Max: size, Template: fleet.Version{Name: "timetable-web", N: 1},
		Zones: []string{"east-pier", "mid-pier", "west-pier"}, Heal: "sailings-up", HealLimit: 30, Settle: 20 * time.Second, Drain: 5 * time.Second, Above: 1}}
	g.NextSerial = size
	ws, err := rollout.ParseWaves(waves)
	if err != nil {
		t.Fatal(err)
	}
	p := Plan{View: fleet.View{Group: g, Watched: epoch}, Runs: 1, Seed: 1, Rate: 300, Errors: 0.001,
		Rollout: fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1, Soak: soak, Gates: []gate.Gate{gate.Usual()}}},
		Boots:   []time.Duration{2 * time.Second, 3 * time.Second}, Settles: []time.Duration{time.Second}, Drains: []time.Duration{100 * time.Millisecond}}
	for n := range size {
		p.View.Instances = append(p.View.Instances, fleet.Instance{ID: "timetable-" + string(rune('a'+n%26)) + time.Duration(n).String(), Serial: n + 1, Slot: n + 1, Launch: 1, Zone: g.Zones[n%3], Version: g.Template,
			State: fleet.Serving, Since: epoch.Add(-time.Hour), Ordered: epoch.Add(-time.Hour), Up: epoch.Add(-time.Hour), Served: epoch.Add(-time.Hour),
			Reports: []health.Report{{Check: "sailings-up", Verdict: health.Healthy, Since: epoch.Add(-time.Hour)}}})
	}
	return p
}

func played(t *testing.T, p Plan) []Run {
	t.Helper()
	runs, err := p.Play()
	if err != nil {
		t.Fatal(err)
	}
	return runs
}

// TestASeedPlaysTheSame, and another plays something else; nothing of the plan changes.
func TestASeedPlaysTheSame(t *testing.T) {
	p := staged(t, 6, "1,50%,100%", 10*time.Second)
	p.Runs = 3
	before := len(p.View.Instances)
	one, two := played(t, p), played(t, p)
	if !reflect.DeepEqual(one, two) {
		t.Error("the same plan played differently")
	}
	if reflect.DeepEqual(one[0].Points, one[1].Points) {
		t.Error("another seed plays the same")
	}
	if len(p.View.Instances) != before || p.View.Instances[0].State != fleet.Serving {
		t.Error("the group of the plan changed")
	}
	for _, r := range one {
		// Six boots of 2 to 3 s and 1 s to settle, one after another, and three soaks.
		if r.State != fleet.Done || r.Took < 6*3*time.Second+30*time.Second || r.Took > 6*4*time.Second+32*time.Second || r.Lowest != 6 || r.Most < 7 || r.Most > 8 {
			t.Errorf("it came to %s after %s, lowest %d, most %d", r.State, r.Took, r.Lowest, r.Most)
		}
	}
}

// TestABadVersionIsCaughtInItsCanary: 5 % errors against 0.1 %, within a soak of 60 s at 50
// requests a second to it, in at least 99 of 100 runs; an equal version looked at 3,600
// times is stopped in at most 1 of 100.
func TestABadVersionIsCaughtInItsCanary(t *testing.T) {
	p := staged(t, 6, "1,100%", time.Minute)
	p.Runs = 100
	p.Faults = []Fault{{Kind: NewErrors, Share: 0.049}}
	caught := 0
	for _, r := range played(t, p) {
		if r.State == fleet.Reverted && r.Wave == 1 && r.Turned <= 65*time.Second && r.Asked > 0 && r.Lowest == 6 {
			caught++
		}
	}
	if caught < 99 {
		t.Errorf("it was caught in %d of 100 runs", caught)
	}
	p = staged(t, 6, "1,100%", 30*time.Minute)
	p.Runs = 100
	stopped := 0
	for _, r := range played(t, p) {
		if r.State != fleet.Done {
			stopped++
		}
	}
	if stopped > 1 {
		t.Errorf("an equal version was stopped in %d of 100 runs", stopped)
	}
}

// TestFaultsStrike: what goes wrong in a rehearsal does, and costs at most the canary.
func TestFaultsStrike(t *testing.T) {
	for text, want := range map[string]func(r Run) bool{
		"new-version-unhealthy":          func(r Run) bool { return r.State == fleet.Held && r.Wave == 1 && r.Lowest == 6 },
		"new-version-crashes-after=5s":   func(r Run) bool { return r.State == fleet.Held && r.Wave == 1 && r.Lowest >= 5 },
		"zone=mid-pier@wave2":            func(r Run) bool { return r.Lowest == 4 && r.State == fleet.Done },
		"zone=mid-pier@3s":               func(r Run) bool { return r.Lowest <= 5 && r.State == fleet.Done },
		"slow-boots=3x":                  func(r Run) bool { return r.State == fleet.Done && r.Took > 6*9*time.Second },
		"service-down=10m@wave2":         func(r Run) bool { return r.State == fleet.Done && r.Took > 10*time.Minute && r.Lowest == 6 },
		"errors=20%":                     func(r Run) bool { return r.State == fleet.Reverted && r.Wave == 1 },
		"new-version-crashes-after=1h1s": func(r Run) bool { return r.State == fleet.Done },
	} {
		p := staged(t, 6, "1,50%,100%", 30*time.Second)
		f, err := ParseFault(text, p.View.Group.Zones)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		p.Faults = []Fault{f}
		if r := played(t, p)[0]; !want(r) {
			t.Errorf("%s comes to %s in wave %d after %s, lowest %d: %+v", text, r.State, r.Wave, r.Took, r.Lowest, r.Cause)
		}
	}
	for _, bad := range []string{"", "zone=far-pier", "zone", "errors=2", "errors=0%", "slow-boots=0.5x", "new-version-unhealthy=yes", "new-version-unhealthy@wave2", "service-down=0s", "zone=mid-pier@wave0", "zone=mid-pier@soon", "fire"} {
		if f, err := ParseFault(bad, []string{"mid-pier"}); err == nil {
			t.Errorf("%q is read as %+v", bad, f)
		}
	}
}

// TestManyRehearseWithinASecond: ten thousand instances; the limit here is for a busy machine.
func TestManyRehearseWithinASecond(t *testing.T) {
	p := staged(t, 10_000, "1,25%,100%", 30*time.Second)
	p.Rollout.Above = 500
	begun := time.Now()
	r := played(t, p)[0]
	t.Logf("10,000 instances in %s: %s after %s", time.Since(begun).Round(time.Millisecond), r.State, r.Took)
	if took := time.Since(begun); took > 5*time.Second || r.State != fleet.Done || r.Lowest != 10_000 || len(r.Points) > mostPoints {
		t.Errorf("it took %s and came to %s, lowest %d, %d points", took, r.State, r.Lowest, len(r.Points))
	}
}

// TestARehearsalIsBrokenOff between runs and in one.
func TestARehearsalIsBrokenOff(t *testing.T) {
	p := staged(t, 6, "1,50%,100%", 10*time.Second)
	p.Runs = 50
	asked := 0
	p.Enough = func() bool { asked++; return true }
	if runs := played(t, p); len(runs) >= 50 {
		t.Errorf("%d runs were played, and it was asked %d times", len(runs), asked)
	}
	p = staged(t, 200, "100%", 0)
	p.Enough = func() bool { return true }
	if runs := played(t, p); len(runs) != 0 {
		t.Errorf("a run that was broken off counts: %+v", runs[0].State)
	}
}

// TestDecidedAgain: of random lives with rollouts, hooks and failing machines the journal is
// enough to find the same decisions; and where a line says otherwise, that is found.
func TestDecidedAgain(t *testing.T) {
	moments := 0
	for seed := uint64(1); seed <= 150; seed++ {
		view, lines, state := lived(t, seed)
		got := Again(view, lines, "unitas")
		moments += got.Moments
		if got.Same != got.Moments || got.State != state || got.Stopped != "" {
			t.Fatalf("seed %d: %d of %d are the same, it ends %s and not %s (%s): %+v", seed, got.Same, got.Moments, got.State, state, got.Stopped, got.Differences)
		}
		for k, l := range lines {
			if l.Kind == "instance.draining" {
				lines[k].Instance = "timetable-999"
				if got := Again(view, lines, "unitas"); got.Same == got.Moments {
					t.Fatalf("seed %d: that another was sent away is not found", seed)
				}
				break
			}
		}
	}
	if moments < 1000 {
		t.Errorf("only %d moments were decided again", moments)
	}
}

// lived is the view at the begin of a rollout, and the journal since, of a random life.
func lived(t *testing.T, seed uint64) (fleet.View, []Told, fleet.RolloutState) {
	r := rand.New(rand.NewPCG(seed, 7))
	upTo := func(d time.Duration) time.Duration {
		return time.Duration(r.Int64N(int64(d))).Truncate(time.Millisecond)
	}
	p := staged(t, 1+r.IntN(8), []string{"1,100%", "1,50%,100%", "100%"}[r.IntN(3)], upTo(20*time.Second))
	view := p.View
	view.Watched = time.Time{}
	view.Group.HooksAtOnce = r.IntN(2) == 0
	if r.IntN(2) == 0 {
		view.Group.Hooks = []fleet.Hook{{Name: "join", At: fleet.AtLaunch, Deadline: 10 * time.Second, MaxDeadline: 10 * time.Second, Otherwise: fleet.Fail},
			{Name: "save", At: fleet.AtRetire, Deadline: 5 * time.Second, MaxDeadline: 5 * time.Second, Otherwise: fleet.Pass}}
	}
	w := New(epoch, view, func(in fleet.Instance) Behaviour {
		b := Behaviour{Boot: upTo(4 * time.Second), Well: upTo(4 * time.Second), Finish: upTo(8 * time.Second), Grace: upTo(time.Second)}
		switch r.IntN(12) {
		case 0:
			b.Well = -1
		case 1:
			b.Refused = true
		case 2:
			b.Vanish = time.Second + upTo(30*time.Second)
		case 3:
			b.Ill = []time.Duration{b.Boot + b.Well + upTo(20*time.Second)}
		}
		return b
	})
	w.Answers = func(fleet.Instance, fleet.Ticket) Answering {
		return Answering{After: upTo(12*time.Second) - 2*time.Second, Fails: r.IntN(8) == 0}
	}
	for i := range view.Instances {
		in := &w.View.Instances[i]
		w.Machines[in.ID] = &Machine{Behaviour: Behaviour{Finish: upTo(8 * time.Second)}, Launch: 1, Running: true, Open: true, Good: true, Bad: map[string]time.Time{}, Passed: map[string]bool{}}
		in.Machine = fleet.Machine{State: fleet.MachineRunning, Launch: 1}
	}
	p.Rollout.ID, p.Rollout.Gates = 1, nil
	p.Rollout.Order = []fleet.Order{fleet.Mixed, fleet.ZoneByZone, fleet.OldestFirst}[r.IntN(3)]
	ro, _, err := fleet.Begin(epoch, view.Group, w.View.Instances, p.Rollout, nil)
	if err != nil {
		t.Fatal(err)
	}
	stage := w.View
	stage.Instances = append([]fleet.Instance{}, w.View.Instances...)
	for i := range stage.Instances { // no record has what a machine is
		stage.Instances[i].Machine, stage.Instances[i].Traffic = fleet.Machine{}, fleet.Traffic{}
	}
	begun := ro
	stage.Rollout = &begun
	w.View.Rollout = &ro
	w.Stop = func() bool { return w.View.Rollout == nil }
	var times []time.Time // of the lines: decisions of one moment are told apart by a nanosecond
	w.OnDecision = func(fleet.View, fleet.Decision) {
		for len(times) < len(w.Journal) {
			times = append(times, w.Now.Add(time.Duration(w.Decisions)))
		}
	}
	w.Run(epoch.Add(10 * time.Minute))
	var lines []Told
	for k, l := range w.Journal[:len(times)] {
		actor := "unitas"
		if strings.HasPrefix(l.Kind, "ticket.") && (l.Kind == "ticket.passed" || l.Kind == "ticket.failed") {
			actor = "hook join"
		}
		lines = append(lines, Told{times[k], actor, l.Entry})
	}
	state := ro.State
	if len(w.Ended) > 0 {
		state = w.Ended[0].State
	} else if w.View.Rollout != nil {
		state = w.View.Rollout.State
	}
	return stage, lines, state
}

// TestHowManyGoWrong: as many as their chance says, by either way of drawing.
func TestHowManyGoWrong(t *testing.T) {
	for _, c := range []struct {
		n int64
		p float64
	}{{50, 0.001}, {50, 0.5}, {1000, 0.05}, {100_000, 0.3}, {7, 1}, {7, 0}} {
		s := &staging{r: rand.New(rand.NewPCG(3, 1))}
		var sum, squares float64
		const draws = 4000
		for range draws {
			bad := s.bad(c.n, c.p)
			if bad < 0 || bad > c.n {
				t.Fatalf("%d of %d", bad, c.n)
			}
			sum += float64(bad)
			squares += float64(bad) * float64(bad)
		}
		mean, want := sum/draws, float64(c.n)*c.p
		spread, wide := squares/draws-mean*mean, want*(1-c.p)
		if off := mean - want; off*off > 16*wide/draws+1e-9 || spread < 0.8*wide-1e-9 || spread > 1.2*wide+1e-9 {
			t.Errorf("of %d with the chance %g: mean %g and not %g, variance %g and not %g", c.n, c.p, mean, want, spread, wide)
		}
	}
}

// TestWhatRanBeforeIsKept: a rollout that is done leaves behind what the group ran before it;
// one that went back does not.
func TestWhatRanBeforeIsKept(t *testing.T) {
	for _, fault := range []string{"", "new-version-unhealthy"} {
		p := staged(t, 2, "1,100%", time.Second)
		s := &scenario{t: t, fate: map[string]Behaviour{}, zoneLost: map[string]bool{}, zoneHung: map[string]bool{}}
		s.group("timetable", map[string]string{"size": "2", "max": "4", "template": "timetable-web@1", "zones": "east-pier", "settle": "10s", "heal": "sailings-up"})
		s.w.Run(epoch.Add(10 * time.Second))
		if fault != "" {
			s.fate["timetable-web@2"] = Behaviour{Boot: time.Second, Well: -1}
		}
		if err := s.rollout("timetable-web@2", map[string]string{"waves": p.Rollout.Waves.String(), "above": "1"}); err != nil {
			t.Fatal(err)
		}
		s.w.Run(epoch.Add(11 * time.Second))
		s.w.Vanish("timetable-002", "killed by signal 9")
		s.w.Run(epoch.Add(time.Minute))
		want := fleet.Version{Name: "timetable-web", N: 1}
		if fault != "" {
			want = fleet.Version{}
		}
		if lowest := append(s.w.Ended, s.rolloutNow()...)[0].Lowest; lowest != 1 {
			t.Errorf("with %q %d of 2 served at the lowest, and one vanished", fault, lowest)
		}
		if got := s.w.View.Group.LastGood; got != want {
			t.Errorf("with %q it remembers %v, want %v", fault, got, want)
		}
	}
}

func (s *scenario) rolloutNow() []fleet.Rollout {
	if s.w.View.Rollout == nil {
		return nil
	}
	return []fleet.Rollout{*s.w.View.Rollout}
}
