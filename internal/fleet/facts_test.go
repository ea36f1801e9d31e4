package fleet_test

import (
	"strings"
	"testing"
	"unicode/utf8"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

// TestWhatIsHeardOfAMachine plays what a driver may say in any order: that it
// ended is final.
func TestWhatIsHeardOfAMachine(t *testing.T) {
	const (
		unknown, starting, running = fleet.MachineUnknown, fleet.MachineStarting, fleet.MachineRunning
		stopped, cleared           = fleet.MachineStopped, fleet.MachineCleared
	)
	for _, c := range []struct {
		heard []fleet.MachineState
		want  fleet.MachineState
	}{
		{[]fleet.MachineState{starting, running}, running},
		{[]fleet.MachineState{running, unknown}, running},
		{[]fleet.MachineState{stopped, running}, stopped}, // it ended before its launch returned
		{[]fleet.MachineState{running, stopped, cleared}, cleared},
		{[]fleet.MachineState{cleared, stopped, running}, cleared},
	} {
		var in fleet.Instance
		for _, s := range c.heard {
			in.HearMachine(fleet.Machine{State: s})
		}
		if in.Machine.State != c.want {
			t.Errorf("after %v the machine is %s, want %s", c.heard, in.Machine.State, c.want)
		}
	}
}

func TestNotReadyIsNotIll(t *testing.T) {
	report := func(check string, v health.Verdict) health.Report {
		return health.Report{Check: check, Verdict: v, Why: "failed 3 of 3: 503, 503, 503"}
	}
	in := fleet.Instance{ID: "timetable-001", State: fleet.Settling}
	if e, changed := in.HearVerdict(report("sailings-up", health.Unhealthy)); changed {
		t.Errorf("an instance that settles is journalled as ill: %+v", e)
	}
	if r := in.Report("sailings-up"); r.Verdict != health.Unknown || r.Why == "" {
		t.Errorf("what came back is not kept: %+v", r)
	}
	in.State = fleet.Serving
	if e, changed := in.HearVerdict(report("sailings-up", health.Unhealthy)); !changed || e.Kind != "verdict.unhealthy" || e.Cause.Words == "" {
		t.Errorf("an instance that serves is not journalled as ill: %+v", e)
	}
	g := fleet.Group{Checks: []string{"sailings-up"}}
	if g.Serves(&in) || in.TakesRequests("sailings-up") {
		t.Error("an ill instance takes requests")
	}
	before := in.Reports
	in.HearVerdict(report("other", health.Healthy))
	if len(in.Reports) != 2 || len(before) != 1 {
		t.Errorf("two checks have %d reports, and the view before %d", len(in.Reports), len(before))
	}
	in.State = fleet.Draining
	if _, changed := in.HearVerdict(report("sailings-up", health.Healthy)); changed {
		t.Error("an instance on its way out is judged")
	}
	in = fleet.Instance{State: fleet.Serving, Machine: fleet.Machine{State: fleet.MachineStopped}, Reports: []health.Report{report("sailings-up", health.Healthy)}}
	if !g.Serves(&in) || in.TakesRequests("sailings-up") {
		t.Error("an instance whose machine ended is sent requests")
	}
}

// TestEveryCheckJudgesItsOwnPools: what one check says closes no pool of another,
// and the healing check closes none.
func TestEveryCheckJudgesItsOwnPools(t *testing.T) {
	g := fleet.Group{Checks: []string{"sailings-up", "fares-up"}, Settings: fleet.Settings{Heal: "deep-look"}}
	in := fleet.Instance{State: fleet.Serving}
	say := func(check string, v health.Verdict) { in.HearVerdict(health.Report{Check: check, Verdict: v}) }
	for _, c := range []struct {
		check                   string
		v                       health.Verdict
		serves, sailings, fares bool
	}{
		{"sailings-up", health.Unknown, true, false, false}, // nobody has asked yet: no requests before it is healthy
		{"sailings-up", health.Healthy, true, true, false},
		{"deep-look", health.Unhealthy, true, true, false},
		{"fares-up", health.Unhealthy, true, true, false},
		{"fares-up", health.Healthy, true, true, true},
		{"sailings-up", health.Unhealthy, true, false, true},
		{"fares-up", health.Unhealthy, false, false, false},
	} {
		say(c.check, c.v)
		if g.Serves(&in) != c.serves || in.TakesRequests("sailings-up") != c.sailings || in.TakesRequests("fares-up") != c.fares {
			t.Errorf("with %s %s it serves %v, sailings-up %v, fares-up %v", c.check, c.v, g.Serves(&in), in.TakesRequests("sailings-up"), in.TakesRequests("fares-up"))
		}
	}
	if g.Checks = nil; !g.Serves(&fleet.Instance{State: fleet.Serving}) || g.Serves(&in) {
		t.Error("without pools the healing check does not say who serves")
	}
}

// TestWhatComesFromOutsideIsPlain: whatever a workload or a driver says can be kept
// and shown.
func TestWhatComesFromOutsideIsPlain(t *testing.T) {
	const evil = "bad\x00thing \x1b[31m\xff"
	in := fleet.Instance{State: fleet.Serving}
	in.HearMachine(fleet.Machine{State: fleet.MachineStopped, Why: evil})
	e, _ := in.HearVerdict(health.Report{Check: "sailings-up", Verdict: health.Unhealthy, Why: evil + strings.Repeat("x", 10_000)})
	for _, text := range []string{in.Machine.Why, in.Report("sailings-up").Why, e.Cause.Words} {
		if strings.ContainsAny(text, "\x00\x1b") || !utf8.ValidString(text) || len(text) > 1100 || !strings.Contains(text, "bad thing [31m?") {
			t.Errorf("it is kept as %q", text[:min(len(text), 100)])
		}
	}
}
