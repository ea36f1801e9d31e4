package control

import (
	"context"
	"slices"
	"time"

	"unitas/internal/calendar"
	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
	"unitas/internal/store"
)

// What a keeper knows for its rules besides what was measured: when calendars act, and what
// the same hour of the week needed.

// dates are when a calendar acts, as far as that is known.
type dates struct {
	rule scaling.Rule
	at   *calendar.Calendar
	scaling.Times
}

// calendars looks up when the calendars of the group act next, those whose time has come.
func (k *keeper) calendars(now time.Time) {
	var all map[string]scaling.Times
	for i := range k.group.Rules {
		r := &k.group.Rules[i]
		if r.Kind != scaling.Calendar {
			continue
		}
		t := k.dates[r.Name]
		if t == nil || t.rule.When != r.When || t.rule.TimeZone != r.TimeZone {
			t = &dates{rule: *r}
			t.at, _ = calendar.Parse(r.When, r.TimeZone) // it was looked at when it was set
			k.dates[r.Name] = t
		}
		if t.at != nil && (t.Last.IsZero() && t.Next.IsZero() || now.Before(t.Last) || (!t.Next.IsZero() && !now.Before(t.Next))) {
			t.Times = t.at.Times(now)
		}
		if all == nil {
			all = map[string]scaling.Times{}
		}
		all[r.Name] = t.Times
	}
	for name := range k.dates {
		if k.group.Rule(name) == nil {
			delete(k.dates, name)
		}
	}
	k.view.Sizing.Times = all
}

// foreseeEvery is how often is looked what the same hour of the week needed.
const foreseeEvery = time.Minute

// Weeks is how many weeks back the same hour is looked at; at least two must be known.
const Weeks = 4

// foresees reads what rules that foresee will have to bear until what is launched now serves.
func (k *keeper) foresees(ctx context.Context, now time.Time) {
	if !slices.ContainsFunc(k.group.Rules, func(r scaling.Rule) bool { return r.Forecast }) {
		k.view.Sizing.Foreseen = nil
		return
	}
	if time.Since(k.foreseen) < foreseeEvery {
		return
	}
	k.foreseen = time.Now()
	lead := max(k.group.Settle, Usually(k.times).Slow) + store.RollupEvery
	all := map[string]float64{}
	for i := range k.group.Rules {
		r := &k.group.Rules[i]
		if !r.Forecast {
			continue
		}
		load, known, err := Foreseen(ctx, k.ctl.Store.Reader, k.name, r, now, lead)
		if err != nil {
			k.ctl.warn(k.name, "what the same hour of the week needed is not known", err)
			continue
		}
		if known {
			all[r.Name] = load
		}
	}
	k.view.Sizing.Foreseen = all
}

// Foreseen is the load of the same time in the weeks before: of each the most within the lead,
// of these the middle one.
func Foreseen(ctx context.Context, s store.Reader, group string, r *scaling.Rule, now time.Time, lead time.Duration) (load float64, known bool, err error) {
	var weeks []float64
	for week := 1; week <= Weeks; week++ {
		at := now.AddDate(0, 0, -7*week)
		rows, err := s.Shorter(ctx, group, string(r.Metric), at.Add(-store.RollupEvery), at.Add(lead))
		if err != nil {
			return 0, false, err
		}
		most, some := 0.0, false
		for _, row := range rows {
			if p := row.Point(r.Aggregate); p.Known() {
				most, some = max(most, p.Load(r.Aggregate)), true
			}
		}
		if some {
			weeks = append(weeks, most)
		}
	}
	if len(weeks) < 2 {
		return 0, false, nil
	}
	slices.Sort(weeks)
	return weeks[len(weeks)/2], true, nil
}

// pointsNow are what was measured for rules, as it is shown to others.
func pointsNow(all map[string][]metric.Point) map[string][]metric.Point {
	out := make(map[string][]metric.Point, len(all))
	for rule, points := range all {
		out[rule] = points[:len(points):len(points)]
	}
	return out
}

