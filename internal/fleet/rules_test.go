package fleet_test

import (
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
)

func ruled(rules ...scaling.Rule) fleet.Group {
	for k := range rules {
		rules[k].Complete()
	}
	return fleet.Group{Name: "timetable", Settings: fleet.Settings{Size: 3, Min: 1, Max: 9, Template: fleet.Version{Name: "timetable-web", N: 1},
		Zones: []string{"east-pier", "mid-pier", "west-pier"}, Settle: time.Minute, Rules: rules}}
}

// TestWhoIsMeasured: those that serve, once the time in which they may still come up is over.
func TestWhoIsMeasured(t *testing.T) {
	g := ruled()
	for state, want := range map[fleet.State]bool{fleet.Serving: true, fleet.Settling: false, fleet.Draining: false, fleet.Parked: false} {
		in := fleet.Instance{State: state, Up: noon.Add(-time.Minute)}
		if got := g.Measures(noon, &in); got != want {
			t.Errorf("one that is %s is measured: %v", state, got)
		}
		if in.Up = noon.Add(-59 * time.Second); g.Measures(noon, &in) {
			t.Errorf("one that is %s is measured before its settle time is over", state)
		}
	}
}

// TestARuleThatIsOff changes nothing, and says what it would.
func TestARuleThatIsOff(t *testing.T) {
	g := ruled(scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.CPU, KeepAt: 50, Off: true})
	v := fleet.View{Group: g, Sizing: fleet.Sizing{Points: map[string][]metric.Point{"even": {{At: noon, Value: 100, Of: 3, Serving: 3}}}}}
	verdicts, out := v.Judge(noon)
	if out.By != "" || out.Want != 3 || verdicts[0].Want != 6 {
		t.Errorf("it comes to %+v, and the rule wants %d", out, verdicts[0].Want)
	}
	if d := fleet.Decide(noon, v); d.Group != nil && d.Group.Size != 3 {
		t.Errorf("the size is %d", d.Group.Size)
	}
}

// asleep is a group that may be of size 0.
func asleep(rules ...scaling.Rule) fleet.Group {
	g := ruled(rules...)
	g.Min, g.Pools = 0, []string{"sailings"}
	return g
}

// TestAdviceOnRules: what is allowed and will hurt, with the numbers.
func TestAdviceOnRules(t *testing.T) {
	steady := scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.CPU, KeepAt: 60}
	grows := steady
	grows.GrowOnly = true
	flapping := scaling.Rule{Name: "busy", Kind: scaling.Trip, Metric: metric.CPU, Thresholds: []scaling.Line{
		{At: 60, For: time.Minute, Step: "+1"}, {Below: true, At: 45, For: time.Minute, Step: "-1"}}}
	for what, c := range map[string]struct {
		g      fleet.Group
		around fleet.RuleAround
		says   string
	}{
		"nothing":             {ruled(steady), fleet.RuleAround{Peak: 300}, ""},
		"never shrinks":       {ruled(grows), fleet.RuleAround{}, "No rule ever makes the group smaller"},
		"flaps":               {ruled(flapping), fleet.RuleAround{}, "The thresholds 45 and 60 flap: at 3 instances just under 45 %, the 2 that are left would be at 67.5 %, over 60 %, and it grows again."},
		"too small a max":     {ruled(steady), fleet.RuleAround{Peak: 400}, "Max is 9: after the loss of a zone the 6 that are left could not bear the most of the last day, which needed 7 at 60 %."},
		"at max for a week":   {ruled(steady), fleet.RuleAround{AtMax: time.Hour, Over: 59 * time.Minute}, "the group was at its max of 9 for 1 h, and cpu was over 60 % nearly all of that"},
		"too short a settle":  {ruled(steady), fleet.RuleAround{Late: 90 * time.Second}, "Settle is 1 m, and the cpu of a fresh instance takes 1 m 30 s longer until it is as that of the others"},
		"sleeps for ever":     {asleep(steady), fleet.RuleAround{}, "Min is 0, and at size 0 nobody's cpu is measured: nothing makes the group larger again. Give min 1, or a rule on requests"},
		"may wake":            {asleep(scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.Requests, KeepAt: 60}), fleet.RuleAround{}, ""},
		"at max for a moment": {ruled(steady), fleet.RuleAround{AtMax: 5 * time.Minute, Over: 5 * time.Minute}, ""},
	} {
		all := c.g.AdviseRules(map[string]fleet.RuleAround{"even": c.around, "busy": c.around})
		var said []string
		for _, texts := range all {
			said = append(said, texts...)
		}
		if got := strings.Join(said, " "); !strings.Contains(got, c.says) || (c.says == "" && got != "") {
			t.Errorf("%s: it says %q, and should %q", what, got, c.says)
		}
	}
}

// TestReplaysOfRules: the rules run over what was measured, with as many instances as they would
// have had; a gap is told, and what came of five minutes counts until the next.
func TestReplaysOfRules(t *testing.T) {
	g := ruled(scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.CPU, KeepAt: 50, Calm: time.Minute, ShrinkRate: 100})
	var recorded []fleet.Recorded
	for k := range 24 { // two hours in fives of minutes: three served all the time
		load := 40.0
		if k >= 6 && k < 12 {
			load = 120
		}
		m := fleet.Recorded{At: noon.Add(time.Duration(k) * 5 * time.Minute), Points: map[string]metric.Point{"even": {Value: load, Of: 3, Serving: 3}}}
		if k == 20 {
			m.Points = nil
		}
		recorded = append(recorded, m)
	}
	got := fleet.ReplayRules(g, recorded, 5*time.Minute, func(string, time.Time) scaling.Times { return scaling.Times{} })
	if got.Sizes[5] != 3 || got.Sizes[8] != 8 || got.Sizes[23] != 3 || got.Gaps != 1 {
		t.Errorf("the sizes would have been %v, with %d gaps", got.Sizes, got.Gaps)
	}
	if n := len(got.Changes); n != 2 || got.Changes[0].Kind != "group.resized" || got.Changes[0].Cause.About != "even" {
		t.Errorf("the changes would have been %+v", got.Changes)
	}
}
