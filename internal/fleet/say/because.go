// Package say makes sentences of what the core decides: the causes, the lines of the
// journal, and the one sentence that heads a group. It is the only room that does, so
// API, terminal and console say the same, and a sentence can be bettered later.
package say

import (
	"fmt"
	"strings"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/words"
)

// Because tells a cause, in a form that goes on after "because": "the group has 5 and
// its size is 6".
func Because(c fleet.Cause) string {
	n := c.Numbers
	switch c.Code {
	case fleet.CodeWords:
		return c.Words
	case fleet.CodeAsked:
		return reason("a person asked for it", c.Words)
	case fleet.CodeTold:
		return reason("a person asked to "+c.About, c.Words)
	case fleet.CodeReleased:
		return "released from " + c.About + "; " + reason("a person asked for it", c.Words)
	case fleet.CodeRefused, fleet.CodeVanished, fleet.CodeEndedInIt, fleet.CodeEndedHeld:
		return machine(c.Code) + c.Words
	case fleet.CodeHookFailed:
		return reason("its hook "+c.About+" failed", c.Words)
	case fleet.CodeAnswered:
		return reason("it was answered", c.Words)
	case fleet.CodeDropped:
		return c.Words
	case fleet.CodeRestedOver:
		return fmt.Sprintf("its picture was not done within %s", words.Span(n.Span("limit_seconds")))
	case fleet.CodeNotUp:
		return subject(c) + fmt.Sprintf("did not run within %s", words.Span(n.Span("limit_seconds")))
	case fleet.CodeNotHealthy:
		return subject(c) + fmt.Sprintf("was not healthy within the settle time of %s%s", words.Span(n.Span("settle_seconds")), doubt(c))
	case fleet.CodeChecked:
		return c.About + " " + c.Words
	case fleet.CodeStuckIll:
		return fmt.Sprintf("the rollout waits for it, nobody heals it, and %s %s", c.About, c.Words)
	case fleet.CodeDrainOver:
		return fmt.Sprintf("its drain of %s is over with %s in flight", words.Span(n.Span("drain_seconds")), words.Count(n.Int("in_flight"), "request"))
	case fleet.CodeZoneFails:
		if n.Int("failures") == 1 {
			return "a launch failed in " + c.About
		}
		return fmt.Sprintf("launches failed %s in a row in %s", words.Count(n.Int("failures"), "time"), c.About)
	case fleet.CodeZoneWorks:
		return fmt.Sprintf("%s serves there, after %s", c.Instance, words.Count(n.Int("failures"), "failure"))
	case fleet.CodeProven:
		return fmt.Sprintf("%s has served for %s", c.Instance, words.Span(n.Span("served_seconds")))
	case fleet.CodeForNought:
		return c.Instance + " was well again before another served in its place"
	case fleet.CodeTooMany:
		return unwell(c) + fmt.Sprintf(", and the limit is %d at once; the fault is likelier outside", n.Int("heal_limit"))
	case fleet.CodeFewAgain:
		return unwell(c) + fmt.Sprintf(", within the limit of %d at once", n.Int("heal_limit"))
	case fleet.CodeHealsBy:
		return "no check heals the group any more: heal is " + c.About
	case fleet.CodeSize, fleet.CodeRoom, fleet.CodeHealing, fleet.CodeBalance, fleet.CodeLeaveZone, fleet.CodeSpread,
		fleet.CodeWave, fleet.CodeBack, fleet.CodeHeldShort, fleet.CodeReplaced, fleet.CodeUnproven:
		return placed(c) + chosen(c) + place(n)
	case fleet.CodeTurnedIll, fleet.CodeStumbled, fleet.CodeFilled, fleet.CodePassed, fleet.CodeBackWhole, fleet.CodeGateBroke, fleet.CodeGateUndecided, fleet.CodeGateAlone,
		fleet.CodeTooIll, fleet.CodeTooFewServe, fleet.CodeSuperseded:
		return ofRollout(c)
	case fleet.CodeTrip, fleet.CodeSteady, fleet.CodeForeseen, fleet.CodeCalendar, fleet.CodeCalendarOver, fleet.CodeBounds, fleet.CodeTried:
		return ofRule(c)
	}
	if text, ok := plain[c.Code]; ok {
		return text
	}
	return reason(string(c.Code), c.Words)
}

// plain are the causes that are always told alike.
var plain = map[fleet.Code]string{
	fleet.CodeLaunched:    "a person launched it",
	fleet.CodeStarted:     "a person started it",
	fleet.CodePicture:     "a person asked for a picture of its files at rest",
	fleet.CodeTurn:        "a person asked for a fresh machine for it, and its turn has come",
	fleet.CodeFresh:       "its machine is cleared, and a person asked for a fresh one",
	fleet.CodeAccepted:    "its machine was accepted",
	fleet.CodeRuns:        "its machine runs",
	fleet.CodeCleared:     "its machine is stopped and cleared",
	fleet.CodeHookHolds:   "the group has this hook",
	fleet.CodeHooksPassed: "its hooks let it go on",
	fleet.CodeUnanswered:  "nobody answered before the deadline",
	fleet.CodeSkipped:     "its machine could not wait",
	fleet.CodeWoken:       "the picture of its files is taken and its machine runs again",
	fleet.CodeUnasked:     "its machine ran, and no check was set then",
	fleet.CodeLastRequest: "its last request is done",
	fleet.CodeGroupGoes:   "the group is being deleted",
	fleet.CodeBoundsBack:  "no calendar sets other bounds any more",
	fleet.CodeGroupFrozen: "the group is frozen; once it is thawed the wave soaks anew",
	fleet.CodeNotWhole:    "the wave is not whole any more",
	fleet.CodeUnwatched:   "nobody watched the group for a while, so the wave soaks anew",
}

