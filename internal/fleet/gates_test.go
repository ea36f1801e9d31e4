package fleet_test

import (
	"errors"
	"math"
	"reflect"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/rollout"
)

// gated begins a rollout of twelve in one canary and the rest, which soaks since noon with
// the gates.
func gated(t *testing.T, gates ...gate.Gate) fleet.View {
	t.Helper()
	v := servingGroup(12)
	ws, _ := rollout.ParseWaves("1,100%")
	r, _, err := fleet.Begin(noon, v.Group, v.Instances, fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 1}, RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1, Soak: time.Minute, Gates: gates}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	v.Instances[0].Version = r.To
	r.State = fleet.Soaking
	v.Rollout = &r
	return v
}

// seen is what was seen of one gate: so many of new, of which bad ones, and evidence.
func seen(n, bad int64, evidence float64) []gate.Comparison {
	return []gate.Comparison{{New: gate.Count{N: n, Bad: bad}, Old: gate.Count{N: 5 * n}, LogE: math.Log(evidence)}}
}

// TestABrokenGate holds or reverts, on the numbers that it broke on, and is answered when a
// person has the rollout proceed.
func TestABrokenGate(t *testing.T) {
	soon := noon.Add(10 * time.Second)
	for _, c := range []struct {
		then gate.Then
		want fleet.RolloutState
	}{{gate.Revert, fleet.Reverting}, {gate.Hold, fleet.Held}} {
		g := gate.Usual()
		g.OnBroken = c.then
		v := gated(t, g)
		v.Seen = seen(300, 15, 99)
		if d := fleet.Decide(soon, v); d.Rollout != nil || d.Again.Sub(soon) != time.Second {
			t.Fatalf("at 99 it is decided %+v, and looked at again at %s", d.Rollout, d.Again)
		}
		v.Seen = seen(300, 15, 101)
		d := fleet.Decide(soon, v)
		if d.Rollout == nil || d.Rollout.State != c.want || d.Rollout.Back != (c.then == gate.Revert) {
			t.Fatalf("%s: the rollout is %+v", c.then, d.Rollout)
		}
		if n := d.Rollout.Cause.Numbers; d.Rollout.Cause.Code != fleet.CodeGateBroke || n.Get("new_percent") != 5 || n.Int("old_requests") != 1500 || math.Abs(n.Get("evidence")-101) > 1e-6 {
			t.Errorf("its cause is %+v", d.Rollout.Cause)
		}
		if back := c.then == gate.Revert; (d.Rollout.Turned.Code == fleet.CodeGateBroke) != back {
			t.Errorf("it goes back (%v) for %+v", back, d.Rollout.Turned)
		}
		if !reflect.DeepEqual(d.Rollout.Gates[0].Seen, v.Seen[0]) {
			t.Errorf("it keeps that the gate saw %+v", d.Rollout.Gates[0].Seen)
		}
		again, _, err := d.Rollout.Tell(soon, fleet.CommandProceed, "known")
		if err != nil || !reflect.DeepEqual(again.Gates[0].Seen, gate.Comparison{}) || again.State != fleet.Moving || again.Turned.Code != "" {
			t.Errorf("after proceed: %+v (%v)", again.Gates, err)
		}
		if !reflect.DeepEqual(d.Rollout.Gates[0].Seen, v.Seen[0]) {
			t.Error("telling the next changes the one before")
		}
	}
}

// TestTwoGatesShareWhatChanceMayDo: each breaks at half of it.
func TestTwoGatesShareWhatChanceMayDo(t *testing.T) {
	v := gated(t, gate.Usual(), gate.Usual())
	v.Seen = append(seen(300, 15, 150), gate.Comparison{})
	if d := fleet.Decide(noon.Add(time.Second), v); d.Rollout != nil {
		t.Errorf("at 150 it is decided %+v", d.Rollout)
	}
	v.Seen = append(seen(300, 15, 201), gate.Comparison{})
	if d := fleet.Decide(noon.Add(time.Second), v); d.Rollout == nil || d.Rollout.State != fleet.Reverting {
		t.Errorf("at 201 it is decided %+v", d.Rollout)
	}
}

