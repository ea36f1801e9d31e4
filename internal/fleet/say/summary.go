package say

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
)

// Summary is a group in a few numbers and one sentence, the same in the
// console, on the command line and in the journal.
type Summary struct {
	// Sentence heads every page about the group.
	Sentence  string
	Serving   int // take traffic now
	Unhealthy int // in service, but a check finds them ill
	ComingUp  int // ordered, booting or settling
	GoingOut  int // draining, leaving or lost
	Parked    int // kept running by a person, and not counted
	// Versions of the instances that count, newest last.
	Versions []VersionCount
	// Zones are the same by zone, in the group's order; what is in none of its
	// zones any more comes last, under the zone's own name.
	Zones []ZoneCount
	// Waits are what the group waits for now, longest wait first.
	Waits []Wait
	// Condition is how the group stands, and Needs what a person has to do about it, the most
	// urgent first; nothing of that changes by itself.
	Condition Condition
	Needs     []string
	// Left is about how long the live rollout still takes, or without one until
	// all that comes up serves; 0 when there is neither, the rollout is held, or
	// nothing is known to go by.
	Left time.Duration
}

// ZoneCount is how many instances of one zone there are, as in [Summary].
type ZoneCount struct {
	Zone string
	// Lost is set when nothing of it serves and launches there wait after failures.
	Lost                                           bool
	Serving, Unhealthy, ComingUp, GoingOut, Parked int
}

// VersionCount is how many instances run one version.
type VersionCount struct {
	Version fleet.Version
	Counted int
	Serving int
}

// Wait is one thing that a group waits for.
type Wait struct {
	Instance string
	State    fleet.State
	For      time.Duration
	Usual    time.Duration // median; 0 when not known
	Slow     time.Duration // 95th percentile; 0 when not known
	Why      string
	// Hooks hold it, and Behind is how much of its way up it has behind it.
	Hooks  []string
	Behind time.Duration
}

// Summarise describes the view at the time now.
func Summarise(now time.Time, v fleet.View) Summary {
	var s Summary
	for _, zone := range v.Group.Zones {
		s.Zones = append(s.Zones, ZoneCount{Zone: zone})
	}
	for i := range v.Instances {
		in := &v.Instances[i]
		zone := s.zone(in.Zone)
		switch {
		case v.Group.IsOverdue(now, in): // it stays, for a person to look at or since nobody heals it
			s.Unhealthy++
			zone.Unhealthy++
		case v.Group.Serves(in):
			s.Serving++
			zone.Serving++
		case in.State == fleet.Serving:
			s.Unhealthy++
			zone.Unhealthy++
		case in.State.ComingUp(), in.State == fleet.Resting:
			s.ComingUp++
			zone.ComingUp++
		case in.State == fleet.Parked:
			s.Parked++
			zone.Parked++
		case in.State != fleet.Gone:
			s.GoingOut++
			zone.GoingOut++
		}
		if in.Counts() {
			s.countVersion(in, v.Group.Serves(in))
		}
		if w, ok := waitOf(now, v, in); ok {
			s.Waits = append(s.Waits, w)
		}
	}
	for i := range v.Group.Setbacks {
		if b := &v.Group.Setbacks[i]; now.Before(b.Until) && slices.Contains(v.Group.Zones, b.Zone) {
			zone := s.zone(b.Zone)
			zone.Lost = zone.Serving == 0
		}
	}
	slices.SortFunc(s.Versions, func(a, b VersionCount) int {
		if c := strings.Compare(a.Version.Name, b.Version.Name); c != 0 {
			return c
		}
		return a.Version.N - b.Version.N
	})
	slices.SortStableFunc(s.Waits, func(a, b Wait) int { return int(b.For - a.For) })
	s.Left = left(now, v, &s)
	if v.Rollout != nil {
		s.Sentence = rolloutSentence(now, v, &s)
		if !v.Group.HealStopped.IsZero() {
			s.Sentence += " Healing stopped and asks for a person."
		}
	} else {
		s.Sentence = groupSentence(now, v, &s)
	}
	s.Condition, s.Needs = condition(v, &s), needs(v, &s)
	if v.Stuck != "" {
		s.Sentence = "Nothing can be decided now, because " + v.Stuck + ". Before that: " + s.Sentence
	}
	return s
}

func (s *Summary) zone(name string) *ZoneCount {
	k := slices.IndexFunc(s.Zones, func(z ZoneCount) bool { return z.Zone == name })
	if k < 0 {
		s.Zones = append(s.Zones, ZoneCount{Zone: name})
		k = len(s.Zones) - 1
	}
	return &s.Zones[k]
}