func reason(text, words string) string {
	if words == "" {
		return text
	}
	return text + ": " + words
}

func machine(c fleet.Code) string {
	switch c {
	case fleet.CodeRefused:
		return "its machine could not be started: "
	case fleet.CodeEndedInIt:
		return "its machine ended while it drained: "
	case fleet.CodeEndedHeld:
		return "its machine ended while a hook held it: "
	case fleet.CodeHookFailed:
		return "its launch hook failed: "
	case fleet.CodeChecked, fleet.CodeNotHealthy, fleet.CodeNotUp:
		return "it was not well: "
	}
	return "its machine vanished: "
}

// subject names whom it is about when that is another.
func subject(c fleet.Cause) string {
	if c.Instance == "" {
		return ""
	}
	return c.Instance + " "
}

// doubt is what the check said that an instance waited for.
func doubt(c fleet.Cause) string {
	switch {
	case c.About == "":
		return ""
	case c.Words == "":
		return fmt.Sprintf(" (%s has no answer yet)", c.About)
	}
	return fmt.Sprintf(" (%s %s)", c.About, c.Words)
}

func unwell(c fleet.Cause) string {
	return fmt.Sprintf("%s finds %d of %d unhealthy or being replaced", c.About, c.Numbers.Int("unwell"), c.Numbers.Int("size"))
}

// placed tells why one is launched, or why some go.
func placed(c fleet.Cause) string {
	n := c.Numbers
	switch c.Code {
	case fleet.CodeRoom:
		return fmt.Sprintf("the group has %d and may have %d", n.Int("has"), n.Int("may_have"))
	case fleet.CodeHealing:
		return fmt.Sprintf("%s is to be replaced: %s %s", c.Instance, c.About, c.Words)
	case fleet.CodeBalance:
		return fmt.Sprintf("to balance the zones: %s has %d and %s has %d", c.About, n.Int("has"), c.Words, n.Int("to_have"))
	case fleet.CodeLeaveZone:
		return fmt.Sprintf("to move out of zones that are not the group's any more, where it has %d", n.Int("has"))
	case fleet.CodeSpread:
		return fmt.Sprintf("to move from %s, which has %d, to %s, which comes first", c.About, n.Int("has"), c.Words)
	case fleet.CodeWave:
		return fmt.Sprintf("wave %d of %d, and %d of %d run %s", n.Int("wave"), n.Int("waves"), n.Int("serving"), n.Int("wanted"), c.About)
	case fleet.CodeBack:
		return fmt.Sprintf("the rollout is being reverted, and %d of %d run %s", n.Int("serving"), n.Int("wanted"), c.About)
	case fleet.CodeHeldShort:
		return fmt.Sprintf("the rollout is held, and the group has %d and its size is %d", n.Int("has"), n.Int("size"))
	case fleet.CodeUnproven:
		return fmt.Sprintf("too few serve, and %s never did: what has proven itself takes its place", c.About)
	case fleet.CodeReplaced:
		return "it is replaced by " + c.About
	}
	return fmt.Sprintf("the group has %d and its size is %d", n.Int("has"), n.Int("size"))
}

// chosen tells why one is sent away and no other.
func chosen(c fleet.Cause) string {
	switch c.Code {
	case fleet.CodeHealing, fleet.CodeBalance, fleet.CodeSpread:
		return ""
	}
	switch c.Words {
	case "":
		return ""
	case fleet.ChosenIdle:
		return ", and it serves nobody"
	case fleet.ChosenTurn:
		return ", and by the rollout's order it is its turn"
	case fleet.ChosenOldest, fleet.ChosenNewest:
		return ", and in the fullest zone it is the " + c.Words
	}
	return ", and in the fullest zone it is " + c.Words
}

// place tells that the place of a new instance failed before.
func place(n fleet.Numbers) string {
	if n.Int("slot_failures") == 0 {
		return ""
	}
	return fmt.Sprintf("; this slot failed %d times in a row and stayed empty for %s", n.Int("slot_failures"), words.Span(n.Span("slot_wait_seconds")))
}

