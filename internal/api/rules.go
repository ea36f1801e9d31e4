package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/calendar"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/scaling"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// nextShown is how many times of a calendar are shown ahead.
const nextShown = 10

// toRule is a rule with the settings that are given.
func toRule(r scaling.Rule, s contract.RuleSettings, now time.Time) scaling.Rule {
	r.Off, r.Metric, r.Aggregate = some(s.Off, r.Off), metric.Name(some(s.Metric, string(r.Metric))), metric.Over(some(s.Aggregate, string(r.Aggregate)))
	r.Cooldown, r.Calm, r.Duration = durationOf(s.CooldownSeconds, r.Cooldown), durationOf(s.CalmSeconds, r.Calm), durationOf(s.DurationSeconds, r.Duration)
	r.KeepAt, r.Band, r.ShrinkRate = some(s.KeepAt, r.KeepAt), some(s.BandPercent, r.Band), some(s.ShrinkRatePercent, r.ShrinkRate)
	r.GrowOnly, r.Forecast = some(s.GrowOnly, r.GrowOnly), some(s.Forecast, r.Forecast)
	r.When, r.TimeZone = strings.TrimSpace(some(s.When, r.When)), some(s.TimeZone, r.TimeZone)
	if s.Thresholds != nil {
		r.Thresholds = each(*s.Thresholds, func(l contract.Threshold) scaling.Line {
			return scaling.Line{Below: l.Way == contract.Below, At: l.At, For: givenFor(&l.ForSeconds), Step: scaling.Step(l.Step)}
		})
	}
	for _, n := range []struct {
		to    **int
		given *int
	}{{&r.Min, s.Min}, {&r.Max, s.Max}, {&r.Size, s.Size}} {
		if n.given != nil {
			if *n.to = n.given; *n.given < 0 {
				*n.to = nil
			}
		}
	}
	r.Complete()
	if r.When == "now" {
		r.When = now.UTC().Truncate(time.Second).Format(time.RFC3339)
	}
	r.Since = now.Truncate(time.Second)
	return r
}

// notOf names a setting that does not belong to the kind of a rule.
func notOf(kind scaling.Kind, s contract.RuleSettings) error {
	of := map[scaling.Kind][]string{
		scaling.Trip:     {"metric", "aggregate", "cooldown_seconds", "thresholds"},
		scaling.Steady:   {"metric", "aggregate", "cooldown_seconds", "keep_at", "band_percent", "calm_seconds", "shrink_rate_percent", "grow_only", "forecast"},
		scaling.Calendar: {"when", "time_zone", "duration_seconds", "min", "max", "size"},
	}[kind]
	for field, given := range map[string]bool{
		"metric": s.Metric != nil, "aggregate": s.Aggregate != nil, "cooldown_seconds": s.CooldownSeconds != nil, "thresholds": s.Thresholds != nil, "keep_at": s.KeepAt != nil,
		"band_percent": s.BandPercent != nil, "calm_seconds": s.CalmSeconds != nil, "shrink_rate_percent": s.ShrinkRatePercent != nil, "grow_only": s.GrowOnly != nil, "forecast": s.Forecast != nil,
		"when": s.When != nil, "time_zone": s.TimeZone != nil, "duration_seconds": s.DurationSeconds != nil, "min": s.Min != nil, "max": s.Max != nil, "size": s.Size != nil,
	} {
		if given && !slices.Contains(of, field) {
			return invalid("/settings/"+field, "a %s rule has no %s; it has %s", kind, plainField(field), strings.Join(each(of, plainField), ", "))
		}
	}
	return nil
}

// plainField is a field as it is called on the command line.
func plainField(field string) string {
	name, _, _ := strings.Cut(field, "_seconds")
	name, _, _ = strings.Cut(name, "_percent")
	return strings.ReplaceAll(name, "_", "-")
}

// inSettings names the fields of a rule as the contract does.
func inSettings(err error) error {
	var p *problem
	if !errors.As(err, &p) {
		return err
	}
	for i, f := range p.fields {
		name := f.pointer[strings.LastIndex(f.pointer, "/")+1:]
		switch name {
		case "cooldown", "calm", "duration":
			name += "_seconds"
		case "band", "shrink_rate":
			name += "_percent"
		case "name", "kind", "":
			continue
		}
		if k := strings.Index(f.pointer, "thresholds/"); k >= 0 {
			name = f.pointer[k:]
		}
		p.fields[i].pointer = "/settings/" + name
	}
	return err
}

