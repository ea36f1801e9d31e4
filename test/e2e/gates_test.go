package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"unitas/api/contract"
	"unitas/client"
)

// failing makes a version of the template that is well by its check and does a share of
// what it is asked badly.
func (s *service) failing(how, percent string) string {
	s.t.Helper()
	env := contract.Environment{"WARM_UP": "100ms", how: percent}
	t := must[contract.Template](s.t)(client.Read[contract.Template](s.api.ReviseTemplate(ctx, "timetable-web", nil, contract.TemplateRevision{Environment: &env, Note: "failing"})))
	return fmt.Sprint("timetable-web@", t.Version)
}

// TestGates: a version that is well by its check and fails more often than the old one is
// stopped at its canary, by numbers that are shown, and goes back; one that is held for it
// goes on when a person says so; an equal one is let alone.
func TestGates(t *testing.T) {
	s := start(t)
	s.stock()
	s.group(5)
	s.traffic()
	to, soak, above := s.failing("ERROR_PERCENT", "20"), 60.0, 1
	begin := func(version string, gates *[]contract.NewGate, waves ...string) contract.Rollout {
		t.Helper()
		return must[contract.Rollout](t)(client.Read[contract.Rollout](s.api.StartRollout(ctx, "timetable", nil,
			contract.NewRollout{To: version, Waves: &waves, Above: &above, SoakSeconds: &soak, Gates: gates})))
	}
	r := begin(to, nil, "1", "100%")
	back := s.becomes(r.Number, contract.RolloutStateReverted)
	if !strings.Contains(back.Why, " requests to the new instances failed, and 0 % of ") || !strings.HasSuffix(back.Why, "; 4 of 4 serve on timetable-web@1 again") {
		t.Errorf("it is reverted because %s", back.Why)
	}
	if len(back.Gates) != 1 {
		t.Fatalf("its gates are %+v", back.Gates)
	}
	g := back.Gates[0]
	if g.State != contract.GateStateBroken || g.Evidence < 100 || g.NewRequests < 5 || g.NewFailed == 0 || g.NewFailed > g.NewRequests/2 || g.OldRequests <= g.NewRequests || g.OldFailed != 0 {
		t.Errorf("the gate is %+v", g)
	}
	if status, _, record := s.call("GET", fmt.Sprintf("/v1/rollouts/%d/record", r.Number), ""); status != 200 || !strings.HasPrefix(record, fmt.Sprintf("# Rollout %d of timetable: timetable-web@1 → %s\n", r.Number, to)) ||
		!strings.Contains(record, "| requests that fail | broken |") || !strings.Contains(record, "admin: The rollout of timetable from timetable-web@1 to "+to+" begins.") {
		t.Errorf("its record is %d\n%s", status, record)
	}
	s.whole(4)
	for _, in := range s.instances() {
		if in.Version != "timetable-web@1" {
			t.Errorf("%s is on %s", in.Id, in.Version)
		}
	}
	fresh := 0
	for _, e := range s.journal("instance.ordered") {
		if strings.Contains(e.Text, to) {
			fresh++
		}
	}
	why := ""
	for _, e := range s.journal("rollout.reverting") {
		why = e.Because
	}
	if fresh != 1 || !strings.Contains(why, "requests to the new instances failed") || !strings.Contains(why, "and 0 % of") {
		t.Errorf("%d ran it, and it went back because %s", fresh, why)
	}

	// Held for the same, a person has it proceed, and what was seen is answered.
	hold := contract.NewGateOnBrokenHold
	held := s.becomes(begin(to, &[]contract.NewGate{{Kind: contract.NewGateKindErrors, OnBroken: &hold}}, "1", "100%").Number, contract.RolloutStateHeld)
	s.tell(held.Number, contract.RolloutCommandCommandProceed)
	s.becomes(held.Number, contract.RolloutStateHeld) // for what it sees from then on
	s.tell(held.Number, contract.RolloutCommandCommandRevert)
	s.becomes(held.Number, contract.RolloutStateReverted)

	soak = 2
	// An equal version passes, and says what it was held against.
	done := s.becomes(begin("timetable-web@2", nil, "1", "100%").Number, contract.RolloutStateDone)
	if g := done.Gates[0]; g.State != contract.GateStateGood || g.NewRequests == 0 || g.NewFailed != 0 || g.Evidence > 2 {
		t.Errorf("of an equal version the gate is %+v", g)
	}
}

