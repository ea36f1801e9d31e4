package fleet

import (
	"slices"
	"time"
)

// Cause is why something was decided, as values: the rule that was followed, about
// whom, and the numbers it rests on. Package say makes sentences of it.
type Cause struct {
	Code Code `json:"code,omitempty"`
	// Instance is whom it is about, when that is another than the subject.
	Instance string `json:"instance,omitempty"`
	// About is what else: a check, a zone, a version, a command; see the codes.
	About string `json:"about,omitempty"`
	// Words came from outside: answers of a check, what a driver said, a person's reason.
	Words string `json:"words,omitempty"`
	// Numbers are those without which it cannot be told.
	Numbers Numbers `json:"numbers,omitempty"`
}

// Number is one number by its name, which has the unit: boot_seconds.
type Number struct {
	Name  string  `json:"name"`
	Value float64 `json:"value"`
}

// Numbers are few; the order is how they were given.
type Numbers []Number

// Get returns the number of the name, 0 when it is not there.
func (ns Numbers) Get(name string) float64 {
	for _, n := range ns {
		if n.Name == name {
			return n.Value
		}
	}
	return 0
}

// Int is Get as a whole number.
func (ns Numbers) Int(name string) int { return int(ns.Get(name)) }

// Span is Get of a number of seconds.
func (ns Numbers) Span(name string) time.Duration {
	return time.Duration(ns.Get(name) * float64(time.Second))
}

// Map is how numbers are shown to programs.
func (ns Numbers) Map() map[string]any {
	m := make(map[string]any, len(ns))
	for _, n := range ns {
		m[n.Name] = n.Value
	}
	return m
}

// Is reports whether two causes are the same.
func (c Cause) Is(o Cause) bool {
	return c.Code == o.Code && c.Instance == o.Instance && c.About == o.About && c.Words == o.Words &&
		(len(c.Numbers) == 0 && len(o.Numbers) == 0 || slices.Equal(c.Numbers, o.Numbers))
}

// Measured is a number by its name.
func Measured[N int | int64 | float64](name string, n N) Number { return Number{name, float64(n)} }

func count(name string, n int) Number { return Number{name, float64(n)} }

func span(name string, t time.Duration) Number { return Number{name, seconds(t)} }

// with returns the cause with more numbers.
func (c Cause) with(more ...Number) Cause {
	c.Numbers = append(slices.Clip(c.Numbers), more...)
	return c
}

// Code is the rule that a cause follows. Codes are kept in the journal and never get
// another meaning.
type Code string

