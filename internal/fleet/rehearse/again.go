package rehearse

import (
	"fmt"
	"math"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/health"
)

// Told is one line of the journal as it was written, with who did it.
type Told struct {
	At    time.Time
	Actor string
	fleet.Entry
}

// Difference is what was decided at one time, and what is decided now from the same facts; they
// differ.
type Difference struct {
	At       time.Time
	Was, Now []string
}

// Decided is what came of deciding again.
type Decided struct {
	Moments, Same int
	Differences   []Difference // the first of them
	// Given is what people did meanwhile, in words; Stopped why no more could be decided, "".
	Given   []string
	Stopped string
	State   fleet.RolloutState
}

// mostDifferences are told.
const mostDifferences = 20

// Again decides a rollout again, from how the group stood when it began and from the journal
// since, oldest first. Facts are taken from what the lines say happened (a machine ran, a
// verdict changed, a ticket was answered); what people did is taken as given; everything
// else, at each moment at which something was decided, is decided anew and compared. actor
// is in whose name the service writes.
func Again(view fleet.View, journal []Told, actor string) Decided {
	a := &again{view: view, place: map[string]int{}}
	a.view.Group.Rules, a.view.Group.Bound = nil, nil // what they measured is in no journal
	for i := range view.Instances {
		a.place[view.Instances[i].ID] = i
	}
	ro := *view.Rollout
	a.view.Rollout = &ro
	for len(journal) > 0 && a.out.Stopped == "" && !a.view.Rollout.State.Ended() {
		n := 1
		for n < len(journal) && journal[n].At.Equal(journal[0].At) {
			n++
		}
		a.moment(journal[:n], actor)
		journal = journal[n:]
	}
	a.out.State = a.view.Rollout.State
	return a.out
}

type again struct {
	view  fleet.View
	place map[string]int
	out   Decided
}

// moment goes through what was written at one time.
func (a *again) moment(lines []Told, actor string) {
	at := lines[0].At
	var was []string
	for _, l := range lines {
		if l.Actor != actor {
			a.person(l)
			continue
		}
		a.facts(l)
		if decides(l.Entry) {
			was = append(was, tell(l.Entry)...)
		}
	}
	if len(was) == 0 || a.out.Stopped != "" {
		return
	}
	d := fleet.Decide(at, a.view)
	var now []string
	for _, e := range d.Entries {
		now = append(now, tell(e)...)
	}
	slices.Sort(was)
	slices.Sort(now)
	a.out.Moments++
	if slices.Equal(was, now) {
		a.out.Same++
	} else if len(a.out.Differences) < mostDifferences {
		a.out.Differences = append(a.out.Differences, Difference{at, was, now})
	}
	a.take(d)
}

// decides reports whether a line is a decision of the core's, and no fact that was noted.
func decides(e fleet.Entry) bool {
	return !isKind(e.Kind, "verdict", "clock", "drill", "hook", "pool", "check", "replica") && e.Kind != "group.resized" && e.Kind != "group.bounded"
}

func isKind(kind string, of ...string) bool {
	return slices.ContainsFunc(of, func(o string) bool { return len(kind) > len(o) && kind[:len(o)+1] == o+"." })
}

// tell is a line without what differs from one time to another: what became of whom, and
// by what rule.
func tell(e fleet.Entry) []string {
	if len(e.Instances) == 0 || e.Instance != "" {
		return []string{fmt.Sprintf("%s %s%s because %s", e.Kind, e.Instance, map[bool]string{true: e.Zone}[e.Instance == ""], e.Cause.Code)}
	}
	all := make([]string, len(e.Instances))
	for i, id := range e.Instances {
		all[i] = fmt.Sprintf("%s %s because %s", e.Kind, id, e.Cause.Code)
	}
	return all
}

// of calls f for each instance of a line that there is.
func (a *again) of(e fleet.Entry, f func(in *fleet.Instance)) {
	ids := e.Instances
	if e.Instance != "" {
		ids = []string{e.Instance}
	}
	for _, id := range ids {
		if i, ok := a.place[id]; ok {
			f(&a.view.Instances[i])
		}
	}
}

// facts takes in what must have been known for a line to be written.
func (a *again) facts(l Told) {
	machine := func(state fleet.MachineState) {
		a.of(l.Entry, func(in *fleet.Instance) {
			in.HearMachine(fleet.Machine{State: state, Why: l.Cause.Words, Launch: in.Launch})
		})
	}
	switch l.Cause.Code {
	case fleet.CodeAccepted:
		machine(fleet.MachineStarting)
	case fleet.CodeRuns:
		machine(fleet.MachineRunning)
	case fleet.CodeWoken:
		machine(fleet.MachineWoken)
	case fleet.CodeRefused:
		machine(fleet.MachineRefused)
	case fleet.CodeVanished, fleet.CodeEndedInIt, fleet.CodeEndedHeld:
		machine(fleet.MachineStopped)
	case fleet.CodeCleared, fleet.CodeFresh:
		machine(fleet.MachineCleared)
	case fleet.CodeLastRequest:
		a.of(l.Entry, func(in *fleet.Instance) { in.Traffic = fleet.Traffic{Closed: true} })
	case fleet.CodeDrainOver:
		a.of(l.Entry, func(in *fleet.Instance) { in.Traffic.InFlight = l.Cause.Numbers.Int("in_flight") })
	case fleet.CodeUnwatched:
		a.view.Watched = l.At
	case fleet.CodeGateBroke, fleet.CodeGateUndecided, fleet.CodeGateAlone:
		a.saw(l.Cause)
	case fleet.CodePassed:
		a.sawEnough()
	}
	switch {
	case isKind(l.Kind, "verdict"):
		a.of(l.Entry, func(in *fleet.Instance) {
			in.HearVerdict(health.Report{Check: l.Cause.About, Verdict: health.Verdict(l.Kind[len("verdict."):]), Since: l.At, Why: l.Cause.Words})
		})
	case l.Kind == "group.resized": // by a rule; what it measured is not in the journal
		a.view.Group.Size = l.Numbers.Int("to")
		a.out.Given = append(a.out.Given, "group.resized by the rule "+l.Cause.About)
	case isKind(l.Kind, "clock"):
		a.out.Stopped = "the clock was set meanwhile"
	}
}

