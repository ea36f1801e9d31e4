package say_test

import (
	"strings"
	"testing"

	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
)

func number(name string, n float64) fleet.Number { return fleet.Measured(name, n) }

// TestEveryCauseIsASentence: each code by what it says of one case.
func TestEveryCauseIsASentence(t *testing.T) {
	has := fleet.Numbers{number("has", 8), number("size", 6), number("may_have", 7), number("to_have", 1), number("wave", 2), number("waves", 3),
		number("serving", 4), number("wanted", 5), number("failures", 3), number("soak_seconds", 5), number("limit_seconds", 30), number("settle_seconds", 20),
		number("drain_seconds", 10), number("in_flight", 1), number("unwell", 3), number("heal_limit", 1), number("served_seconds", 40)}
	for code, want := range map[fleet.Code]string{
		fleet.CodeWords: "its own words", fleet.CodeAsked: "a person asked for it: its own words", fleet.CodeLaunched: "a person launched it",
		fleet.CodeStarted: "a person started it", fleet.CodeTold: "a person asked to that: its own words", fleet.CodePicture: "a person asked for a picture of its files at rest",
		fleet.CodeReleased: "released from that; a person asked for it: its own words", fleet.CodeFresh: "its machine is cleared, and a person asked for a fresh one",
		fleet.CodeAccepted: "its machine was accepted", fleet.CodeRuns: "its machine runs", fleet.CodeRefused: "its machine could not be started: its own words",
		fleet.CodeVanished: "its machine vanished: its own words", fleet.CodeCleared: "its machine is stopped and cleared",
		fleet.CodeWoken: "the picture of its files is taken and its machine runs again", fleet.CodeRestedOver: "its picture was not done within 30 s",
		fleet.CodeNotUp: "berths-001 did not run within 30 s", fleet.CodeNotHealthy: "berths-001 was not healthy within the settle time of 20 s (that its own words)",
		fleet.CodeChecked: "that its own words", fleet.CodeUnasked: "its machine ran, and no check was set then", fleet.CodeLastRequest: "its last request is done",
		fleet.CodeDrainOver: "its drain of 10 s is over with 1 request in flight", fleet.CodeEndedInIt: "its machine ended while it drained: its own words",
		fleet.CodeGroupGoes: "the group is being deleted", fleet.CodeGroupFrozen: "the group is frozen; once it is thawed the wave soaks anew",
		fleet.CodeHealing: "berths-001 is to be replaced: that its own words", fleet.CodeBalance: "to balance the zones: that has 8 and its own words has 1",
		fleet.CodeSpread: "to move from that, which has 8, to its own words, which comes first", fleet.CodeStuckIll: "the rollout waits for it, nobody heals it, and that its own words",
		fleet.CodeZoneFails: "launches failed 3 times in a row in that", fleet.CodeZoneWorks: "berths-001 serves there, after 3 failures",
		fleet.CodeProven: "berths-001 has served for 40 s", fleet.CodeForNought: "berths-001 was well again before another served in its place",
		fleet.CodeTooMany:  "that finds 3 of 6 unhealthy or being replaced, and the limit is 1 at once; the fault is likelier outside",
		fleet.CodeFewAgain: "that finds 3 of 6 unhealthy or being replaced, within the limit of 1 at once", fleet.CodeHealsBy: "no check heals the group any more: heal is that",
		fleet.CodeTurnedIll: "berths-001 turned unhealthy: that its own words", fleet.CodeFilled: "wave 2 of 3 is replaced", fleet.CodeNotWhole: "the wave is not whole any more",
		fleet.CodeUnwatched: "nobody watched the group for a while, so the wave soaks anew", fleet.CodePassed: "wave 2 of 3 stayed good for 5 s",
		fleet.CodeHookHolds: "the group has this hook", fleet.CodeHooksPassed: "its hooks let it go on", fleet.CodeHookFailed: "its hook that failed: its own words",
		fleet.CodeAnswered: "it was answered: its own words", fleet.CodeUnanswered: "nobody answered before the deadline", fleet.CodeDropped: "its own words",
		fleet.CodeSkipped: "its machine could not wait", fleet.CodeEndedHeld: "its machine ended while a hook held it: its own words",
		fleet.CodeBackWhole: "4 of 6 serve on that again",
	} {
		if got := say.Because(fleet.Cause{Code: code, Instance: "berths-001", About: "that", Words: "its own words", Numbers: has}); got != want {
			t.Errorf("%s:\ngot  %s\nwant %s", code, got, want)
		}
	}
	for _, c := range []struct {
		want  string
		cause fleet.Cause
	}{
		{"the group has 8 and its size is 6", fleet.Cause{Code: fleet.CodeSize, Numbers: has}},
		{"the group has 8 and its size is 6, and it serves nobody", fleet.Cause{Code: fleet.CodeSize, Words: fleet.ChosenIdle, Numbers: has}},
		{"the group has 8 and may have 7, and in the fullest zone it is unhealthy", fleet.Cause{Code: fleet.CodeRoom, Words: fleet.ChosenIll, Numbers: has}},
		{"too few serve, and berths-api@2 never did: what has proven itself takes its place, and it serves nobody", fleet.Cause{Code: fleet.CodeUnproven, About: "berths-api@2", Words: fleet.ChosenIdle}},
		{"it is replaced by berths-api@2, and in the fullest zone it is the oldest", fleet.Cause{Code: fleet.CodeReplaced, About: "berths-api@2", Words: fleet.ChosenOldest}},
		{"to move out of zones that are not the group's any more, where it has 8", fleet.Cause{Code: fleet.CodeLeaveZone, Numbers: has}},
		{"wave 2 of 3, and 4 of 5 run berths-api@2", fleet.Cause{Code: fleet.CodeWave, About: "berths-api@2", Numbers: has}},
		{"the rollout is being reverted, and 4 of 5 run berths-api@1", fleet.Cause{Code: fleet.CodeBack, About: "berths-api@1", Numbers: has}},
		{"the rollout is held, and the group has 8 and its size is 6; this slot failed 2 times in a row and stayed empty for 10 s",
			fleet.Cause{Code: fleet.CodeHeldShort, Numbers: append(fleet.Numbers{number("slot_failures", 2), number("slot_wait_seconds", 10)}, has...)}},
		{"machines of this wave failed 3 times, the last berths-001: its machine could not be started: no room",
			fleet.Cause{Code: fleet.CodeStumbled, Instance: "berths-001", About: string(fleet.CodeRefused), Words: "no room", Numbers: has}},
		{"nothing could be replaced, so berths-api@2 never served; new launches are on it; 2 instances left behind, pinned",
			fleet.Cause{Code: fleet.CodePassed, About: "berths-api@2", Numbers: append(fleet.Numbers{number("never_served", 1), number("left_behind", 2)}, has...)}},
		{"was not healthy within the settle time of 20 s (sailings-up has no answer yet)", fleet.Cause{Code: fleet.CodeNotHealthy, About: "sailings-up", Numbers: has}},
		{"5.2 % of 310 requests to the new instances failed, and 0.1 % of 1500 to the old ones (by chance at most 1 in 340; 0.5 points more are allowed)",
			fleet.Cause{Code: fleet.CodeGateBroke, About: "errors", Numbers: fleet.Numbers{number("new_percent", 5.161), number("new_requests", 310), number("old_percent", 0.1),
				number("old_requests", 1500), number("margin_points", 0.5), number("evidence", 340)}}},
		{"15 % of 310 answers of the new instances took over 48 ms, and 5 % of 1500 of the old ones (by chance at most 1 in 340; 5 points more are allowed)",
			fleet.Cause{Code: fleet.CodeGateBroke, About: "latency", Numbers: fleet.Numbers{number("new_percent", 15), number("new_requests", 310), number("old_percent", 5),
				number("old_requests", 1500), number("margin_points", 5), number("evidence", 340), number("line_seconds", 0.048)}}},
		{"too few requests were seen in this wave to tell: 12 of at least 200",
			fleet.Cause{Code: fleet.CodeGateUndecided, About: "errors", Numbers: fleet.Numbers{number("in_wave", 12), number("least", 200)}}},
		{"nothing of the old version answered to compare with",
			fleet.Cause{Code: fleet.CodeGateUndecided, About: "errors", Numbers: fleet.Numbers{number("in_wave", 300), number("least", 0)}}},
		{"90 % of 1000 requests to the new instances failed, and nothing of the old version answered to compare with",
			fleet.Cause{Code: fleet.CodeGateAlone, About: "errors", Numbers: fleet.Numbers{number("in_wave", 1000), number("new_percent", 90), number("new_requests", 1000)}}},
		{"a launch failed in mid-pier", fleet.Cause{Code: fleet.CodeZoneFails, About: "mid-pier", Numbers: fleet.Numbers{number("failures", 1)}}},
	} {
		if got := say.Because(c.cause); got != c.want {
			t.Errorf("got  %s\nwant %s", got, c.want)
		}
	}
}

