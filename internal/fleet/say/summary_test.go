package say_test

import (
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rehearse"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/say"
)

var noon = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)

// servingGroup is a group of six, all of which have served for long at noon.
func servingGroup() fleet.View {
	w := rehearse.New(noon.Add(-time.Hour), fleet.View{Group: fleet.Group{Name: "timetable", Checks: []string{"sailings-up"}, Settings: fleet.Settings{
		Size: 6, Min: 3, Max: 9, Template: fleet.Version{Name: "timetable-web", N: 1}, Zones: []string{"east-pier", "mid-pier", "west-pier"},
		Heal: "sailings-up", Settle: time.Minute, Drain: 10 * time.Second,
	}}}, func(fleet.Instance) rehearse.Behaviour { return rehearse.Behaviour{} })
	w.Run(noon)
	return w.View
}

// roll begins a rollout of it, and has it in the second of three waves and in the state.
func roll(v *fleet.View, state fleet.RolloutState) {
	ws, _ := rollout.ParseWaves("1,50%,100%")
	r, _, err := fleet.Begin(noon, v.Group, v.Instances, fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 1}, RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1, Soak: time.Minute}}, nil)
	if err != nil {
		panic(err)
	}
	r.Wave, r.State, r.Back = 1, state, state == fleet.Reverting
	v.Rollout = &r
}

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
			v.Instances[2].State, v.Instances[2].Ordered, v.Instances[2].Up = fleet.Settling, noon, noon
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
		{"one is held by a hook", "5 of 6 serving, between 3 and 9, all on timetable-web@1; 1 coming up; waits for timetable-003, held by warm-cache for 14 s, usually 11 s.", func(v *fleet.View) {
			v.Instances[2].State, v.Instances[2].Ordered = fleet.HeldIn, noon.Add(-time.Minute)
			v.Instances[2].Tickets = []fleet.Ticket{{Hook: "join", State: fleet.TicketPassed}, {Hook: "warm-cache", State: fleet.TicketOpen, Opened: noon}}
			v.Holds = map[string]fleet.Usual{"warm-cache": {Median: 11 * time.Second}}
		}},
		{"it is frozen in a wave", "Frozen (lunch) in wave 2 of 3, 5 of 6 serving: 0 on timetable-web@2.", func(v *fleet.View) {
			roll(v, fleet.Moving)
			v.Group.Frozen, v.Instances = "lunch", v.Instances[:5]
		}},
		{"a wave moves and healing is stopped", "Wave 2 of 3, 6 of 6 serving: 0 on timetable-web@2. Healing stopped and asks for a person.", func(v *fleet.View) {
			roll(v, fleet.Moving)
			v.Group.HealStopped = noon
		}},
		{"it is being deleted", "Being deleted: 6 instances still to go.", func(v *fleet.View) { v.Group.Deleting = true }},
		{"a wave moves", "Wave 2 of 3, 4 of 6 serving: 1 on timetable-web@2; waits for timetable-002, ordered for 14 s, and 1 more.", func(v *fleet.View) {
			roll(v, fleet.Moving)
			v.Instances[0].Version.N = 2
			for i := 1; i < 3; i++ {
				v.Instances[i].Version.N, v.Instances[i].State, v.Instances[i].Ordered = 2, fleet.Ordered, noon
			}
		}},
		{"a wave soaks", "Wave 2 of 3 soaks, 6 of 6 serving: 0 on timetable-web@2, good for 14 s of 1 m.", func(v *fleet.View) { roll(v, fleet.Soaking) }},
		{"it is held", "Held in wave 2 of 3, 6 of 6 serving: a person asked to hold. Proceed or revert.", func(v *fleet.View) {
			roll(v, fleet.Held)
			v.Rollout.Cause = fleet.Cause{Code: fleet.CodeTold, About: "hold"}
		}},
		{"it is held on its way back", "Held on the way back to timetable-web@1, 6 of 6 serving: a person asked to hold: lunch. Revert goes on, proceed turns round.", func(v *fleet.View) {
			roll(v, fleet.Held)
			v.Rollout.Back, v.Rollout.Cause = true, fleet.Cause{Code: fleet.CodeTold, About: "hold", Words: "lunch"}
		}},
		{"one never became healthy and the rollout is held for it", "Held in wave 2 of 3, 5 of 6 serving: timetable-001 did not run within 1 m. Proceed or revert.", func(v *fleet.View) {
			roll(v, fleet.Held)
			v.Instances[0].State, v.Instances[0].Ordered = fleet.Booting, noon.Add(-time.Minute)
			v.Rollout.Cause = fleet.Cause{Code: fleet.CodeNotUp, Instance: "timetable-001", Numbers: fleet.Numbers{fleet.Measured("limit_seconds", 60)}}
		}},
		{"a slot is kept empty", "5 of 6 serving, between 3 and 9, all on timetable-web@1; 1 slot stays empty since a machine vanished, for heal is off.", func(v *fleet.View) {
			v.Instances, v.Group.Heal, v.Group.Slots = v.Instances[:5], fleet.HealOff, []fleet.Slot{{Number: 6, Failures: 1, Kept: true}}
		}},
		{"it goes back", "Reverting to timetable-web@1, 6 of 6 serving: 6 back.", func(v *fleet.View) { roll(v, fleet.Reverting) }},
		{"it goes back for a reason", "Reverting to timetable-web@1, 6 of 6 serving: 6 back. It goes back since a person asked to revert: too slow.", func(v *fleet.View) {
			roll(v, fleet.Reverting)
			v.Rollout.Turned = fleet.Cause{Code: fleet.CodeTold, About: "revert", Words: "too slow"}
		}},
		{"it is over, and went back", "The rollout to timetable-web@2 is reverted: a person asked to revert: too slow; 6 of 6 serve on timetable-web@1 again.", func(v *fleet.View) {
			roll(v, fleet.Reverted)
			v.Rollout.Turned = fleet.Cause{Code: fleet.CodeTold, About: "revert", Words: "too slow"}
			v.Rollout.Cause = fleet.Cause{Code: fleet.CodeBackWhole, About: "timetable-web@1", Numbers: fleet.Numbers{fleet.Measured("serving", 6), fleet.Measured("size", 6)}}
		}},
		{"it is over", "The rollout to timetable-web@2 is done: all stayed good.", func(v *fleet.View) {
			roll(v, fleet.Done)
			v.Rollout.Cause = fleet.Because("all stayed good")
		}},
	} {
		v := servingGroup()
		c.change(&v)
		if got := say.Summarise(later, v).Sentence; got != c.want {
			t.Errorf("%s:\ngot  %s\nwant %s", c.name, got, c.want)
		}
	}
}