// Sizing is what the rules of a group go by now, as its keeper knows it; from the records when
// another replica keeps it.
func (c *Control) Sizing(ctx context.Context, g *store.Group) (fleet.Sizing, error) {
	if k := c.roster.of(g.Name); k != nil {
		if s := k.shown.Load(); s != nil && slices.EqualFunc(s.group.Rules, g.Rules, func(a, b scaling.Rule) bool { return a.Name == b.Name && a.String() == b.String() }) {
			return s.sizing, nil
		}
	}
	now := c.Clock.Now()
	out := fleet.Sizing{Points: map[string][]metric.Point{}, Times: map[string]scaling.Times{}, Foreseen: map[string]float64{}}
	for i := range g.Rules {
		r := &g.Rules[i]
		if r.Kind == scaling.Calendar {
			if at, err := calendar.Parse(r.When, r.TimeZone); err == nil {
				out.Times[r.Name] = at.Times(now)
			}
			continue
		}
		samples, err := c.Store.Samples(ctx, g.Name, string(r.Metric), now.Add(-r.LooksBack()), now)
		if err != nil {
			return out, err
		}
		for n := range samples {
			out.Points[r.Name] = append(out.Points[r.Name], samples[n].Point(r.Aggregate))
		}
		if r.Forecast {
			load, known, err := Foreseen(ctx, c.Store.Reader, g.Name, r, now, g.Settle+store.RollupEvery)
			if err != nil {
				return out, err
			}
			if known {
				out.Foreseen[r.Name] = load
			}
		}
	}
	return out, nil
}

// RulesAround is what was observed of the metrics of a group's rules.
func (c *Control) RulesAround(ctx context.Context, g *fleet.Group) (map[string]fleet.RuleAround, error) {
	now := c.Clock.Now()
	all := map[string]fleet.RuleAround{}
	for i := range g.Rules {
		r := &g.Rules[i]
		if r.Metric == "" {
			continue
		}
		weeks, err := c.Store.Shorter(ctx, g.Name, string(r.Metric), now.AddDate(0, 0, -7), now)
		if err != nil {
			return nil, err
		}
		var a fleet.RuleAround
		for _, row := range weeks {
			p := row.Point(r.Aggregate)
			if !p.Known() {
				continue
			}
			if now.Sub(row.At) <= 24*time.Hour {
				a.Peak = max(a.Peak, p.Load(r.Aggregate))
			}
			if r.Kind == scaling.Steady && p.Serving >= g.Max {
				a.AtMax += store.RollupEvery
				if p.Load(r.Aggregate) > r.KeepAt*float64(p.Serving) {
					a.Over += store.RollupEvery
				}
			}
		}
		samples, err := c.Store.Samples(ctx, g.Name, string(r.Metric), now.Add(-lateWithin), now)
		if err != nil {
			return nil, err
		}
		a.Late = Late(samples)
		all[r.Name] = a
	}
	return all, nil
}

// lateWithin is how far back is looked for instances that were launched, for what they measured
// at first.
const lateWithin = 2 * time.Hour

// Late is how long, from when they were first measured, instances still measured otherwise than
// the middle one of those that were measured before them, by more than a fifth: the middle one of
// all that came within the samples.
func Late(samples []store.Sample) time.Duration {
	first, stable := map[int32]time.Time{}, map[int32]time.Duration{}
	known := map[int32]bool{}
	for n := range samples {
		s := &samples[n]
		var old []float64
		for k, serial := range s.Serials {
			if known[serial] || n == 0 {
				old = append(old, float64(s.Vals[k]))
			}
		}
		if len(old) > 0 {
			middle := metric.Over("p50").Of(old)
			for k, serial := range s.Serials {
				if known[serial] || n == 0 {
					continue
				}
				if first[serial].IsZero() {
					first[serial] = s.At
				}
				if v := float64(s.Vals[k]); v <= middle*1.2 && v >= middle*0.8 {
					known[serial], stable[serial] = true, s.At.Sub(first[serial])
				}
			}
		}
		if n == 0 {
			for _, serial := range s.Serials {
				known[serial] = true
			}
		}
	}
	var all []time.Duration
	for _, d := range stable {
		all = append(all, d)
	}
	if len(all) < 3 {
		return 0
	}
	slices.Sort(all)
	return all[len(all)/2]
}