// saw has a gate have seen what it broke on.
func (a *again) saw(c fleet.Cause) {
	ro := a.view.Rollout
	a.view.Seen = a.seen()
	n := c.Numbers
	count := func(side string) gate.Count {
		of := int64(n.Get(side + "_requests"))
		return gate.Count{N: of, Bad: int64(math.Round(float64(of) * n.Get(side+"_percent") / 100))}
	}
	for k, g := range ro.Gates {
		if string(g.Kind) == c.About {
			a.view.Seen[k] = gate.Comparison{New: count("new"), Old: count("old"), LogE: math.Log(max(n.Get("evidence"), 1e-9)), Line: n.Span("line_seconds")}
		}
	}
}

// sawEnough has the gates have seen as much as they asked for in the present wave.
func (a *again) sawEnough() {
	a.view.Seen = a.seen()
	for k, g := range a.view.Rollout.Gates {
		a.view.Seen[k].New.N = max(a.view.Seen[k].New.N, g.Before+g.MinRequests, 1)
	}
}

func (a *again) seen() []gate.Comparison {
	seen := make([]gate.Comparison, len(a.view.Rollout.Gates))
	for k, g := range a.view.Rollout.Gates {
		seen[k] = g.Seen
	}
	return seen
}

// person has done what a person, or a hook, did.
func (a *again) person(l Told) {
	given := func() {
		a.out.Given = append(a.out.Given, fmt.Sprintf("%s by %s", l.Kind, l.Actor))
	}
	n := l.Numbers
	switch what := l.Kind; {
	case isKind(what, "rollout") && l.Cause.Code == fleet.CodeTold:
		if next, _, err := a.view.Rollout.Tell(l.At, fleet.Command(l.Cause.About), l.Cause.Words); err == nil {
			a.view.Rollout, a.view.Seen = &next, nil
		}
		given()
	case what == "rollout.started":
	case what == "ticket.passed", what == "ticket.failed":
		answer := map[string]fleet.Answer{"ticket.passed": fleet.Pass, "ticket.failed": fleet.Fail}[what]
		a.of(l.Entry, func(in *fleet.Instance) {
			if next, _, changed, err := a.view.Group.AnswerTicket(l.At, *in, l.Cause.About, 0, answer, l.Cause.Words, l.Actor); err == nil && changed {
				*in = next
			}
		})
	case what == "ticket.extended":
		a.of(l.Entry, func(in *fleet.Instance) {
			if next, _, err := a.view.Group.ExtendTicket(l.At, *in, l.Cause.About, n.Span("by_seconds"), ""); err == nil {
				*in = next
			}
		})
		given()
	case what == "group.resized":
		a.view.Group.Size, a.view.Group.Min, a.view.Group.Max = n.Int("to"), n.Int("min"), n.Int("max")
		given()
	case what == "group.frozen":
		a.view.Group.Frozen = l.Cause.Words
		given()
	case what == "group.thawed":
		a.view.Group.Frozen = ""
		given()
	case what == "instance.pinned", what == "instance.unpinned":
		a.of(l.Entry, func(in *fleet.Instance) { in.Pinned = what == "instance.pinned" })
		given()
	case isKind(what, "instance") && l.Cause.Code == fleet.CodeAsked:
		a.of(l.Entry, func(in *fleet.Instance) {
			in.State, in.Since, in.Cause = fleet.State(what[len("instance."):]), l.At, l.Cause
			if in.State == fleet.HeldIn && in.Served.After(in.Ordered) { // on its way out
				in.State = fleet.HeldOut
			}
			in.Traffic = fleet.Traffic{}
		})
		given()
	case what == "group.changed", what == "group.healing-permitted", what == "instance.released", what == "instance.resting":
		a.out.Stopped = fmt.Sprintf("%s did what the journal does not tell in full (%s)", l.Actor, what)
	}
}

// take takes the records over that a decision changes.
func (a *again) take(d fleet.Decision) {
	for _, in := range d.Changed {
		i, known := a.place[in.ID]
		if !known {
			i = len(a.view.Instances)
			a.place[in.ID] = i
			a.view.Instances = append(a.view.Instances, fleet.Instance{})
		}
		a.view.Instances[i] = *in
	}
	if d.Group != nil {
		a.view.Group = *d.Group
	}
	if d.Rollout != nil {
		ro := *d.Rollout
		a.view.Rollout, a.view.Seen = &ro, nil
	}
}
