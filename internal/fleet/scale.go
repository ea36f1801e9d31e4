package fleet

import (
	"math"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
)

// Sizing is what rules go by: what was measured, and when calendars act.
type Sizing struct {
	// Points are those of the metric of each trip and steady rule, by rule, oldest first.
	Points map[string][]metric.Point
	// Times are those of each calendar, by rule.
	Times map[string]scaling.Times
	// Foreseen is what steady rules that foresee will have to bear, by rule.
	Foreseen map[string]float64
}

// Bounds are those inside which the size is at a time, by what people set and the calendars.
func (g *Group) Bounds(now time.Time, s Sizing) scaling.Bounds {
	return scaling.BoundsNow(now, g.Min, g.Max, g.Rules, s.Times)
}

// Rule is the rule of the name, or nil.
func (g *Group) Rule(name string) *scaling.Rule {
	for k := range g.Rules {
		if g.Rules[k].Name == name {
			return &g.Rules[k]
		}
	}
	return nil
}

// RuleState is what is kept of a rule; nothing of one that never acted.
func (b *Book) RuleState(name string) scaling.State {
	for _, s := range b.RuleStates {
		if s.Name == name {
			return s
		}
	}
	return scaling.State{Name: name}
}

// keepState keeps what is another of a rule, and forgets rules that there are no more.
func (d *deciding) keepState(s scaling.State) {
	g := &d.group
	states := slices.DeleteFunc(slices.Clone(g.RuleStates), func(o scaling.State) bool { return o.Name == s.Name || g.Rule(o.Name) == nil })
	g.RuleStates = append(states, s)
	d.groupChanged = true
}

// Judge is what each trip and steady rule of the group thinks now, and what they come to.
func (v *View) Judge(now time.Time) ([]scaling.Verdict, scaling.Agreed) {
	return judge(now, &v.Group, v.Sizing)
}

func judge(now time.Time, g *Group, sizing Sizing) ([]scaling.Verdict, scaling.Agreed) {
	b := g.Bounds(now, sizing)
	s := scaling.Situation{Now: now, Size: g.Size, Min: b.Min, Max: b.Max, Foreseen: sizing.Foreseen}
	var all, active []scaling.Verdict
	for k := range g.Rules {
		r := &g.Rules[k]
		if r.Kind == scaling.Calendar {
			continue
		}
		v := r.Judge(s, g.RuleState(r.Name), sizing.Points[r.Name])
		all = append(all, v)
		if !r.Off {
			active = append(active, v)
		}
	}
	return all, scaling.Together(s, active)
}

// scale changes the size by what calendars and metrics say.
func (d *deciding) scale() {
	if len(d.group.Rules) == 0 && d.group.Bound == nil {
		return
	}
	if d.group.Deleting || d.group.Alone {
		return
	}
	for _, r := range d.inTime() {
		d.begins(r)
	}
	d.bound()
	verdicts, out := judge(d.now, &d.group, d.sizing)
	for _, v := range verdicts {
		d.lookAt(v.Until)
	}
	if out.By == "" || out.Want == d.group.Size {
		return
	}
	short := !d.supposed && d.tally(d.group.Template).serving < d.group.Size
	if out.Want < d.group.Size && (d.ro != nil || !d.group.HealStopped.IsZero() || short) {
		return // what runs is in the middle of a change, is ill or too little: its metrics tell little
	}
	for _, v := range verdicts {
		if v.Rule == out.By {
			d.act(v, out.Want)
		}
	}
}

// Short reports whether fewer instances serve than the size.
func (v *View) Short() bool {
	_, serving := NewLedger(v).Count(Version{})
	return serving < v.Group.Size
}

// inTime are the rules of the group, calendars in the order in which they last began: of several that were
// missed, as while the group was frozen, the last one counts.
func (d *deciding) inTime() []*scaling.Rule {
	all := make([]*scaling.Rule, len(d.group.Rules))
	for k := range d.group.Rules {
		all[k] = &d.group.Rules[k]
	}
	slices.SortStableFunc(all, func(a, b *scaling.Rule) int {
		return d.sizing.Times[a.Name].Last.Compare(d.sizing.Times[b.Name].Last)
	})
	return all
}

// act has a rule that goes by a metric change the size.
func (d *deciding) act(v scaling.Verdict, want int) {
	s := d.group.RuleState(v.Rule)
	s.Acted = d.now
	if want < d.group.Size {
		s.Shrank = d.now
	}
	d.keepState(s)
	d.resize(want, v.Rule, d.group.ruleCause(v))
}

// ruleCause is why a rule asks for another size.
func (g *Group) ruleCause(v scaling.Verdict) Cause {
	r := g.Rule(v.Rule)
	c := Cause{Code: CodeSteady, About: v.Rule, Words: string(r.Metric), Numbers: Numbers{{"value", rounded(v.Point.Value)}, count("serving", v.Point.Serving)}}
	switch {
	case v.Why == scaling.Tripped:
		l := r.Thresholds[v.Line]
		c.Code = CodeTrip
		c.Numbers = append(c.Numbers, Number{"line", l.At}, span("for_seconds", l.For))
		if l.Below {
			c.Numbers = append(c.Numbers, count("below", 1))
		}
	case v.Why == scaling.Foreseen:
		c.Code = CodeForeseen
		c.Numbers = append(c.Numbers, Number{"foreseen", rounded(v.Foreseen)}, Number{"target", r.KeepAt}, count("needed", v.Want))
	default:
		c.Numbers = append(c.Numbers, Number{"target", r.KeepAt}, count("needed", v.Need))
	}
	return c
}

// rounded is a measured value to six places.
func rounded(v float64) float64 {
	return math.Round(v*1e6) / 1e6
}