func fromRule(r *scaling.Rule) contract.Rule {
	s := contract.RuleSettings{}
	seconds := func(d time.Duration) *float64 { return ptr(secondsOf(d)) }
	switch r.Kind {
	case scaling.Calendar:
		s.When, s.TimeZone, s.DurationSeconds, s.Min, s.Max, s.Size = &r.When, &r.TimeZone, seconds(r.Duration), r.Min, r.Max, r.Size
	case scaling.Steady:
		s.KeepAt, s.BandPercent, s.CalmSeconds, s.ShrinkRatePercent, s.GrowOnly, s.Forecast = &r.KeepAt, &r.Band, seconds(r.Calm), &r.ShrinkRate, &r.GrowOnly, &r.Forecast
	case scaling.Trip:
		s.Thresholds = ptr(each(r.Thresholds, func(l scaling.Line) contract.Threshold {
			way := contract.Above
			if l.Below {
				way = contract.Below
			}
			return contract.Threshold{Way: way, At: l.At, ForSeconds: secondsOf(l.For), Step: string(l.Step)}
		}))
	}
	if r.Kind != scaling.Calendar {
		s.Metric, s.Aggregate, s.CooldownSeconds = ptr(string(r.Metric)), ptr(string(r.Aggregate)), seconds(r.Cooldown)
	}
	s.Off = &r.Off
	return contract.Rule{Name: r.Name, Kind: contract.RuleKind(r.Kind), Off: r.Off, Says: r.String(), Settings: s}
}

func fromBounds(b scaling.Bounds) contract.Bounds {
	return contract.Bounds{Min: b.Min, Max: b.Max, By: append([]string{}, b.By...), Until: optional(b.Until)}
}

// ruled is a group with what its rules go by.
func (s *Server) ruled(ctx context.Context, name string) (control.Picture, error) {
	p, err := s.Control.Picture(ctx, name)
	if err == nil && p.Group.Alone {
		err = store.ErrNotFound
	}
	if err == nil {
		p.Sizing, err = s.Control.Sizing(ctx, &p.Group)
	}
	return p, about("group", name, err)
}

