package fleet

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/words"
)

// Summary is a group in a few numbers and one sentence, the same in the
// console, on the command line and in the journal.
type Summary struct {
	// Sentence heads every page about the group.
	Sentence string
	Serving  int // take traffic now
	Unwell   int // in service, but a check finds them ill
	ComingUp int // ordered, booting or settling
	GoingOut int // draining, leaving or lost
	Parked   int // kept running by a person, and not counted
	// Versions of the instances that count, newest last.
	Versions []VersionCount
	// Zones are the same by zone, in the group's order; what is in none of its
	// zones any more comes last, under the zone's own name.
	Zones []ZoneCount
	// Waits are what the group waits for now, longest wait first.
	Waits []Wait
	// Left is about how long the live rollout still takes, or without one until
	// all that comes up serves; 0 when there is neither, the rollout is held, or
	// nothing is known to go by.
	Left time.Duration
}

// ZoneCount is how many instances of one zone there are, as in [Summary].
type ZoneCount struct {
	Zone                                        string
	Serving, Unwell, ComingUp, GoingOut, Parked int
}

// VersionCount is how many instances run one version.
type VersionCount struct {
	Version Version
	Counted int
	Serving int
}

// Wait is one thing that a group waits for.
type Wait struct {
	Instance string
	State    State
	For      time.Duration
	Usual    time.Duration // median; 0 when not known
	Slow     time.Duration // 95th percentile; 0 when not known
	Why      string
}

