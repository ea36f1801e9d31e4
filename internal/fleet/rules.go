package fleet

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
	"unitas/internal/fleet/words"
)

// validateRules reports rules that cannot be, or that contradict the group.
func (g *Group) validateRules() *Refusal {
	if len(g.Rules) > scaling.MostRules {
		return refuse("rules", "there are %d rules; give %d at most", len(g.Rules), scaling.MostRules)
	}
	for k := range g.Rules {
		r := &g.Rules[k]
		field := fmt.Sprintf("rules/%d", k)
		if f := r.Check(); f != nil {
			return refuse(field+"/"+f.Field, "%s", f.Text)
		}
		if slices.ContainsFunc(g.Rules[:k], func(o scaling.Rule) bool { return o.Name == r.Name }) {
			return refuse(field+"/name", "there are two rules %s; give each a name of its own", r.Name)
		}
		if r.Max != nil && *r.Max > MaxGroup {
			return refuse(field+"/max", "max is %d; give at most %d", *r.Max, MaxGroup)
		}
	}
	return nil
}

// WithRule returns the group with one more rule, or with one of the name instead.
func (g Group) WithRule(r scaling.Rule, instead bool, reason string) (Group, Entry, error) {
	if instead && g.Rule(r.Name) == nil {
		return g, Entry{}, refuse("name", "the group %s has no rule %s; it has %s", g.Name, words.Plain(r.Name, 80), g.ruleNames())
	}
	if f := r.Check(); f != nil {
		return g, Entry{}, refuse(f.Field, "%s", f.Text)
	}
	if !instead && g.Rule(r.Name) != nil {
		return g, Entry{}, refuse("name", "the group %s has a rule %s already; change it with: unitas rule set %s %s", g.Name, r.Name, g.Name, r.Name)
	}
	return g.Change(func(g *Group) {
		g.Rules = slices.Clone(g.Rules)
		if instead {
			*g.Rule(r.Name) = r
		} else {
			g.Rules = append(g.Rules, r)
		}
	}, reason)
}

// WithoutRule returns the group without a rule. What it did stays done.
func (g Group) WithoutRule(name, reason string) (Group, Entry, error) {
	if g.Rule(name) == nil {
		return g, Entry{}, refuse("name", "the group %s has no rule %s; it has %s", g.Name, words.Plain(name, 80), g.ruleNames())
	}
	return g.Change(func(g *Group) {
		if g.RuleState(name).Sets {
			g.letGo()
		}
		g.Rules = slices.DeleteFunc(slices.Clone(g.Rules), func(r scaling.Rule) bool { return r.Name == name })
	}, reason)
}

func (g *Group) ruleNames() string {
	if len(g.Rules) == 0 {
		return "none"
	}
	all := make([]string, len(g.Rules))
	for k := range g.Rules {
		all[k] = g.Rules[k].Name
	}
	return strings.Join(all, ", ")
}

// ruleDifferences are the rules that are different in b, in words.
func (g *Group) ruleDifferences(b *Group) (all []string) {
	for k := range b.Rules {
		now, was := &b.Rules[k], g.Rule(b.Rules[k].Name)
		switch {
		case was == nil:
			all = append(all, fmt.Sprintf("a new rule %s: %s", now.Name, now))
		case now.String() != was.String():
			all = append(all, fmt.Sprintf("the rule %s is %s, was %s", now.Name, now, was))
		}
	}
	for k := range g.Rules {
		if was := &g.Rules[k]; b.Rule(was.Name) == nil {
			all = append(all, fmt.Sprintf("no rule %s any more, which was %s", was.Name, was))
		}
	}
	return all
}

// TryRule is what a rule would decide if its metric were, and had been, a value, and the whole
// group served.
func (v *View) TryRule(now time.Time, rule string, value float64) (scaling.Verdict, int, error) {
	r := v.Group.Rule(rule)
	if r == nil {
		return scaling.Verdict{}, 0, refuse("", "the group %s has no rule %s; it has %s", v.Group.Name, words.Plain(rule, 80), v.Group.ruleNames())
	}
	if r.Kind == scaling.Calendar {
		return scaling.Verdict{}, 0, refuse("", "%s is a calendar, which goes by no value; see what comes with: unitas rule show %s %s", rule, v.Group.Name, rule)
	}
	serving := v.Group.Size
	var points []metric.Point
	for at := now.Add(-r.LooksBack()); !at.After(now); at = at.Add(metric.Every) {
		points = append(points, metric.Point{At: at, Value: value, Of: serving, Serving: serving})
	}
	b := v.Group.Bounds(now, v.Sizing)
	s := scaling.Situation{Now: now, Size: v.Group.Size, Min: b.Min, Max: b.Max}
	verdict := r.Judge(s, scaling.State{Name: rule}, points)
	return verdict, b.Clamp(verdict.Want), nil
}

// ActOn returns the group with the size that a rule decides on a value, as a person's doing.
func (v *View) ActOn(now time.Time, rule string, value float64) (Group, Entry, error) {
	verdict, size, err := v.TryRule(now, rule, value)
	if err != nil {
		return v.Group, Entry{}, err
	}
	g := v.Group
	if size == g.Size {
		return g, Entry{}, refuse("value", "the rule %s asks for no other size than %d at %s", rule, g.Size, g.Rule(rule).Metric.Say(value))
	}
	b := g.Bounds(now, v.Sizing)
	was := g.Size
	g.Size, g.SizedBy = size, rule
	return g, Entry{
		Kind:    "group.resized",
		Cause:   Cause{Code: CodeTried, About: rule, Words: string(g.Rule(rule).Metric), Numbers: Numbers{{"value", value}, count("needed", verdict.Want)}},
		Numbers: Numbers{count("from", was), count("to", size), count("min", b.Min), count("max", b.Max)},
	}, nil
}