// ofRollout tells why a rollout is where it is.
func ofRollout(c fleet.Cause) string {
	n := c.Numbers
	switch c.Code {
	case fleet.CodeTurnedIll:
		return fmt.Sprintf("%s turned unhealthy: %s %s", c.Instance, c.About, c.Words)
	case fleet.CodeStumbled:
		return fmt.Sprintf("machines of this wave failed %d times, the last %s: %s%s", n.Int("failures"), c.Instance, machine(fleet.Code(c.About)), c.Words)
	case fleet.CodeFilled:
		return fmt.Sprintf("wave %d of %d is replaced", n.Int("wave"), n.Int("waves"))
	case fleet.CodeGateBroke:
		return fmt.Sprintf("%s (by chance at most 1 in %.0f; %s points more are allowed)", sides(c), n.Get("evidence"), words.Percent(n.Get("margin_points")))
	case fleet.CodeTooIll:
		return fmt.Sprintf("%s %% of the %d new instances that were judged are healthy, and %s %% must be", words.Percent(n.Get("healthy_percent")), n.Int("judged"), words.Percent(n.Get("floor")))
	case fleet.CodeTooFewServe:
		return fmt.Sprintf("%d serve, and %d must", n.Int("serving"), n.Int("floor"))
	case fleet.CodeSuperseded:
		return "a rollout to " + c.About + " takes its place"
	case fleet.CodeGateAlone:
		return newSide(c) + ", and nothing of the old version answered to compare with"
	case fleet.CodeGateUndecided:
		if n.Int("old_requests") == 0 && n.Int("in_wave") >= n.Int("least") {
			return "nothing of the old version answered to compare with"
		}
		return fmt.Sprintf("too few requests were seen in this wave to tell: %d of at least %d", n.Int("in_wave"), n.Int("least"))
	case fleet.CodeBackWhole:
		return fmt.Sprintf("%d of %d serve on %s again%s", n.Int("serving"), n.Int("size"), c.About, leftBehind(c))
	}
	switch {
	case n.Int("never_served") > 0 && n.Int("size") == 0:
		return fmt.Sprintf("the size is 0, so %s never served; new launches are on it%s", c.About, leftBehind(c))
	case n.Int("never_served") > 0:
		return fmt.Sprintf("nothing could be replaced, so %s never served; new launches are on it%s", c.About, leftBehind(c))
	}
	return fmt.Sprintf("wave %d of %d stayed good for %s%s%s", n.Int("wave"), n.Int("waves"), words.Span(n.Span("soak_seconds")), undecided(n), leftBehind(c))
}

// sides tells what new and old answered.
func sides(c fleet.Cause) string {
	of := "of the old ones"
	if c.About == string(gate.Errors) {
		of = "to the old ones"
	}
	return fmt.Sprintf("%s, and %s %% of %d %s", newSide(c), words.Percent(c.Numbers.Get("old_percent")), c.Numbers.Int("old_requests"), of)
}

// newSide tells what new answered.
func newSide(c fleet.Cause) string {
	n, what := c.Numbers, "requests to the new instances failed"
	switch c.About {
	case string(gate.Latency):
		what = "answers of the new instances took over " + words.Span(n.Span("line_seconds"))
	case string(gate.Metric):
		what = "samples of the new instances have " + pastLine(c.Words, n.Get("at"), n.Int("below") == 1)
	}
	return fmt.Sprintf("%s %% of %d %s", words.Percent(n.Get("new_percent")), n.Int("new_requests"), what)
}

// pastLine is a metric past a line: "cpu above 80 %".
func pastLine(name string, at float64, below bool) string {
	way := "above"
	if below {
		way = "below"
	}
	return name + " " + way + " " + metric.Name(name).Say(at)
}

// Gate says of what a gate compares the shares.
func Gate(g gate.Gate) string {
	switch {
	case g.Kind == gate.Healthy:
		return "new instances that are healthy"
	case g.Kind == gate.Serving:
		return "instances that serve"
	case g.Kind == gate.Metric:
		return "samples with " + pastLine(g.Metric, g.At, g.Below)
	case g.Kind != gate.Latency:
		return "requests that fail"
	case g.Seen.Line == 0:
		return "slow answers"
	}
	return "answers over " + words.Span(g.Seen.Line)
}

// undecided tells which gates had seen too little to the end.
func undecided(n fleet.Numbers) (text string) {
	for _, kind := range []gate.Kind{gate.Errors, gate.Latency, gate.Metric} {
		if n.Int("undecided_"+string(kind)) > 0 {
			text += fmt.Sprintf("; the gate on %s had too little to compare and says nothing", kind)
		}
	}
	return text
}

// leftBehind tells who stays as he is, and why.
func leftBehind(c fleet.Cause) string {
	n := c.Numbers
	all, out, stuck := n.Int("left_behind"), n.Int("left_out"), n.Int("stuck")
	if all == 0 {
		return ""
	}
	var parts []string
	for _, part := range []struct {
		n   int
		why string
	}{{all - out - stuck, "pinned"}, {out, "left out"}, {stuck, "pinned and failed"}} {
		switch {
		case part.n == all:
			parts = []string{part.why}
		case part.n > 0:
			parts = append(parts, fmt.Sprintf("%d %s", part.n, part.why))
		}
	}
	text := fmt.Sprintf("; %s left behind, %s", words.Count(all, "instance"), strings.Join(parts, ", "))
	if c.Words != "" {
		text += " (" + c.Words + ")"
	}
	return text
}