// Summarise describes the view at the time now.
func Summarise(now time.Time, v View) Summary {
	var s Summary
	for _, zone := range v.Group.Zones {
		s.Zones = append(s.Zones, ZoneCount{Zone: zone})
	}
	for i := range v.Instances {
		in := &v.Instances[i]
		zone := s.zone(in.Zone)
		switch {
		case v.Group.Serves(in):
			s.Serving++
			zone.Serving++
		case in.State == Serving:
			s.Unwell++
			zone.Unwell++
		case in.State.ComingUp(), in.State == Resting:
			s.ComingUp++
			zone.ComingUp++
		case in.State == Parked:
			s.Parked++
			zone.Parked++
		case in.State != Gone:
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

func (s *Summary) countVersion(in *Instance, serves bool) {
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

func (s *Summary) on(v Version) VersionCount {
	for _, c := range s.Versions {
		if c.Version == v {
			return c
		}
	}
	return VersionCount{Version: v}
}

func waitOf(now time.Time, v View, in *Instance) (Wait, bool) {
	w := Wait{Instance: in.ID, State: in.State, For: now.Sub(in.Since), Why: in.Why}
	switch in.State {
	case Ordered, Booting, Settling:
		if in.Served.IsZero() || !in.Since.After(in.Served) { // one that rested comes up from less
			w.For, w.Usual, w.Slow = now.Sub(in.Ordered), v.Usual, v.Slow
		}
		for _, r := range in.Reports {
			w.Why = r.Check + " " + r.Why
		}
	case Draining:
		w.Why = fmt.Sprintf("%s in flight", words.Count(in.Traffic.InFlight, "request"))
	case Leaving, Resting:
	default:
		return w, false
	}
	return w, true
}

func (w Wait) String() string {
	text := fmt.Sprintf("%s, %s for %s", w.Instance, w.State, words.Span(w.For))
	switch {
	case w.Usual > 0:
		text += ", usually " + words.Span(w.Usual)
	case w.State == Draining:
		text += ", " + w.Why
	}
	return text
}

func groupSentence(now time.Time, v View, s *Summary) string {
	g := v.Group
	if g.Deleting {
		remaining := s.Serving + s.Unwell + s.ComingUp + s.GoingOut + s.Parked
		text := fmt.Sprintf("Being deleted: %s still to go", words.Count(remaining, "instance"))
		if n := len(Pinned(v.Instances)); n > 0 {
			text += fmt.Sprintf("; %d pinned and kept until unpinned", n)
		}
		return text + waiting(s) + "."
	}
	text := fmt.Sprintf("%d of %d serving, between %d and %d", s.Serving, g.Size, g.Min, g.Max)
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
	if s.Unwell > 0 {
		text += fmt.Sprintf("; %d unhealthy", s.Unwell)
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
	text += relapseWords(now, g.Relapses)
	if g.Size > s.Serving+s.Unwell+s.ComingUp {
		text += setbackWords(now, &g)
	}
	return text + waiting(s) + "."
}

// setbackWords tells of the zone of the group that launches wait for and that failed
// most.
func setbackWords(now time.Time, g *Group) string {
	var worst *Setback
	for i := range g.Setbacks {
		s := &g.Setbacks[i]
		if slices.Contains(g.Zones, s.Zone) && now.Before(s.Until) && (worst == nil || s.Count > worst.Count) {
			worst = s
		}
	}
	if worst == nil {
		return ""
	}
	return fmt.Sprintf("; launches in %s back off after %s", worst.Zone, words.Count(worst.Count, "failure"))
}

// doubts tells which checks find instances ill that serve all the same, by others.
func doubts(v View) string {
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

// relapseWords tells of the places that failed again and again.
func relapseWords(now time.Time, all []Relapse) string {
	var worst *Relapse
	marked := 0
	for i := range all {
		if r := &all[i]; r.Count > 1 {
			marked++
			if worst == nil || r.Count > worst.Count {
				worst = r
			}
		}
	}
	if worst == nil {
		return ""
	}
	text := fmt.Sprintf("; one place failed %d times in a row", worst.Count)
	if marked > 1 {
		text = fmt.Sprintf("; %d places failed again and again, one %d times in a row", marked, worst.Count)
	}
	if worst.In == "" && now.Before(worst.Until) {
		text += ", tried again in " + words.Span(worst.Until.Sub(now))
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

func rolloutSentence(now time.Time, v View, s *Summary) string {
	g, r := v.Group, v.Rollout
	to := s.on(r.To)
	if g.Frozen != "" && !r.State.Ended() {
		return fmt.Sprintf("Frozen (%s) in wave %d of %d, %d of %d serving: %d of %d on %s.",
			g.Frozen, r.Wave+1, len(r.Waves), s.Serving, g.Size, to.Serving, g.Size, r.To)
	}
	switch r.State {
	case Moving:
		return fmt.Sprintf("Wave %d of %d: %d of %d on %s%s.", r.Wave+1, len(r.Waves), to.Serving, g.Size, r.To, waiting(s))
	case Soaking:
		return fmt.Sprintf("Wave %d of %d soaks: %d of %d on %s, good for %s of %s.",
			r.Wave+1, len(r.Waves), to.Serving, g.Size, r.To, words.Span(now.Sub(r.Since)), words.Span(r.Soak))
	case Held:
		return fmt.Sprintf("Held in wave %d of %d, %d of %d serving: %s. Proceed or revert.", r.Wave+1, len(r.Waves), s.Serving, g.Size, r.Why)
	case Reverting:
		return fmt.Sprintf("Reverting to %s: %d of %d back%s.", r.From, s.on(r.From).Serving, g.Size, waiting(s))
	}
	return fmt.Sprintf("The rollout to %s is %s: %s.", r.To, r.State, r.Why)
}

// left estimates the rest from the usual time to come up.
func left(now time.Time, v View, s *Summary) time.Duration {
	r := v.Rollout
	switch {
	case v.Usual == 0 || (r != nil && (r.State == Held || r.State.Ended())):
		return 0
	case r == nil:
		var longest time.Duration
		for _, w := range s.Waits {
			if w.State.ComingUp() {
				longest = max(longest, v.Usual-w.For, time.Second)
			}
		}
		return longest
	}
	atOnce := r.Above + r.Below
	if r.State == Reverting {
		return rollout.WaveShortest(v.Group.Size-s.on(r.From).Serving, atOnce, v.Usual, 0)
	}
	rest := r.Waves.Shortest(r.Wave, s.on(r.To).Serving, v.Group.Size, atOnce, v.Usual, 0, r.Soak)
	if r.State == Soaking {
		rest -= now.Sub(r.Since)
	}
	for _, w := range s.Waits { // what is under way has part of its time behind it
		if w.State.ComingUp() {
			rest -= min(w.For, v.Usual)
			break
		}
	}
	return max(rest, time.Second)
}

// Slip is the instance as a tile of text: its template version between marks
// that tell its state.
func (i *Instance) Slip() string {
	n := i.Version.N
	switch {
	case i.State == Serving && i.ill():
		return fmt.Sprintf("!%d!", n)
	case i.State == Serving:
		return fmt.Sprintf("[%d]", n)
	case i.State.ComingUp(), i.State == Resting:
		return fmt.Sprintf("(%d)", n)
	case i.State == Parked:
		return fmt.Sprintf("|%d|", n)
	case i.State == Lost:
		return fmt.Sprintf("~%d~", n)
	}
	return fmt.Sprintf("/%d/", n)
}