// ListRules lists the rules of a group with what they think.
func (s *Server) ListRules(ctx context.Context, r routes.ListRulesRequestObject) (routes.ListRulesResponseObject, error) {
	p, err := s.ruled(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	now, v := s.now(), p.View()
	b := v.Group.Bounds(now, v.Sizing)
	out := contract.RuleList{Items: []contract.RuleNow{}, Bounds: fromBounds(b), Size: v.Group.Size, SizedBy: v.Group.SizedBy}
	verdicts, outcome := v.Judge(now)
	for k := range v.Group.Rules {
		rule := &v.Group.Rules[k]
		if rule.Kind == scaling.Calendar {
			out.Items = append(out.Items, calendarNow(now, &v, rule))
			continue
		}
		at := slices.IndexFunc(verdicts, func(o scaling.Verdict) bool { return o.Rule == rule.Name })
		out.Items = append(out.Items, ruleNow(now, &v, rule, verdicts[at]))
	}
	out.Sentence = say.Sizing(now, &v, b, outcome)
	return routes.ListRules200JSONResponse(out), nil
}

func ruleNow(now time.Time, v *fleet.View, rule *scaling.Rule, verdict scaling.Verdict) contract.RuleNow {
	n := contract.RuleNow{Rule: fromRule(rule), Why: say.Thinks(now, v, verdict), Wants: &verdict.Want, CoolsUntil: optional(verdict.Until), ActedAt: optional(v.Group.RuleState(rule.Name).Acted)}
	switch {
	case verdict.Why == scaling.NoData:
		n.Asks, n.Wants = contract.RuleNowAsksUnknown, nil
	case verdict.Want > v.Group.Size:
		n.Asks = contract.RuleNowAsksGrow
	case verdict.Want < v.Group.Size:
		n.Asks = contract.RuleNowAsksShrink
	default:
		n.Asks = contract.RuleNowAsksStay
	}
	if verdict.Point.Known() && !verdict.Point.At.IsZero() {
		n.Value = ptr(round2(verdict.Point.Value))
	}
	if load, known := v.Sizing.Foreseen[rule.Name]; known {
		n.Forecast = ptr(round2(load))
	}
	return n
}

func calendarNow(now time.Time, v *fleet.View, rule *scaling.Rule) contract.RuleNow {
	n := contract.RuleNow{Rule: fromRule(rule), Asks: contract.RuleNowAsksWaits, ActedAt: optional(v.Group.RuleState(rule.Name).Occurred)}
	if at, err := calendar.Parse(rule.When, rule.TimeZone); err == nil {
		n.Next = ptr(append([]time.Time{}, at.Next(now, nextShown)...))
	}
	if until, lasts := rule.Lasts(now, v.Sizing.Times[rule.Name]); lasts {
		n.Asks, n.LastsUntil = contract.RuleNowAsksLasts, &until
	}
	n.Why = say.Calendar(now, rule, v.Sizing.Times[rule.Name])
	return n
}

// review is what a rule of a group means: when it comes, what it meets, what will hurt.
func (s *Server) review(ctx context.Context, g *fleet.Group, name string) (contract.RuleReview, error) {
	rule, now := g.Rule(name), s.now()
	out := contract.RuleReview{Rule: fromRule(rule), Next: []time.Time{}, Overlaps: []string{}, Advice: []string{}}
	if rule.Kind == scaling.Calendar {
		at, err := calendar.Parse(rule.When, rule.TimeZone)
		if err != nil {
			return out, invalid("/settings/when", "%s", err)
		}
		out.Next = append(out.Next, at.Next(now, nextShown)...)
		begins := out.Next
		if until, lasts := rule.Lasts(now, at.Times(now)); lasts {
			out.LastsUntil = &until
			begins = append([]time.Time{at.Until(now)}, begins...)
		}
		others := map[string][]time.Time{}
		for k := range g.Rules {
			if o := &g.Rules[k]; o.Kind == scaling.Calendar {
				if c, err := calendar.Parse(o.When, o.TimeZone); err == nil {
					others[o.Name] = append(c.Next(now, 40), c.Until(now))
				}
			}
		}
		out.Overlaps = append(out.Overlaps, g.Overlaps(rule, begins, others)...)
	}
	around, err := s.Control.RulesAround(ctx, g)
	if err != nil {
		return out, err
	}
	advice := g.AdviseRules(around)
	out.Advice = append(append(out.Advice, advice[name]...), advice[""]...)
	return out, nil
}

// placed checks what the core cannot know of a rule: that its times can be read, and come.
func placed(r scaling.Rule, now time.Time) error {
	if r.Kind != scaling.Calendar {
		return nil
	}
	if _, err := time.LoadLocation(r.TimeZone); err != nil || r.TimeZone == "Local" {
		return invalid("/settings/time_zone", "%q is no time zone that is known here; give one such as Europe/Paris or UTC", words.Plain(r.TimeZone, 80))
	}
	if r.When == "" {
		return nil // the core says so
	}
	at, err := calendar.Parse(r.When, r.TimeZone)
	if err != nil {
		return invalid("/settings/when", "%s", err)
	}
	t := at.Times(now)
	if _, lasts := r.Lasts(now, t); t.Next.IsZero() && !lasts && t.Last.Before(r.Since) {
		return invalid("/settings/when", "%q is over and never comes again", words.Plain(r.When, 120))
	}
	return nil
}

// changeRules changes the rules of a group, and returns it as it is then; with a dry run as it
// would be.
func (s *Server) changeRules(ctx context.Context, name string, match *string, dry bool, change func(fleet.Group) (fleet.Group, fleet.Entry, error)) (fleet.Group, error) {
	revision := store.AnyRevision
	if !dry || match != nil {
		var err error
		if revision, err = ifMatch(match); err != nil {
			return fleet.Group{}, err
		}
	}
	var after fleet.Group
	err := s.Store.ChangeGroup(ctx, s.now(), actor(ctx), name, revision, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
		if g.Alone {
			return e, store.ErrNotFound
		}
		g.Group, e, err = change(g.Group)
		after = g.Group
		return e, err
	})
	return after, inSettings(about("group", name, err))
}

// AddRule adds a rule.
func (s *Server) AddRule(ctx context.Context, r routes.AddRuleRequestObject) (routes.AddRuleResponseObject, error) {
	if err := notOf(scaling.Kind(r.Body.Kind), r.Body.Settings); err != nil {
		return nil, err
	}
	rule := toRule(scaling.Rule{Name: r.Body.Name, Kind: scaling.Kind(r.Body.Kind)}, r.Body.Settings, s.now())
	if err := placed(rule, s.now()); err != nil {
		return nil, err
	}
	dry := given(r.Params.DryRun)
	g, err := s.changeRules(ctx, r.Name, r.Params.IfMatch, dry, func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
		return g.WithRule(rule, false, some(r.Body.Settings.Reason, ""))
	})
	if err != nil {
		return nil, err
	}
	out, err := s.review(ctx, &g, rule.Name)
	if dry {
		return routes.AddRule200JSONResponse(out), err
	}
	return routes.AddRule201JSONResponse(out), err
}