func (s *Summary) countVersion(in *fleet.Instance, serves bool) {
	k := slices.IndexFunc(s.Versions, func(c VersionCount) bool { return c.Version == in.Version })
	if k < 0 {
		s.Versions = append(s.Versions, VersionCount{Version: in.Version})
		k = len(s.Versions) - 1
	}
	s.Versions[k].Counted++
	if serves {
		s.Versions[k].Serving++
	}
}

func (s *Summary) on(v fleet.Version) VersionCount {
	for _, c := range s.Versions {
		if c.Version == v {
			return c
		}
	}
	return VersionCount{Version: v}
}

func waitOf(now time.Time, v fleet.View, in *fleet.Instance) (Wait, bool) {
	w := Wait{Instance: in.ID, State: in.State, For: now.Sub(in.Since), Why: Because(in.Cause)}
	if v.Group.IsOverdue(now, in) {
		return w, false
	}
	switch in.State {
	case fleet.Ordered, fleet.Booting, fleet.Settling:
		if in.Served.IsZero() || !in.Since.After(in.Served) { // one that rested comes up from less
			w.For, w.Usual, w.Slow = now.Sub(in.Ordered), v.Usual, v.Slow
		}
		for _, r := range in.Reports {
			w.Why = r.Check + " " + r.Why
		}
	case fleet.HeldIn, fleet.HeldOut:
		w.held(now, v, in)
	case fleet.Draining:
		w.Why = fmt.Sprintf("%s in flight", words.Count(in.Traffic.InFlight, "request"))
	case fleet.Leaving, fleet.Resting:
	default:
		return w, false
	}
	return w, true
}

// held tells of the ticket that has held an instance longest.
func (w *Wait) held(now time.Time, v fleet.View, in *fleet.Instance) {
	w.Behind = now.Sub(in.Ordered)
	for k := range in.Tickets {
		t := &in.Tickets[k]
		if t.State != fleet.TicketOpen {
			continue
		}
		if len(w.Hooks) == 0 {
			usual := v.Holds[t.Hook]
			w.For, w.Usual, w.Slow = now.Sub(t.Opened), usual.Median, usual.Slow
			w.Why = fmt.Sprintf("the hook %s holds it until somebody answers, for %s more at most; then %s counts", t.Hook, words.Span(max(t.Deadline.Sub(now), 0)), t.Counts)
		}
		w.Hooks = append(w.Hooks, t.Hook)
	}
}

func (w Wait) String() string {
	state := w.State.Shown()
	if len(w.Hooks) > 0 {
		state += " by " + strings.Join(w.Hooks, " and ")
	}
	text := fmt.Sprintf("%s, %s for %s", w.Instance, state, words.Span(w.For))
	switch {
	case w.Usual > 0:
		text += ", usually " + words.Span(w.Usual)
	case w.State == fleet.Draining:
		text += ", " + w.Why
	}
	return text
}

func groupSentence(now time.Time, v fleet.View, s *Summary) string {
	g := v.Group
	if g.Deleting {
		remaining := s.Serving + s.Unhealthy + s.ComingUp + s.GoingOut + s.Parked
		text := fmt.Sprintf("Being deleted: %s still to go", words.Count(remaining, "instance"))
		if n := len(fleet.Pinned(v.Instances)); n > 0 {
			text += fmt.Sprintf("; %d pinned and kept until unpinned", n)
		}
		return text + waiting(s) + "."
	}
	least, most := bounds(&g)
	text := fmt.Sprintf("%s, between %d and %d", serves(s, &g), least, most)
	if g.Frozen != "" {
		text = fmt.Sprintf("Frozen (%s): %s", g.Frozen, text)
	}
	switch len(s.Versions) {
	case 0:
	case 1:
		text += ", all on " + s.Versions[0].Version.String()
	default:
		for _, c := range s.Versions {
			text += fmt.Sprintf(", %d on %s", c.Counted, c.Version)
		}
	}
	if s.Unhealthy > 0 {
		text += fmt.Sprintf("; %d unhealthy", s.Unhealthy)
	}
	text += doubts(v)
	if s.ComingUp > 0 {
		text += fmt.Sprintf("; %d coming up", s.ComingUp)
	}
	if s.Parked > 0 {
		text += fmt.Sprintf("; %d parked", s.Parked)
	}
	if !g.HealStopped.IsZero() {
		text += "; healing stopped and asks for a person"
	}
	text += slotWords(now, &g)
	if g.Size > s.Serving+s.Unhealthy+s.ComingUp {
		text += setbackWords(now, &g)
	}
	return text + waiting(s) + "."
}