// TestAGateWithoutTraffic is undecided, and holds where a least number was asked for.
func TestAGateWithoutTraffic(t *testing.T) {
	s := start(t)
	s.stock()
	s.group(5)
	least, hold, soak := int64(50), contract.NewGateOnUndecidedHold, 1.0
	waves := []string{"1", "100%"}
	r := must[contract.Rollout](t)(client.Read[contract.Rollout](s.api.StartRollout(ctx, "timetable", nil, contract.NewRollout{To: "timetable-web@2", Waves: &waves, SoakSeconds: &soak,
		Gates: &[]contract.NewGate{{Kind: contract.NewGateKindErrors, MinRequests: &least, OnUndecided: &hold}}})))
	held := s.becomes(r.Number, contract.RolloutStateHeld)
	if held.Gates[0].State != contract.GateStateUndecided || !strings.Contains(held.Why, "too few requests were seen in this wave to tell: 0 of at least 50") {
		t.Errorf("it is held because %s; its gate is %+v", held.Why, held.Gates[0])
	}
}

// TestASlowVersion goes back by a gate on latency, and no other is stopped by it.
func TestASlowVersion(t *testing.T) {
	s := start(t)
	s.stock()
	s.group(5)
	tr := s.traffic()
	s.eventually("there is something to compare with", func() error {
		if n := tr.sent.Load(); n < 500 {
			return fmt.Errorf("%d requests", n)
		}
		return nil
	})
	begin := func(version string, soak float64) contract.Rollout {
		t.Helper()
		waves := []string{"1", "100%"}
		return must[contract.Rollout](t)(client.Read[contract.Rollout](s.api.StartRollout(ctx, "timetable", nil,
			contract.NewRollout{To: version, Waves: &waves, SoakSeconds: &soak, Gates: &[]contract.NewGate{{Kind: contract.NewGateKindLatency}}})))
	}
	back := s.becomes(begin(s.failing("SLOW_PERCENT", "60"), 60).Number, contract.RolloutStateReverted)
	g := back.Gates[0]
	if g.State != contract.GateStateBroken || g.MarginPercent != 5 || g.LimitMs == nil || *g.LimitMs <= 0 || *g.LimitMs > 90 || g.NewFailed < g.NewRequests/4 || g.OldFailed > g.OldRequests/4 {
		t.Errorf("the gate is %+v, its line %v", g, g.LimitMs)
	}
	if !strings.Contains(back.Why, " answers of the new instances took over ") {
		t.Errorf("it is reverted because %s", back.Why)
	}
	tr.mustBeWhole(t)
}

// TestGatesAreToldByAnyService: what the gates have seen so far only the service knows that
// keeps the group, and it is told by whichever is asked.
func TestGatesAreToldByAnyService(t *testing.T) {
	all := replicas(t, 1)
	s := all[0]
	s.stock()
	s.group(5)
	s.trafficBy(&http.Transport{DisableKeepAlives: true})
	waves, soak, group, one := []string{"1", "100%"}, 60.0, "timetable", 1
	must[contract.Rollout](t)(client.Read[contract.Rollout](s.api.StartRollout(ctx, group, nil, contract.NewRollout{To: "timetable-web@2", Waves: &waves, SoakSeconds: &soak})))
	for _, asked := range all {
		asked.eventually("it tells what the gate saw", func() error {
			list, _, err := client.Read[contract.RolloutList](asked.api.ListRollouts(ctx, &contract.ListRolloutsParams{Group: &group, Limit: &one}))
			if err == nil && (len(list.Items) != 1 || list.Items[0].Gates[0].NewRequests == 0 || list.Items[0].Gates[0].OldRequests == 0) {
				err = fmt.Errorf("%s tells of %+v", asked.flags[1], list.Items)
			}
			return err
		})
	}
}
