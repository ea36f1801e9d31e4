package fleet_test

import (
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

func TestSentences(t *testing.T) {
	later := noon.Add(14 * time.Second)
	for _, c := range []struct {
		name, want string
		change     func(v *fleet.View)
	}{
		{"all is well", "6 of 6 serving, between 3 and 9, all on timetable-web@1.", func(*fleet.View) {}},
		{"one is ill", "5 of 6 serving, between 3 and 9, all on timetable-web@1; 1 unhealthy.", func(v *fleet.View) {
			v.Instances[2].Reports = []health.Report{{Check: "sailings-up", Verdict: health.Unhealthy}}
		}},
		{"one comes up", "5 of 6 serving, between 3 and 9, all on timetable-web@1; 1 coming up; waits for timetable-003, settling for 14 s, usually 11 s.", func(v *fleet.View) {
			v.Instances[2].State, v.Instances[2].Ordered = fleet.Settling, noon
			v.Usual = 11 * time.Second
		}},
		{"one drains", "5 of 5 serving, between 3 and 9, all on timetable-web@1; waits for timetable-003, draining for 14 s, 2 requests in flight.", func(v *fleet.View) {
			v.Instances[2].State, v.Instances[2].Since, v.Instances[2].Traffic = fleet.Draining, noon, fleet.Traffic{Closed: true, InFlight: 2}
			v.Group.Size = 5
		}},
		{"two versions", "6 of 6 serving, between 3 and 9, 4 on timetable-web@1, 2 on timetable-web@2.", func(v *fleet.View) {
			v.Instances[0].Version.N, v.Instances[1].Version.N = 2, 2
		}},
		{"a zone backs off", "5 of 6 serving, between 3 and 9, all on timetable-web@1; launches in west-pier back off after 3 failures.", func(v *fleet.View) {
			v.Instances = v.Instances[:5]
			v.Group.Setbacks = []fleet.Setback{{Zone: "old-pier", Count: 9, Until: later.Add(time.Second)}, {Zone: "mid-pier", Count: 8, Until: later},
				{Zone: "west-pier", Count: 3, Until: later.Add(time.Second)}} // not its own any more, over, and the one that is waited for
		}},
		{"it is frozen in a wave", "Frozen (lunch) in wave 2 of 3, 5 of 6 serving: 0 of 6 on timetable-web@2.", func(v *fleet.View) {
			roll(v, fleet.Moving)
			v.Group.Frozen, v.Instances = "lunch", v.Instances[:5]
		}},
		{"a wave moves and healing is stopped", "Wave 2 of 3: 0 of 6 on timetable-web@2. Healing stopped and asks for a person.", func(v *fleet.View) {
			roll(v, fleet.Moving)
			v.Group.HealStopped = noon
		}},
		{"it is being deleted", "Being deleted: 6 instances still to go.", func(v *fleet.View) { v.Group.Deleting = true }},
		{"a wave moves", "Wave 2 of 3: 1 of 6 on timetable-web@2; waits for timetable-002, ordered for 14 s, and 1 more.", func(v *fleet.View) {
			roll(v, fleet.Moving)
			v.Instances[0].Version.N = 2
			for i := 1; i < 3; i++ {
				v.Instances[i].Version.N, v.Instances[i].State, v.Instances[i].Ordered = 2, fleet.Ordered, noon
			}
		}},
		{"a wave soaks", "Wave 2 of 3 soaks: 0 of 6 on timetable-web@2, good for 14 s of 1 m.", func(v *fleet.View) { roll(v, fleet.Soaking) }},
		{"it is held", "Held in wave 2 of 3, 6 of 6 serving: a person asked to hold. Proceed or revert.", func(v *fleet.View) {
			roll(v, fleet.Held)
			v.Rollout.Why = "a person asked to hold"
		}},
		{"it goes back", "Reverting to timetable-web@1: 6 of 6 back.", func(v *fleet.View) { roll(v, fleet.Reverting) }},
		{"it is over", "The rollout to timetable-web@2 is done: all stayed good.", func(v *fleet.View) {
			roll(v, fleet.Done)
			v.Rollout.Why = "all stayed good"
		}},
	} {
		v := servingGroup(6)
		v.Group.Min, v.Group.Max = 3, 9
		c.change(&v)
		if got := fleet.Summarise(later, v).Sentence; got != c.want {
			t.Errorf("%s:\ngot  %s\nwant %s", c.name, got, c.want)
		}
	}
}

func roll(v *fleet.View, state fleet.RolloutState) {
	v.Rollout = inRollout(6).Rollout
	v.Rollout.State, v.Rollout.Since, v.Rollout.Soak = state, noon, time.Minute
}

func TestTimeLeft(t *testing.T) {
	v := inRollout(6) // in wave 2 of 3, one at a time, one of six replaced
	v.Usual = 10 * time.Second
	v.Rollout.Soak = time.Minute
	// wave 2: two more, wave 3: three more, and two soaks
	if got, want := fleet.Summarise(noon, v).Left, 5*10*time.Second+2*time.Minute; got != want {
		t.Errorf("%s are left, want %s", got, want)
	}
	one := servingGroup(6)
	one.Usual = 10 * time.Second
	if got := fleet.Summarise(noon, one).Left; got != 0 {
		t.Errorf("a whole group has %s left", got)
	}
	one.Instances[0].State, one.Instances[0].Ordered = fleet.Settling, noon.Add(-4*time.Second)
	if got := fleet.Summarise(noon, one).Left; got != 6*time.Second {
		t.Errorf("an instance that came 4 s ago and takes 10 s has %s left", got)
	}
	v.Rollout.State = fleet.Held
	if got := fleet.Summarise(noon, v).Left; got != 0 {
		t.Errorf("a held rollout has %s left", got)
	}
}

func TestSlips(t *testing.T) {
	ill := []health.Report{{Verdict: health.Unhealthy}}
	for want, in := range map[string]fleet.Instance{
		"[2]": {State: fleet.Serving}, "!2!": {State: fleet.Serving, Reports: ill}, "(2)": {State: fleet.Settling},
		"/2/": {State: fleet.Draining}, "~2~": {State: fleet.Lost},
	} {
		in.Version.N = 2
		if got := in.Slip(); got != want {
			t.Errorf("%s is %s, want %s", in.State, got, want)
		}
	}
}
