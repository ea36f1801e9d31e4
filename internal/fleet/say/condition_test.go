package say_test

import (
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/say"
)

// TestCondition: how a group stands is told from what serves, not from how it is going.
func TestCondition(t *testing.T) {
	now := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	group := fleet.Group{Name: "timetable", Checks: []string{"sailings-up"}, Settings: fleet.Settings{Size: 2, Min: 1, Max: 4, Zones: []string{"east-pier"}, Heal: "sailings-up", Settle: time.Minute}}
	in := func(state fleet.State, v health.Verdict, served bool) fleet.Instance {
		i := fleet.Instance{ID: "timetable-001", Zone: "east-pier", State: state, Ordered: now.Add(-time.Second), Since: now.Add(-time.Second),
			Reports: []health.Report{{Check: "sailings-up", Verdict: v}}}
		if served {
			i.Served = now.Add(-time.Second)
		}
		return i
	}
	waves, _ := rollout.ParseWaves("100%")
	well, ill, coming := in(fleet.Serving, health.Healthy, true), in(fleet.Serving, health.Unhealthy, true), in(fleet.Settling, health.Unknown, false)
	again := in(fleet.Settling, health.Unknown, true)
	for _, c := range []struct {
		name string
		view fleet.View
		want say.Condition
		need string
	}{
		{"all serve", fleet.View{Group: group, Instances: []fleet.Instance{well, well}}, say.Complete, ""},
		{"one comes up", fleet.View{Group: group, Instances: []fleet.Instance{well, coming}}, say.Changing, ""},
		{"it has only just been made", fleet.View{Group: group, Instances: []fleet.Instance{coming, coming}}, say.Changing, ""},
		{"nothing serves", fleet.View{Group: group, Instances: []fleet.Instance{again, coming}}, say.Down, ""},
		{"all are ill", fleet.View{Group: group, Instances: []fleet.Instance{ill, ill}}, say.Down, ""},
		{"one is ill", fleet.View{Group: group, Instances: []fleet.Instance{well, ill}}, say.Short, ""},
		{"one is missing and none comes", fleet.View{Group: group, Instances: []fleet.Instance{well}}, say.Short, ""},
		{"fewer than min", fleet.View{Group: with(group, func(g *fleet.Group) { g.Min = 2 }), Instances: []fleet.Instance{well, coming}}, say.Short, ""},
		{"a rollout", fleet.View{Group: group, Instances: []fleet.Instance{well, well}, Rollout: &fleet.Rollout{RolloutBook: fleet.RolloutBook{State: fleet.Moving}, RolloutSettings: fleet.RolloutSettings{Waves: waves}}}, say.Changing, ""},
		{"a rollout that is held", fleet.View{Group: group, Instances: []fleet.Instance{well, well}, Rollout: &fleet.Rollout{RolloutBook: fleet.RolloutBook{State: fleet.Held}, RolloutSettings: fleet.RolloutSettings{Waves: waves}}}, say.Changing, "is held"},
		{"one more is ill than should be there", fleet.View{Group: group, Instances: []fleet.Instance{well, well, ill}}, say.Changing, ""},
		{"no size", fleet.View{Group: with(group, func(g *fleet.Group) { g.Size, g.Min = 0, 0 })}, say.Complete, ""},
		{"frozen", fleet.View{Group: with(group, func(g *fleet.Group) { g.Frozen = "storm" }), Instances: []fleet.Instance{well, well}}, say.Complete, "It is frozen (storm)"},
		{"healing stopped", fleet.View{Group: with(group, func(g *fleet.Group) { g.HealStopped, g.HealLimit = now, 30 }), Instances: []fleet.Instance{well, ill}}, say.Short, "more than 30 %"},
		{"nobody heals", fleet.View{Group: with(group, func(g *fleet.Group) { g.Heal = fleet.HealOff }), Instances: []fleet.Instance{well, ill}}, say.Short, "1 instance is unhealthy, and heal is off"},
		{"a slot that fails", fleet.View{Group: with(group, func(g *fleet.Group) { g.Slots = []fleet.Slot{{Number: 1, Failures: 3}} }), Instances: []fleet.Instance{coming}}, say.Down, "1 slot failed again and again, up to 3 times"},
		{"stuck", fleet.View{Group: group, Instances: []fleet.Instance{well, well}, Stuck: "the database is full"}, say.Complete, "the database is full"},
	} {
		s := say.Summarise(now, c.view)
		if s.Condition != c.want || (c.need == "") != (len(s.Needs) == 0) || !strings.Contains(strings.Join(s.Needs, " "), c.need) {
			t.Errorf("%s: the group is %s and needs %q, want %s and %q (%s)", c.name, s.Condition, s.Needs, c.want, c.need, s.Sentence)
		}
	}
	// A zone is lost when nothing of it serves and launches there wait; one that is empty is not.
	lost := with(group, func(g *fleet.Group) {
		g.Zones = []string{"east-pier", "mid-pier", "west-pier"}
		g.Setbacks = []fleet.Setback{{Zone: "mid-pier", Count: 2, Until: now.Add(time.Second)}, {Zone: "east-pier", Count: 1, Until: now.Add(time.Second)}, {Zone: "west-pier", Count: 1, Until: now}}
	})
	s := say.Summarise(now, fleet.View{Group: lost, Instances: []fleet.Instance{well}})
	for k, want := range []bool{false, true, false} {
		if s.Zones[k].Lost != want {
			t.Errorf("%s is lost: %v", s.Zones[k].Zone, s.Zones[k].Lost)
		}
	}
}

func with(g fleet.Group, change func(*fleet.Group)) fleet.Group {
	change(&g)
	return g
}