func TestLines(t *testing.T) {
	v := fleet.Version{Name: "berths-api", N: 2}
	for _, c := range []struct {
		want string
		e    fleet.Entry
	}{
		{"berths-001 (berths-api@2, mid-pier) is serving.", fleet.Entry{Kind: "instance.serving", Instance: "berths-001", Version: v, Zone: "mid-pier"}},
		{"12 instances (berths-api@2) are booting: berths-001 to berths-00c.", fleet.Entry{Kind: "instance.booting", Instances: append(make([]string, 11), "berths-00c"), Version: v}},
		{"berths-001 is healthy, and was unknown.", fleet.Entry{Kind: "verdict.healthy", Instance: "berths-001", Was: "unknown"}},
		{"The rollout of berths from berths-api@1 to berths-api@2 begins.", fleet.Entry{Kind: "rollout.started", Version: v, Cause: fleet.Cause{Code: fleet.CodeStarted, About: "berths-api@1"}}},
		{"The rollout of berths to berths-api@2 is held.", fleet.Entry{Kind: "rollout.held", Version: v}},
		{"Launches in mid-pier wait 2 s.", fleet.Entry{Kind: "zone.backing-off", Zone: "mid-pier", Numbers: fleet.Numbers{number("wait_seconds", 2)}}},
		{"Launches in mid-pier go on.", fleet.Entry{Kind: "zone.recovered", Zone: "mid-pier"}},
		{"Healing of berths stops and asks for a person.", fleet.Entry{Kind: "group.healing-stopped"}},
		{"One slot of berths failed 2 times in a row, the last berths-001, berths-002; it stays empty for 10 s.", fleet.Entry{Kind: "group.relapsed",
			Instance: "berths-002", Instances: []string{"berths-001", "berths-002"}, Numbers: fleet.Numbers{number("failures", 2), number("wait_seconds", 10)}}},
		{"berths-002 of berths went again before it served; another is launched once berths-001 has been unhealthy for 10 s.", fleet.Entry{Kind: "group.relapsed",
			Instance: "berths-002", Instances: []string{"berths-002"}, Cause: fleet.Cause{Code: fleet.CodeForNought, Instance: "berths-001"}, Numbers: fleet.Numbers{number("wait_seconds", 10)}}},
		{"as it was written", fleet.Entry{Kind: "pool.changed", Text: "as it was written"}},
	} {
		if len(c.e.Instances) == 12 {
			c.e.Instances[0] = "berths-001"
		}
		if got := say.Line("berths", c.e); got != c.want {
			t.Errorf("got  %s\nwant %s", got, c.want)
		}
	}
	if strings.Contains(say.Because(fleet.Cause{Code: "from-later", Words: "x"}), "%!") {
		t.Error("a code of a later version cannot be told")
	}
}