// resize changes the size, and says by what.
func (d *deciding) resize(size int, by string, cause Cause) {
	was, b := d.group.Size, d.group.Bounds(d.now, d.sizing)
	d.group.Size, d.group.SizedBy, d.groupChanged = size, by, true
	d.entry(Entry{Kind: "group.resized", Cause: cause, Numbers: Numbers{count("from", was), count("to", size), count("min", b.Min), count("max", b.Max)}})
}

// begins has the time of a calendar come from which on something else holds.
func (d *deciding) begins(r *scaling.Rule) {
	t := d.sizing.Times[r.Name]
	s, ahead := d.group.RuleState(r.Name).NotAhead(d.now)
	if ahead {
		d.keepState(s)
	}
	if until, lasts := r.Lasts(d.now, t); lasts {
		d.lookAt(until)
	}
	if !r.Off {
		d.lookAt(t.Next)
	}
	if r.Duration > 0 || !r.Begins(d.now, s, t) {
		return
	}
	s.Occurred = t.Last
	d.keepState(s)
	cause := Cause{Code: CodeCalendar, About: r.Name, Numbers: Numbers{span("lasts_seconds", 0)}}
	d.fromThenOn(r, cause)
	if r.Size == nil {
		return
	}
	if size := d.group.Bounds(d.now, d.sizing).Clamp(*r.Size); size != d.group.Size {
		d.resize(size, r.Name, cause)
	}
	under := max(d.group.Min, min(*r.Size, d.group.Max))
	for k := range d.group.Rules { // it lies under all spans, and what began before it counts no more, be that acted on or missed
		o := &d.group.Rules[k]
		began := d.sizing.Times[o.Name]
		if o.Duration == 0 {
			continue
		}
		s := d.group.RuleState(o.Name)
		if !began.Last.After(t.Last) {
			s.Occurred, s.Before, s.Sets, s.LetGo = began.Last, 0, false, true
		}
		if _, lasts := o.Lasts(d.now, began); lasts {
			s.Before = under + 1
		}
		d.keepState(s)
	}
}

// fromThenOn sets the bounds of a group for good. The one that is not named makes room.
func (d *deciding) fromThenOn(r *scaling.Rule, cause Cause) {
	g := &d.group
	least, most := g.Min, g.Max
	if r.Min != nil {
		least = *r.Min
		most = max(most, least)
	}
	if r.Max != nil {
		most = *r.Max
		least = min(least, most)
	}
	if least == g.Min && most == g.Max {
		return
	}
	g.Min, g.Max = least, most
	d.groupChanged = true
	d.entry(Entry{Kind: "group.bounded", Cause: cause, Numbers: Numbers{count("min", least), count("max", most)}})
}

// bound brings the size within the bounds of now, and says when those are others.
func (d *deciding) bound() {
	b := d.group.Bounds(d.now, d.sizing)
	have := scaling.Bounds{Min: d.group.Min, Max: d.group.Max}
	if d.group.Bound != nil {
		have = *d.group.Bound
	}
	if len(b.By) == 0 && d.group.Bound != nil {
		d.group.Bound, d.groupChanged = nil, true
	} else if len(b.By) > 0 && (d.group.Bound == nil || !slices.Equal(b.By, have.By) || !b.Same(have) || !b.Until.Equal(have.Until)) {
		d.group.Bound, d.groupChanged = &b, true
	}
	about := strings.Join(b.By, ", ")
	if !b.Same(have) {
		cause := Cause{Code: CodeBoundsBack}
		if len(b.By) > 0 {
			cause = Cause{Code: CodeCalendar, About: about, Numbers: Numbers{span("lasts_seconds", b.Until.Sub(d.now))}}
		}
		d.entry(Entry{Kind: "group.bounded", Cause: cause, Numbers: Numbers{count("min", b.Min), count("max", b.Max)}})
	}
	d.stack(have, b)
}

// stack has the size be what the spans of calendars come to that lie over each other.
func (d *deciding) stack(had, are scaling.Bounds) {
	by := d.group.Rule(d.group.SizedBy)
	moves, states := scaling.Stack{
		Now: d.now, Size: d.group.Size, Grown: by != nil && by.Kind != scaling.Calendar, Had: had, Are: are,
		Rules: d.group.Rules, Times: d.sizing.Times, States: d.group.RuleStates,
	}.Settle()
	for _, s := range states {
		if s != d.group.RuleState(s.Name) {
			d.keepState(s)
		}
	}
	for _, m := range moves {
		cause := Cause{Code: CodeCalendarOver, About: m.By}
		switch m.Why {
		case scaling.Begun:
			cause.Code, cause.Numbers = CodeCalendar, Numbers{span("lasts_seconds", d.group.Rule(m.By).Duration)}
		case scaling.Bounded:
			cause = Cause{Code: CodeBounds, About: strings.Join(are.By, ", "), Numbers: Numbers{count("min", are.Min), count("max", are.Max)}}
		}
		d.resize(m.Size, m.By, cause)
	}
}

// letGo has the size as it is lie under the spans of calendars that last, and theirs count no more: a person set it.
func (g *Group) letGo() {
	g.RuleStates = slices.Clone(g.RuleStates)
	for k := range g.RuleStates {
		if s := &g.RuleStates[k]; s.Before > 0 || (g.Bound != nil && slices.Contains(g.Bound.By, s.Name)) {
			s.Before, s.Sets, s.LetGo = g.Size+1, false, true
		}
	}
}

// Measures reports whether what is measured of an instance counts for rules: it serves, and
// the time in which it may still come up is over.
func (g *Group) Measures(now time.Time, in *Instance) bool {
	return in.State == Serving && !now.Before(in.Up.Add(g.Settle))
}