// TestAnUndecidedGate at the end of the soak: goes on, is held, or lasts longer and is held
// then; by what was seen in this wave.
func TestAnUndecidedGate(t *testing.T) {
	over := noon.Add(time.Minute)
	for _, c := range []struct {
		then   gate.Then
		before int64
		n      int64
		at     time.Time
		want   fleet.RolloutState // "" when nothing is decided
	}{
		{gate.GoOn, 0, 10, over, fleet.Moving},
		{gate.Hold, 0, 199, over, fleet.Held},
		{gate.Hold, 0, 200, over, fleet.Moving},
		{gate.Hold, 100, 200, over, fleet.Held}, // of which 100 before this wave
		{gate.Hold, 0, 10, over.Add(-time.Second), ""},
		{gate.Extend, 0, 199, over, ""},
		{gate.Extend, 0, 200, over.Add(time.Second), fleet.Moving},
		{gate.Extend, 0, 199, over.Add(time.Minute), fleet.Held},
	} {
		g := gate.Usual()
		g.MinRequests, g.OnUndecided, g.Before = 200, c.then, c.before
		v := gated(t, g)
		v.Rollout.Gates[0].Before = c.before
		v.Seen = seen(c.n, 0, 1)
		d := fleet.Decide(c.at, v)
		switch {
		case c.want == "" && d.Rollout != nil, c.want != "" && (d.Rollout == nil || d.Rollout.State != c.want):
			t.Errorf("%s with %d seen at %s: %+v", c.then, c.n, c.at.Sub(noon), d.Rollout)
		case c.want == fleet.Moving && (d.Rollout.Wave != 1 || d.Rollout.Gates[0].Before != c.n):
			t.Errorf("%s: the next wave is %d, and begins after %d", c.then, d.Rollout.Wave, d.Rollout.Gates[0].Before)
		case c.want == fleet.Held && d.Rollout.Cause.Code != fleet.CodeGateUndecided:
			t.Errorf("%s: it is held for %+v", c.then, d.Rollout.Cause)
		}
	}
}

// TestTheShorterWait: of two undecided gates the one that holds does not wait for the other.
func TestTheShorterWait(t *testing.T) {
	wait, hold := gate.Usual(), gate.Usual()
	wait.MinRequests, wait.OnUndecided, hold.MinRequests, hold.OnUndecided = 200, gate.Extend, 200, gate.Hold
	v := gated(t, wait, hold)
	v.Seen = append(seen(10, 0, 1), seen(10, 0, 1)...)
	if d := fleet.Decide(noon.Add(time.Minute), v); d.Rollout == nil || d.Rollout.State != fleet.Held {
		t.Errorf("at the end of the soak it is decided %+v", d.Rollout)
	}
}

// TestAClockThatIsSetForgetsNothing of what the gates saw.
func TestAClockThatIsSetForgetsNothing(t *testing.T) {
	v := gated(t, gate.Usual())
	v.Seen = seen(300, 3, 7)
	if d := v.Shift(time.Hour); !reflect.DeepEqual(d.Rollout.Gates[0].Seen, v.Seen[0]) {
		t.Errorf("it is written that the gate saw %+v", d.Rollout.Gates[0].Seen)
	}
}

// TestGatesOfARevert decide nothing: what went before is what it goes back to.
func TestGatesOfARevert(t *testing.T) {
	v := gated(t, gate.Usual())
	v.Rollout.State, v.Rollout.Back = fleet.Reverting, true
	v.Seen = seen(300, 300, 1e6)
	if d := fleet.Decide(noon.Add(time.Second), v); d.Rollout != nil {
		t.Errorf("it is decided %+v", d.Rollout)
	}
}

func TestWhoCounts(t *testing.T) {
	g := gate.Usual()
	g.Warm = 10 * time.Second
	for _, c := range []struct {
		state  fleet.State
		served time.Duration
		counts bool
	}{
		{fleet.Serving, time.Minute, true}, {fleet.Serving, 10 * time.Second, true}, {fleet.Serving, 9 * time.Second, false},
		{fleet.Draining, time.Minute, false}, {fleet.Settling, time.Minute, false}, {fleet.Parked, time.Minute, false},
	} {
		in := fleet.Instance{State: c.state, Since: noon.Add(-c.served)}
		if got := in.CountsFor(noon, g); got != c.counts {
			t.Errorf("one that is %s for %s counts: %v", c.state, c.served, got)
		}
	}
}

func TestGatesThatAreRefused(t *testing.T) {
	for field, change := range map[string]func(g *gate.Gate){
		"gates/0/kind":           func(g *gate.Gate) { g.Kind = "luck" },
		"gates/0/margin_percent": func(g *gate.Gate) { g.Margin = math.NaN() },
		"gates/0/warm_seconds":   func(g *gate.Gate) { g.Warm = -1 },
		"gates/0/on_broken":      func(g *gate.Gate) { g.OnBroken = gate.GoOn },
		"gates/0/min_requests":   func(g *gate.Gate) { g.MinRequests = -1 },
		"gates/0/on_undecided":   func(g *gate.Gate) { g.OnUndecided = gate.Revert },
	} {
		v, g := servingGroup(3), gate.Usual()
		change(&g)
		ws, _ := rollout.ParseWaves("100%")
		_, _, err := fleet.Begin(noon, v.Group, v.Instances, fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1, Gates: []gate.Gate{g}}}, nil)
		var refusal *fleet.Refusal
		if !errors.As(err, &refusal) || refusal.Field != field {
			t.Errorf("%s is refused as %v", field, err)
		}
	}
}