// ChangeRule changes a rule.
func (s *Server) ChangeRule(ctx context.Context, r routes.ChangeRuleRequestObject) (routes.ChangeRuleResponseObject, error) {
	g, err := s.changeRules(ctx, r.Name, r.Params.IfMatch, given(r.Params.DryRun), func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
		was := g.Rule(r.Rule)
		if was == nil {
			return g, fleet.Entry{}, notFound("rule", r.Name+"/"+r.Rule)
		}
		if err := notOf(was.Kind, *r.Body); err != nil {
			return g, fleet.Entry{}, err
		}
		rule := toRule(*was, *r.Body, s.now())
		if err := placed(rule, s.now()); err != nil {
			return g, fleet.Entry{}, err
		}
		return g.WithRule(rule, true, some(r.Body.Reason, ""))
	})
	if err != nil {
		return nil, err
	}
	out, err := s.review(ctx, &g, r.Rule)
	return routes.ChangeRule200JSONResponse(out), err
}

// RemoveRule takes a rule away.
func (s *Server) RemoveRule(ctx context.Context, r routes.RemoveRuleRequestObject) (routes.RemoveRuleResponseObject, error) {
	_, err := s.changeRules(ctx, r.Name, r.Params.IfMatch, false, func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
		if g.Rule(r.Rule) == nil {
			return g, fleet.Entry{}, notFound("rule", r.Name+"/"+r.Rule)
		}
		return g.WithoutRule(r.Rule, "")
	})
	if err != nil {
		return nil, err
	}
	return routes.RemoveRule204Response{}, nil
}

// TryRule shows what a rule would decide, and has it act.
func (s *Server) TryRule(ctx context.Context, r routes.TryRuleRequestObject) (routes.TryRuleResponseObject, error) {
	p, err := s.ruled(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	now, v := s.now(), p.View()
	verdict, wants, err := v.TryRule(now, r.Rule, r.Body.Value)
	if err != nil {
		if v.Group.Rule(r.Rule) == nil {
			return nil, notFound("rule", r.Name+"/"+r.Rule)
		}
		return nil, about("rule", r.Rule, err)
	}
	out := contract.RuleTried{Size: v.Group.Size, Wants: wants, Sentence: say.Tried(now, &v, verdict, wants)}
	if !given(r.Body.Act) {
		return routes.TryRule200JSONResponse(out), nil
	}
	if p.Group.Frozen != "" {
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The group %s is frozen (%s), so nothing acts; thaw it first.", r.Name, p.Group.Frozen)}
	}
	_, err = s.changeRules(ctx, r.Name, r.Params.IfMatch, false, func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
		v.Group = g
		return v.ActOn(now, r.Rule, r.Body.Value)
	})
	if err != nil {
		return nil, err
	}
	out.Acted = true
	return routes.TryRule200JSONResponse(out), nil
}

// GetCalendar writes the calendars of a group as a file.
func (s *Server) GetCalendar(ctx context.Context, r routes.GetCalendarRequestObject) (routes.GetCalendarResponseObject, error) {
	g, err := s.Store.Group(ctx, r.Name)
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	var file bytes.Buffer
	if err := calendar.Write(&file, r.Name, g.Rules, s.now(), nextShown); err != nil {
		return nil, err
	}
	return routes.GetCalendar200TextcalendarResponse{Body: &file, ContentLength: int64(file.Len())}, nil
}

// AddCalendar makes rules of the events of a file.
func (s *Server) AddCalendar(ctx context.Context, r routes.AddCalendarRequestObject) (routes.AddCalendarResponseObject, error) {
	rules, err := calendar.Read([]byte(r.Body.File), scaling.Rule{Min: r.Body.Min, Max: r.Body.Max, Size: r.Body.Size})
	if err != nil {
		return nil, invalid("/file", "%s", err)
	}
	now := s.now()
	out := contract.RuleReviewList{Items: []contract.RuleReview{}}
	for k := range rules {
		rules[k].Since = now.Truncate(time.Second)
		if err := placed(rules[k], now); err != nil {
			return nil, invalid("/file", "the event %s: %s", rules[k].Name, err)
		}
	}
	g, err := s.changeRules(ctx, r.Name, r.Params.IfMatch, given(r.Params.DryRun), func(g fleet.Group) (next fleet.Group, e fleet.Entry, err error) {
		next, e, err = g.Change(func(g *fleet.Group) {
			g.Rules = slices.Clone(g.Rules)
			for _, rule := range rules {
				if old := g.Rule(rule.Name); old != nil {
					*old = rule
				} else {
					g.Rules = append(g.Rules, rule)
				}
			}
		}, some(r.Body.Reason, ""))
		return next, e, err
	})
	if err != nil {
		return nil, err
	}
	for k := range rules {
		one, err := s.review(ctx, &g, rules[k].Name)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, one)
	}
	return routes.AddCalendar200JSONResponse(out), nil
}
