package say

import (
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
	"unitas/internal/fleet/words"
)

// ofRule tells why a rule, or a calendar, changed the size.
func ofRule(c fleet.Cause) string {
	n, m := c.Numbers, metric.Name(c.Words)
	switch c.Code {
	case fleet.CodeTrip:
		way := "above"
		if n.Int("below") == 1 {
			way = "below"
		}
		return fmt.Sprintf("%s: %s stayed %s %s for %s, now at %s over %d", c.About, m, way, m.Say(n.Get("line")), words.Span(n.Span("for_seconds")), m.Say(n.Get("value")), n.Int("serving"))
	case fleet.CodeSteady:
		return fmt.Sprintf("%s: %s at %s over %d, to be kept at %s, needs %d", c.About, m, m.Say(n.Get("value")), n.Int("serving"), m.Say(n.Get("target")), n.Int("needed"))
	case fleet.CodeForeseen:
		return fmt.Sprintf("%s: the same hour of the week bore %s in all, which needs %d at %s each", c.About, m.Say(n.Get("foreseen")), n.Int("needed"), m.Say(n.Get("target")))
	case fleet.CodeCalendar:
		if lasts := n.Span("lasts_seconds"); lasts > 0 {
			return fmt.Sprintf("the calendar %s has it so for %s", c.About, words.Span(lasts))
		}
		return fmt.Sprintf("the calendar %s has it so from now on", c.About)
	case fleet.CodeCalendarOver:
		return fmt.Sprintf("the time of the calendar %s is over", c.About)
	case fleet.CodeTried:
		return fmt.Sprintf("a person had the rule %s act on %s", c.About, m.Say(n.Get("value")))
	}
	whose := "the group's own bounds"
	if c.About != "" {
		whose = "the bounds of the calendar " + c.About
	}
	return fmt.Sprintf("%s are %d to %d", whose, n.Int("min"), n.Int("max"))
}

// Thinks tells what a rule thinks now: "cpu at 71 % over 6, to be kept at 60 %: wants 8; cooling
// down for 40 s".
func Thinks(now time.Time, view *fleet.View, v scaling.Verdict) string {
	g, b := &view.Group, view.Group.Bounds(now, view.Sizing)
	r := g.Rule(v.Rule)
	if r == nil {
		return ""
	}
	if v.Why == scaling.NoData {
		if v.Point.At.IsZero() {
			return fmt.Sprintf("%s was not measured yet: asks for nothing, and nothing shrinks", r.Metric)
		}
		return fmt.Sprintf("%s was last measured %s ago: asks for nothing, and nothing shrinks", r.Metric, words.Span(now.Sub(v.Point.At)))
	}
	text := fmt.Sprintf("%s at %s over %d", r.Measure(), r.Metric.Say(v.Point.Value), v.Point.Serving)
	if r.Kind == scaling.Steady {
		text += fmt.Sprintf(", to be kept at %s", r.Metric.Say(r.KeepAt))
		if r.Aggregate == metric.Total {
			text += " each"
		}
	}
	text += ": " + wants(r, g, v)
	switch {
	case v.Want > g.Size && v.Want > b.Max:
		text += fmt.Sprintf(", and max is %d", b.Max)
	case v.Want < g.Size && v.Want < b.Min:
		text += fmt.Sprintf(", and min is %d", b.Min)
	}
	if v.Point.Missing > 0 {
		text += fmt.Sprintf("; %s not measured", words.Are(v.Point.Missing, "instance"))
	}
	if !v.Until.IsZero() {
		text += "; cooling down for " + words.Span(v.Until.Sub(now))
	}
	switch {
	case r.Off:
		text += "; it is off"
	case v.Want != g.Size && g.Frozen != "":
		text += "; not while the group is frozen"
	case v.Want < g.Size && view.Rollout != nil:
		text += "; nothing shrinks during a rollout"
	case v.Want < g.Size && !g.HealStopped.IsZero():
		text += "; nothing shrinks while healing is stopped"
	case v.Want < g.Size && view.Short():
		text += "; nothing shrinks while fewer serve than the size"
	}
	return text
}