// TestOfTooFewItOnlyHolds: a gate on a metric that breaks on two new instances holds, whatever it says; on three
// it sends back.
func TestOfTooFewItOnlyHolds(t *testing.T) {
	for fresh, want := range map[int]fleet.RolloutState{2: fleet.Held, 3: fleet.Reverting} {
		v := gated(t, gate.Gate{Kind: gate.Metric, Metric: "cpu", At: 80, Margin: 0.1, OnBroken: gate.Revert, OnUndecided: gate.GoOn})
		for k := range fresh {
			v.Instances[k].Version = v.Rollout.To
		}
		v.Seen = seen(30, 30, 200)
		if d := fleet.Decide(noon.Add(time.Second), v); d.Rollout == nil || d.Rollout.State != want {
			t.Errorf("on %d new instances it is %+v, not %s", fresh, d.Rollout, want)
		}
	}
}

// TestProceedAnswersWhatWasUndecided: a wave that was held for want of requests goes on once a person says so,
// though there are none still.
func TestProceedAnswersWhatWasUndecided(t *testing.T) {
	g := gate.Usual()
	g.MinRequests, g.OnUndecided = 100, gate.Hold
	v := gated(t, g)
	over := noon.Add(2 * time.Minute)
	d := fleet.Decide(over, v)
	if d.Rollout == nil || d.Rollout.State != fleet.Held || d.Rollout.Cause.Code != fleet.CodeGateUndecided {
		t.Fatalf("without requests it is %+v", d.Rollout)
	}
	next, _, err := d.Rollout.Tell(over, fleet.CommandProceed, "")
	if err != nil {
		t.Fatal(err)
	}
	v.Rollout = &next
	if d = fleet.Decide(over, v); d.Rollout == nil || d.Rollout.State != fleet.Soaking {
		t.Fatalf("told to proceed it is %+v", d.Rollout)
	}
	v.Rollout = d.Rollout
	if d = fleet.Decide(over.Add(2*time.Minute), v); d.Rollout == nil || d.Rollout.Wave != 1 || d.Rollout.State != fleet.Moving {
		t.Errorf("and then %+v", d.Rollout)
	}
	other := *d.Rollout // the next wave is held for it again
	if other.Times[1].Waived || !other.Times[0].Waived {
		t.Errorf("the waves are %+v", other.Times)
	}
}

// TestAWaveWithNothingToCompareWith goes on as its gate says, and is held where most of what new answers is bad;
// at the end it is told that the gate says nothing.
func TestAWaveWithNothingToCompareWith(t *testing.T) {
	for bad, want := range map[int64]fleet.RolloutState{900: fleet.Held, 10: fleet.Done} {
		v := gated(t, gate.Usual())
		for k := range v.Instances {
			v.Instances[k].Version = v.Rollout.To
		}
		v.Rollout.Wave, v.Rollout.Times = 1, append(v.Rollout.Times, fleet.WaveTime{Began: noon, Filled: noon})
		v.Seen = []gate.Comparison{{New: gate.Count{N: 1000, Bad: bad}}}
		d := fleet.Decide(noon.Add(2*time.Minute), v)
		if d.Rollout == nil || d.Rollout.State != want {
			t.Fatalf("of 1,000 %d are bad, and it is %+v", bad, d.Rollout)
		}
		if to := v.Rollout.To; want == fleet.Held {
			if d.Rollout.Cause.Code != fleet.CodeGateAlone || d.Group == nil || !d.Group.Doubts(to) {
				t.Errorf("it is held for %+v, and the group is %+v", d.Rollout.Cause, d.Group)
			}
			next, _, _ := d.Rollout.Tell(noon.Add(2*time.Minute), fleet.CommandProceed, "")
			if !next.Times[1].Waived {
				t.Error("who has it proceed is asked again")
			}
		}
		if want == fleet.Done && d.Rollout.Cause.Numbers.Int("undecided_errors") != 1 {
			t.Errorf("that the gate says nothing is not told: %+v", d.Rollout.Cause)
		}
	}
}

// TestWhatIsComparedWith is what the rollout comes from and what ran beside that.
func TestWhatIsComparedWith(t *testing.T) {
	r := fleet.Rollout{RolloutBook: fleet.RolloutBook{From: fleet.Version{Name: "a", N: 1}, Before: []fleet.VersionCount{{Version: fleet.Version{Name: "a", N: 2}, N: 1}}}, RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "a", N: 4}}}
	for n, want := range map[int]bool{1: true, 2: true, 3: false, 4: false} {
		if got := r.RanBefore(fleet.Version{Name: "a", N: n}); got != want {
			t.Errorf("a@%d ran before: %v", n, got)
		}
	}
}