func TestTimeLeft(t *testing.T) {
	v := servingGroup() // in wave 2 of 3, one at a time, one of six replaced
	roll(&v, fleet.Moving)
	v.Instances[0].Version.N, v.Instances[1].Version.N, v.Instances[1].State = 2, 2, fleet.Ordered
	v.Instances[1].Ordered = noon
	v.Usual = 10 * time.Second
	// wave 2: two more, wave 3: three more, and two soaks
	if got, want := say.Summarise(noon, v).Left, 5*10*time.Second+2*time.Minute; got != want {
		t.Errorf("%s are left, want %s", got, want)
	}
	one := servingGroup()
	one.Usual = 10 * time.Second
	if got := say.Summarise(noon, one).Left; got != 0 {
		t.Errorf("a whole group has %s left", got)
	}
	one.Instances[0].State, one.Instances[0].Ordered, one.Instances[0].Up = fleet.Settling, noon.Add(-4*time.Second), noon
	if got := say.Summarise(noon, one).Left; got != 6*time.Second {
		t.Errorf("an instance that came 4 s ago and takes 10 s has %s left", got)
	}
	v.Rollout.State = fleet.Held
	if got := say.Summarise(noon, v).Left; got != 0 {
		t.Errorf("a held rollout has %s left", got)
	}
}

func TestSlips(t *testing.T) {
	ill := []health.Report{{Verdict: health.Unhealthy}}
	for want, in := range map[string]fleet.Instance{
		"[2]": {State: fleet.Serving}, "!2!": {State: fleet.Serving, Reports: ill}, "(2)": {State: fleet.Settling},
		"/2/": {State: fleet.Draining}, "{2}": {State: fleet.HeldOut}, "~2~": {State: fleet.Lost},
	} {
		in.Version.N = 2
		if got := say.Slip(&in, false); got != want {
			t.Errorf("%s is %s, want %s", in.State, got, want)
		}
	}
}