// The codes, each with what it is about and its numbers.
const (
	// CodeWords has its words alone: what was written before causes were values, and
	// what is no decision of the core's.
	CodeWords Code = ""

	// A person's doing.
	CodeAsked    Code = "asked"    // words: the reason
	CodeLaunched Code = "launched" // a person launched it
	CodeStarted  Code = "started"  // of a rollout; words: its waves
	CodeTold     Code = "told"     // about: the command; words: the reason
	CodePicture  Code = "picture"  // a picture of its files at rest is to be taken
	CodeReleased Code = "released" // about: the group; words: the reason
	CodeFresh    Code = "fresh"    // its machine is cleared, and a person asked for a fresh one
	CodeTurn     Code = "turn"     // a person asked for a fresh machine, and it is its turn

	// What became of a machine.
	CodeAccepted   Code = "accepted"
	CodeRuns       Code = "runs"
	CodeRefused    Code = "refused"  // words: the driver's
	CodeVanished   Code = "vanished" // words: the driver's
	CodeCleared    Code = "cleared"
	CodeWoken      Code = "woken"
	CodeRestedOver Code = "rested-over" // limit_seconds
	CodeNotUp      Code = "not-up"      // limit_seconds
	CodeNotHealthy Code = "not-healthy" // settle_seconds; about: the check; words: what it said

	// Rules; about: the rule, words: the metric.
	CodeTrip         Code = "trip"          // value, serving, line, for_seconds; below when it is below
	CodeSteady       Code = "steady"        // value, serving, target, needed
	CodeForeseen     Code = "foreseen"      // value, serving, foreseen, target, needed
	CodeCalendar     Code = "calendar"      // no words; lasts_seconds, 0 for from then on
	CodeCalendarOver Code = "calendar-over" // no words
	CodeBounds       Code = "bounds"        // no words; about: the calendars, empty when the group's own; min, max
	CodeBoundsBack   Code = "bounds-back"   // about nothing
	CodeTried        Code = "tried"         // a person had a rule act on a value; value, needed

	// Hooks; about: the hook.
	CodeHookHolds   Code = "hook-holds"
	CodeHooksPassed Code = "hooks-passed" // about nothing
	CodeHookFailed  Code = "hook-failed"  // words: the note
	CodeAnswered    Code = "answered"     // words: the note
	CodeUnanswered  Code = "unanswered"
	CodeDropped     Code = "dropped"    // words: why
	CodeSkipped     Code = "skipped"    // about: all of them
	CodeEndedHeld   Code = "ended-held" // about nothing; words: the driver's

	// What checks said.
	CodeChecked Code = "checked" // about: the check; words: its answers
	CodeUnasked Code = "unasked" // no check was set

	// How a drain ended.
	CodeLastRequest Code = "last-request"
	CodeDrainOver   Code = "drain-over"   // drain_seconds, in_flight
	CodeEndedInIt   Code = "ended-in-it"  // words: the driver's
	CodeGroupGoes   Code = "group-goes"   // the group is being deleted
	CodeGroupFrozen Code = "group-frozen" // wave, waves, soak_seconds: which soaks anew

	// Too few and too many. Who is sent away has in words why it is that one.
	CodeSize      Code = "size"       // has, size
	CodeRoom      Code = "room"       // has, may_have
	CodeHealing   Code = "healing"    // instance: which is to be replaced; about: the check; words: its answers
	CodeBalance   Code = "balance"    // about: the zone that has more; words: that which has fewer; has, to_have
	CodeLeaveZone Code = "leave-zone" // has
	CodeSpread    Code = "spread"     // about: the zone that is left; words: that which comes first; has, to_have
	CodeWave      Code = "wave"       // about: the version; wave, waves, serving, wanted
	CodeBack      Code = "back"       // about: the version; serving, wanted
	CodeHeldShort Code = "held-short" // has, size
	CodeReplaced  Code = "replaced"   // about: the version that takes over
	CodeUnproven  Code = "unproven"   // about: the version, of which none serves while too few do
	CodeStuckIll  Code = "stuck-ill"  // about: the check; words: its answers

	// Places and zones that fail.
	CodeZoneFails Code = "zone-fails" // about: the zone; failures
	CodeZoneWorks Code = "zone-works" // instance; about: the zone; failures
	CodeProven    Code = "proven"     // instance; served_seconds
	CodeForNought Code = "for-nought" // instance: which is well again

	// Healing as a whole.
	CodeTooMany  Code = "too-many"  // about: the check; unwell, size, heal_limit
	CodeFewAgain Code = "few-again" // the same
	CodeHealsBy  Code = "heals-by"  // about: what heals now

	// A rollout.
	CodeTurnedIll Code = "turned-ill" // instance; about: the check; words: its answers
	CodeStumbled  Code = "stumbled"   // instance; about: how, one of the codes of machines; words: the driver's; failures
	CodeFilled    Code = "filled"     // wave, waves
	CodeNotWhole  Code = "not-whole"  // wave, waves, soak_seconds
	CodeUnwatched Code = "unwatched"  // the same
	CodePassed    Code = "passed"     // wave, waves, soak_seconds; left_behind, never_served when it is the last
	// The gates; all with new_percent, new_requests, old_percent, old_requests,
	// margin_points, evidence, least, in_wave, line_seconds.
	CodeGateBroke     Code = "gate-broke"     // about: its kind
	CodeGateUndecided Code = "gate-undecided" // about: its kind
	CodeGateAlone     Code = "gate-alone"     // about: its kind; nothing to compare with, and most was bad
	CodeTooIll        Code = "too-ill"        // a gate on health broke; healthy_percent, floor, judged
	CodeTooFewServe   Code = "too-few-serve"  // a gate on how many serve broke; serving, floor
	CodeSuperseded    Code = "superseded"     // about: the version of the rollout that takes its place
	CodeBackWhole     Code = "back-whole"     // about: the version; serving, size, left_behind
)

// Why one is sent away and no other of those that could be: in the words of a cause.
const (
	ChosenIdle   = "serves nobody"
	ChosenIll    = "unhealthy"
	ChosenPast   = "outdated"
	ChosenOldest = "oldest"
	ChosenNewest = "newest"
	ChosenTurn   = "turn" // by the order of the rollout
)

// Asked is the cause of what a person did.
func Asked(reason string) Cause { return Cause{Code: CodeAsked, Words: reason} }

// Because is a cause in words alone, of what the core does not decide.
func Because(words string, numbers ...Number) Cause { return Cause{Words: words, Numbers: numbers} }
