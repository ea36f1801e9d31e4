package fleet

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/scaling"
	"unitas/internal/fleet/words"
)

// RuleAround is what was observed of the metric of a rule.
type RuleAround struct {
	// Peak is the most that all instances bore together in the last day; 0 when not known.
	Peak float64
	// AtMax is for how long in the last week the group was at its max, and Over for how much of
	// that the metric was over the target.
	AtMax, Over time.Duration
	// Late is how long after its settle an instance still measured otherwise than the others:
	// the middle one of those that were launched in the last day.
	Late time.Duration
}

// AdviseRules tells what of the rules is allowed and will hurt, by rule; "" is of all together.
func (g *Group) AdviseRules(around map[string]RuleAround) map[string][]string {
	all := map[string][]string{}
	say := func(rule, format string, args ...any) { all[rule] = append(all[rule], fmt.Sprintf(format, args...)) }
	metrics, shrinks := 0, false
	for k := range g.Rules {
		r := &g.Rules[k]
		if r.Off || r.Kind == scaling.Calendar {
			continue
		}
		metrics++
		shrinks = shrinks || (r.Kind == scaling.Steady && !r.GrowOnly) || slices.ContainsFunc(r.Thresholds, func(l scaling.Line) bool { return l.Below })
		a := around[r.Name]
		if text := g.flaps(r); text != "" {
			say(r.Name, "%s", text)
		}
		if a.Late > metric.Every {
			say(r.Name, "Settle is %s, and the %s of a fresh instance takes %s longer until it is as that of the others: rules go by what is not stable yet. Give at least %s.",
				words.Span(g.Settle), r.Metric, words.Span(a.Late), words.Span((g.Settle + a.Late).Round(time.Second)))
		}
		g.adviseMax(r, a, say)
		if g.Min == 0 && g.sleepsOn(r) {
			say(r.Name, "Min is 0, and at size 0 nobody's %s is measured: nothing makes the group larger again. Give min 1, or a rule on requests, which counts those that come to nobody.", r.Metric)
		}
	}
	if metrics > 0 && !shrinks {
		say("", "No rule ever makes the group smaller: what it grew it stays, and costs.")
	}
	return all
}

// sleepsOn reports whether a rule may bring the group to nothing and cannot bring it back: what it goes by
// is measured of instances alone.
func (g *Group) sleepsOn(r *scaling.Rule) bool {
	if _, pushed := r.Metric.Pushed(); pushed || (r.Metric == metric.Requests && len(g.Pools) > 0) {
		return false
	}
	return (r.Kind == scaling.Steady && !r.GrowOnly) || slices.ContainsFunc(r.Thresholds, func(l scaling.Line) bool { return l.Below })
}

// flaps tells of a pair of lines between which the group cannot rest: with one instance less,
// what they bear is over the line at which it grows.
func (g *Group) flaps(r *scaling.Rule) string {
	if r.Aggregate == metric.Total {
		return ""
	}
	for _, down := range r.Thresholds {
		for _, up := range r.Thresholds {
			if !down.Below || up.Below {
				continue
			}
			for n := max(g.Size, g.Min+1, 2); n <= max(g.Max, 2); n++ {
				left := down.Step.From(n)
				if left < max(g.Min, 1) || left >= n {
					continue
				}
				if then := down.At * float64(n) / float64(left); then > up.At {
					return fmt.Sprintf("The thresholds %s and %s flap: at %d instances just under %s, the %d that are left would be at %s, over %s, and it grows again. Put them further apart.",
						metric.Short(down.At), metric.Short(up.At), n, r.Metric.Say(down.At), left, r.Metric.Say(then), r.Metric.Say(up.At))
				}
				break // with more instances one less matters less
			}
		}
	}
	return ""
}

// adviseMax tells of a max at which the group cannot bear what it has to.
func (g *Group) adviseMax(r *scaling.Rule, a RuleAround, say func(rule, format string, args ...any)) {
	line := r.KeepAt
	if r.Kind == scaling.Trip {
		line = math.Inf(1)
		for _, l := range r.Thresholds {
			if !l.Below {
				line = min(line, l.At)
			}
		}
	}
	if r.Kind == scaling.Trip && r.Aggregate == metric.Total || math.IsInf(line, 1) || line <= 0 {
		return
	}
	largest := (g.Max + len(g.Zones) - 1) / max(len(g.Zones), 1)
	if g.Spread == placement.InOrder || g.Spread == placement.Cheapest {
		largest = g.Max
	}
	if left := g.Max - largest; a.Peak > 0 && len(g.Zones) > 1 && a.Peak > line*float64(left) {
		say(r.Name, "Max is %d: after the loss of a zone the %d that are left could not bear the most of the last day, which needed %d at %s.",
			g.Max, left, int(math.Ceil(a.Peak/line)), r.Metric.Say(line))
	}
	if a.AtMax >= 10*time.Minute && a.Over >= a.AtMax*9/10 {
		say(r.Name, "In the last week the group was at its max of %d for %s, and %s was over %s nearly all of that: max is too small.",
			g.Max, words.Span(a.AtMax), r.Metric, r.Metric.Say(line))
	}
}

// Overlaps tells which other calendars one meets within a time, and what counts then.
func (g *Group) Overlaps(rule *scaling.Rule, begins []time.Time, others map[string][]time.Time) []string {
	var all []string
	for k := range g.Rules {
		o := &g.Rules[k]
		if o.Kind != scaling.Calendar || o.Name == rule.Name || o.Off {
			continue
		}
		for _, at := range begins {
			met := false
			for _, other := range others[o.Name] {
				met = met || meets(at, rule.Duration, other, o.Duration)
			}
			if met {
				all = append(all, fmt.Sprintf("From %s it meets the calendar %s (%s): %s.", words.Moment(at), o.Name, o.Sets(), whatCounts(rule, o)))
				break
			}
		}
	}
	return all
}

// meets reports whether two spans have a moment in common; what is from then on lasts a moment.
func meets(a time.Time, aSpan time.Duration, b time.Time, bSpan time.Duration) bool {
	return a.Before(b.Add(max(bSpan, 1))) && b.Before(a.Add(max(aSpan, 1)))
}

// whatCounts is what counts of two calendars that last at once.
func whatCounts(a, b *scaling.Rule) string {
	var parts []string
	if a.Min != nil && b.Min != nil {
		parts = append(parts, fmt.Sprintf("the higher min counts, %d", max(*a.Min, *b.Min)))
	}
	if a.Max != nil && b.Max != nil {
		parts = append(parts, fmt.Sprintf("the higher max counts, %d", max(*a.Max, *b.Max)))
	}
	if a.Size != nil && b.Size != nil {
		parts = append(parts, "the size of the one that begins last counts")
	}
	if len(parts) == 0 {
		return "both count"
	}
	return strings.Join(parts, ", ")
}