// setbackWords tells of the zone of the group that launches wait for and that failed
// most.
func setbackWords(now time.Time, g *fleet.Group) string {
	var worst *fleet.Setback
	for i := range g.Setbacks {
		s := &g.Setbacks[i]
		if slices.Contains(g.Zones, s.Zone) && now.Before(s.Until) && (worst == nil || s.Count > worst.Count) {
			worst = s
		}
	}
	if worst == nil {
		return ""
	}
	text := fmt.Sprintf("; launches in %s back off after %s", worst.Zone, words.Count(worst.Count, "failure"))
	if worst.Why != "" {
		text += ": " + words.Plain(worst.Why, words.Outside)
	}
	return text
}

// doubts tells which checks find instances ill that serve all the same, by others.
func doubts(v fleet.View) string {
	var text strings.Builder
	for _, check := range v.Group.AllChecks() {
		n := 0
		for i := range v.Instances {
			if in := &v.Instances[i]; v.Group.Serves(in) && in.Report(check).Verdict == health.Unhealthy {
				n++
			}
		}
		if n > 0 {
			fmt.Fprintf(&text, "; %s finds %d of those that serve unhealthy", check, n)
		}
	}
	return text.String()
}

// bounds are those of now: while a calendar lasts, its.
func bounds(g *fleet.Group) (least, most int) {
	if g.Bound != nil {
		return g.Bound.Min, g.Bound.Max
	}
	return g.Min, g.Max
}

// badPlaces counts the places that failed again and again and those that are kept empty;
// worst is the one that failed most, nil when there is none.
func badPlaces(g *fleet.Group) (failing, kept int, worst *fleet.Slot) {
	for i := range g.Slots {
		s := &g.Slots[i]
		if s.Kept && g.Heal == fleet.HealOff {
			kept++
		}
		if s.Failures > 1 {
			failing++
			if worst == nil || s.Failures > worst.Failures {
				worst = s
			}
		}
	}
	return failing, kept, worst
}

// slotWords tells of the places that failed again and again, and of those that are
// kept empty.
func slotWords(now time.Time, g *fleet.Group) string {
	failing, kept, worst := badPlaces(g)
	text := ""
	if kept > 0 {
		text = fmt.Sprintf("; %s empty since a machine vanished, for heal is off", words.Stays(kept, "slot"))
	}
	if worst == nil {
		return text
	}
	if failing > 1 {
		text += fmt.Sprintf("; %d slots failed again and again, one %d times in a row", failing, worst.Failures)
	} else {
		text += fmt.Sprintf("; one slot failed %d times in a row", worst.Failures)
	}
	if worst.Why != "" {
		text += ": " + words.Plain(worst.Why, words.Outside)
	}
	if now.Before(worst.Until) {
		text += ", tried again in " + words.Span(worst.Until.Sub(now))
	} else if g.Size > 0 {
		text += ", forgotten once one has served there for " + words.Span(g.Proof(worst.Failures))
	}
	return text
}

// waiting names the longest wait and how many others there are.
func waiting(s *Summary) string {
	if len(s.Waits) == 0 {
		return ""
	}
	text := "; waits for " + s.Waits[0].String()
	if more := len(s.Waits) - 1; more > 0 {
		text += fmt.Sprintf(", and %d more", more)
	}
	return text
}

// Slip is the instance as a tile of text: its template version between marks
// that tell its state.
func Slip(i *fleet.Instance, overdue bool) string {
	n := i.Version.N
	switch {
	case overdue, i.State == fleet.Serving && i.Ill():
		return fmt.Sprintf("!%d!", n)
	case i.State == fleet.Serving:
		return fmt.Sprintf("[%d]", n)
	case i.State == fleet.HeldIn, i.State == fleet.HeldOut:
		return fmt.Sprintf("{%d}", n)
	case i.State.ComingUp(), i.State == fleet.Resting:
		return fmt.Sprintf("(%d)", n)
	case i.State == fleet.Parked:
		return fmt.Sprintf("|%d|", n)
	case i.State == fleet.Lost:
		return fmt.Sprintf("~%d~", n)
	}
	return fmt.Sprintf("/%d/", n)
}