func wants(r *scaling.Rule, g *fleet.Group, v scaling.Verdict) string {
	line := func() string {
		l := r.Thresholds[v.Line]
		way := "above"
		if l.Below {
			way = "below"
		}
		return fmt.Sprintf("%s %s for %s", way, r.Metric.Say(l.At), words.Span(v.Past))
	}
	switch v.Why {
	case scaling.Lasting:
		return fmt.Sprintf("%s of %s", line(), words.Span(r.Thresholds[v.Line].For))
	case scaling.Tripped:
		return fmt.Sprintf("%s, wants %d", line(), v.Want)
	case scaling.Gaps:
		if v.Line >= 0 {
			return line() + ", but with gaps: nothing shrinks on them"
		}
		return fmt.Sprintf("needs %d, but what was measured has gaps: nothing shrinks on them", v.Floor)
	case scaling.Calming:
		return fmt.Sprintf("needs %d, which has lasted %s of %s", v.Floor, words.Span(v.Past), words.Span(r.Calm))
	case scaling.Off:
		if v.AtLeast {
			return fmt.Sprintf("wants at least %d", v.Want)
		}
		return fmt.Sprintf("wants %d", v.Want)
	case scaling.Foreseen:
		return fmt.Sprintf("wants %d early, as the same hour of the week bore %s", v.Want, r.Metric.Say(v.Foreseen))
	}
	if v.AtLeast {
		return fmt.Sprintf("at least %d are needed: at %s it hides how much there is to bear", v.Need, r.Metric.Say(v.Point.Value))
	}
	if r.Kind == scaling.Steady && v.Need < g.Size {
		if r.GrowOnly {
			return fmt.Sprintf("needs %d, and never shrinks", v.Need)
		}
		if v.Floor > v.Need {
			return fmt.Sprintf("needs %d now, and %d soon, as the same hour of the week did", v.Need, v.Floor)
		}
		return fmt.Sprintf("needs %d, near enough to %d", v.Need, g.Size)
	}
	return fmt.Sprintf("%d is right", g.Size)
}

// Calendar tells whether a calendar lasts, and when it comes next.
func Calendar(now time.Time, r *scaling.Rule, t scaling.Times) string {
	text := ""
	if until, lasts := r.Lasts(now, t); lasts {
		text = fmt.Sprintf("%s until %s", r.Sets(), words.Moment(until))
	}
	switch {
	case r.Off:
		return "it is off"
	case t.Next.IsZero() && text == "":
		return "it is over and never comes again"
	case t.Next.IsZero():
		return text + "; then never again"
	}
	next := fmt.Sprintf("next at %s, in %s", words.Moment(t.Next), words.Span(t.Next.Sub(now)))
	if text == "" {
		return r.Sets() + ", " + next
	}
	return text + "; " + next
}

// Sizing tells what sets the size of a group now.
func Sizing(now time.Time, v *fleet.View, b scaling.Bounds, o scaling.Agreed) string {
	g := &v.Group
	text := fmt.Sprintf("The size is %d, between %d and %d", g.Size, b.Min, b.Max)
	if len(b.By) > 0 {
		text += fmt.Sprintf(" by the calendar %s until %s", b.By[0], words.Moment(b.Until))
	}
	switch {
	case g.SizedBy != "":
		text += "; " + g.SizedBy + " set it last"
	case len(g.Rules) == 0:
		return text + ", set by hand; there are no rules."
	default:
		text += "; it was set by hand and holds until a rule acts"
	}
	switch {
	case o.By != "" && g.Frozen != "":
		text += fmt.Sprintf(". %s wants %d, and the group is frozen", o.By, o.Want)
	case o.By != "" && o.Want < g.Size && v.Rollout != nil:
		text += fmt.Sprintf(". %s wants %d; nothing shrinks during a rollout", o.By, o.Want)
	case o.By != "":
		text += fmt.Sprintf(". %s wants %d", o.By, o.Want)
	case o.Against != "":
		text += fmt.Sprintf(". It does not shrink since %s does not agree", o.Against)
	}
	return text + "."
}

// Tried tells what a rule would decide on a value.
func Tried(now time.Time, v *fleet.View, verdict scaling.Verdict, wants int) string {
	g := &v.Group
	verdict.Point.At = now
	what := fmt.Sprintf("the size stays %d", g.Size)
	if wants != g.Size {
		what = fmt.Sprintf("the size would be %d instead of %d", wants, g.Size)
	}
	return fmt.Sprintf("%s: %s.", Thinks(now, v, verdict), what)
}

// Replayed tells what rules would have come to.
func Replayed(r fleet.Replayed, hours, wasHours, cost, wasCost float64, over time.Duration) string {
	least, most := 0, 0
	if len(r.Sizes) > 0 {
		least, most = r.Sizes[0], r.Sizes[0]
	}
	for _, n := range r.Sizes {
		least, most = min(least, n), max(most, n)
	}
	changes := 0
	for _, c := range r.Changes {
		if c.Kind == "group.resized" {
			changes++
		}
	}
	text := fmt.Sprintf("Over %s the size would have changed %s, between %d and %d: %.2f instance hours, and there were %.2f", words.Span(over.Round(time.Minute)), words.Count(changes, "time"), least, most, hours, wasHours)
	if cost > 0 || wasCost > 0 {
		text += fmt.Sprintf("; %.4g instead of %.4g in cost", cost, wasCost)
	}
	if r.Gaps > 0 {
		text += fmt.Sprintf("; at %s some rule had no value", words.Count(r.Gaps, "moment"))
	}
	return text + "."
}