// Recorded is what was measured for the rules of a group from a time on: as it was measured of
// the last day, in fives of minutes before.
func (c *Control) Recorded(ctx context.Context, g *fleet.Group, from, to time.Time) (all []fleet.Recorded, step time.Duration, err error) {
	step = metric.Every
	fine := to.Sub(from) <= store.SamplesKept
	if !fine {
		step = store.RollupEvery
	}
	at := map[time.Time]map[string]metric.Point{}
	for i := range g.Rules {
		r := &g.Rules[i]
		if r.Metric == "" {
			continue
		}
		var points []metric.Point
		if fine {
			samples, err := c.Store.Samples(ctx, g.Name, string(r.Metric), from, to)
			if err != nil {
				return nil, step, err
			}
			for n := range samples {
				points = append(points, samples[n].Point(r.Aggregate))
			}
		} else {
			rows, err := c.Store.Shorter(ctx, g.Name, string(r.Metric), from, to)
			if err != nil {
				return nil, step, err
			}
			for _, row := range rows {
				points = append(points, row.Point(r.Aggregate))
			}
		}
		for _, p := range points {
			if at[p.At] == nil {
				at[p.At] = map[string]metric.Point{}
			}
			at[p.At][r.Name] = p
		}
	}
	if len(at) == 0 { // calendars alone
		for t := from.Truncate(time.Minute).Add(time.Minute); !t.After(to); t = t.Add(store.RollupEvery) {
			all = append(all, fleet.Recorded{At: t})
		}
		return all, store.RollupEvery, nil
	}
	for t, points := range at {
		all = append(all, fleet.Recorded{At: t, Points: points})
	}
	slices.SortFunc(all, func(a, b fleet.Recorded) int { return a.At.Compare(b.At) })
	for k := 1; k < len(all); k++ { // they may have been measured oftener
		step = min(step, max(all[k].At.Sub(all[k-1].At).Round(time.Second), time.Second))
	}
	return all, step, nil
}

// TimesOf tells when the calendars of a group act around a time.
func TimesOf(g *fleet.Group) func(rule string, at time.Time) scaling.Times {
	known := map[string]*dates{}
	for i := range g.Rules {
		if r := &g.Rules[i]; r.Kind == scaling.Calendar {
			if at, err := calendar.Parse(r.When, r.TimeZone); err == nil {
				known[r.Name] = &dates{at: at}
			}
		}
	}
	return func(rule string, at time.Time) scaling.Times {
		t := known[rule]
		if t == nil {
			return scaling.Times{}
		}
		if (t.Last.IsZero() && t.Next.IsZero()) || at.Before(t.Last) || (!t.Next.IsZero() && !at.Before(t.Next)) {
			t.Times = t.at.Times(at)
		}
		return t.Times
	}
}

// ForeseenOver is what a rule with foresight expects of each five minutes of a time: the middle
// one of the weeks before. A time for which fewer than two weeks are known is left out.
func ForeseenOver(ctx context.Context, s store.Reader, group string, r *scaling.Rule, from, to time.Time) (map[time.Time]float64, error) {
	weeks := map[time.Time][]float64{}
	for week := 1; week <= Weeks; week++ {
		rows, err := s.Shorter(ctx, group, string(r.Metric), from.AddDate(0, 0, -7*week).Add(-store.RollupEvery), to.AddDate(0, 0, -7*week))
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			if p := row.Point(r.Aggregate); p.Known() {
				at := row.At.UTC().AddDate(0, 0, 7*week).Truncate(store.RollupEvery)
				weeks[at] = append(weeks[at], p.Load(r.Aggregate))
			}
		}
	}
	all := map[time.Time]float64{}
	for at, loads := range weeks {
		if len(loads) >= 2 {
			slices.Sort(loads)
			all[at] = loads[len(loads)/2]
		}
	}
	return all, nil
}
