package api

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// ListMetrics lists what is measured of a group.
func (s *Server) ListMetrics(ctx context.Context, r routes.ListMetricsRequestObject) (routes.ListMetricsResponseObject, error) {
	if _, err := s.Store.Group(ctx, r.Name); err != nil {
		return nil, about("group", r.Name, err)
	}
	newest, err := s.Store.Newest(ctx, r.Name, s.now().Add(-time.Hour))
	if err != nil {
		return nil, err
	}
	return routes.ListMetrics200JSONResponse{Items: each(newest, func(n store.Sample) contract.Metric {
		m := contract.Metric{Name: n.Metric, Unit: metric.Name(n.Metric).Unit(), At: ptr(n.At.UTC()), Of: ptr(len(n.Vals)), Missing: &n.Missing}
		if len(n.Vals) > 0 {
			m.Average, m.Highest, m.P95 = finite(float64(n.Average)), finite(float64(n.Highest)), finite(float64(n.P95))
		}
		return m
	})}, nil
}

// finite is nil for what is no number.
func finite(v float64) *float64 {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return nil
	}
	v = math.Round(v*1000) / 1000
	return &v
}

// GetMetric tells a metric over time.
func (s *Server) GetMetric(ctx context.Context, r routes.GetMetricRequestObject) (routes.GetMetricResponseObject, error) {
	name, over := metric.Name(r.Metric), metric.Over(given(r.Params.Aggregate))
	if err := name.Check(); err != nil {
		return nil, invalid("/metric", "%s", err)
	}
	if err := over.Check(); err != nil {
		return nil, invalid("/over", "%s", err)
	}
	g, err := s.Store.Group(ctx, r.Name)
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	now := s.now()
	from, to := some(r.Params.Since, now.Add(-time.Hour)), some(r.Params.Until, now)
	switch {
	case !from.Before(to):
		return nil, invalid("/since", "the time ends before it begins: from %s to %s", words.Moment(from), words.Moment(to))
	case now.Sub(from) > store.RollupsKept+time.Hour:
		return nil, invalid("/since", "what was measured is kept for %s; ask for less", words.Span(store.RollupsKept))
	}
	out := contract.MetricSeries{Metric: r.Metric, Aggregate: string(over), Unit: name.Unit(), StepSeconds: metric.Every.Seconds(), Points: []contract.MetricPoint{}}
	var points []metric.Point
	if now.Sub(from) <= store.SamplesKept && to.Sub(from) <= 6*time.Hour {
		samples, err := s.Store.Samples(ctx, r.Name, r.Metric, from, to)
		if err != nil {
			return nil, err
		}
		for k := range samples {
			points = append(points, samples[k].Point(over))
		}
	} else {
		out.StepSeconds = store.RollupEvery.Seconds()
		rows, err := s.Store.Shorter(ctx, r.Name, r.Metric, from, to)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			points = append(points, row.Point(over))
		}
	}
	out.StepSeconds = min(out.StepSeconds, usualStep(points, out.StepSeconds)) // they may have been measured oftener
	foreseen := s.foreseen(ctx, &g.Group, name, over, from, to)
	for _, p := range points {
		out.Points = append(out.Points, contract.MetricPoint{At: p.At, Value: finite(p.Value), Serving: p.Serving, Missing: p.Missing, Forecast: foreseen(p)})
	}
	return routes.GetMetric200JSONResponse(out), nil
}

// usualStep is how far points usually are apart, in seconds: the median, since one that came early, as
// after a takeover, would have all others look like gaps.
func usualStep(points []metric.Point, otherwise float64) float64 {
	if len(points) < 2 {
		return otherwise
	}
	apart := make([]float64, 0, len(points)-1)
	for k := 1; k < len(points); k++ {
		apart = append(apart, points[k].At.Sub(points[k-1].At).Seconds())
	}
	slices.Sort(apart)
	return max(math.Round(apart[len(apart)/2]*10)/10, 0.1)
}

// foreseen tells what a rule with foresight expected of a time, for each instance that served.
func (s *Server) foreseen(ctx context.Context, g *fleet.Group, name metric.Name, over metric.Over, from, to time.Time) func(metric.Point) *float64 {
	for k := range g.Rules {
		r := &g.Rules[k]
		if !r.Forecast || r.Metric != name || r.Aggregate != over {
			continue
		}
		loads, err := control.ForeseenOver(ctx, s.Store.Reader, g.Name, r, from, to)
		if err != nil {
			return func(metric.Point) *float64 { return nil }
		}
		return func(p metric.Point) *float64 {
			load, known := loads[p.At.Truncate(store.RollupEvery)]
			if !known {
				return nil
			}
			if over != metric.Total {
				load /= float64(max(p.Serving, 1))
			}
			return finite(load)
		}
	}
	return func(metric.Point) *float64 { return nil }
}

// PushMetrics takes values that somebody sends.
func (s *Server) PushMetrics(ctx context.Context, r routes.PushMetricsRequestObject) (routes.PushMetricsResponseObject, error) {
	if _, err := s.Store.Group(ctx, r.Name); err != nil {
		return nil, about("group", r.Name, err)
	}
	now := s.now()
	var all []store.Pushed
	for k, v := range r.Body.Values {
		name := metric.Name("push:" + v.Name)
		at := some(v.At, now).UTC()
		switch {
		case name.Check() != nil:
			return nil, invalid(fmt.Sprintf("/values/%d/name", k), "%q is no name of a metric; give letters, digits and _, not beginning with a digit", words.Plain(v.Name, 80))
		case math.IsNaN(v.Value) || math.IsInf(v.Value, 0):
			return nil, invalid(fmt.Sprintf("/values/%d/value", k), "the value is no number")
		case at.After(now.Add(time.Minute)) || now.Sub(at) > control.PushedFor:
			return nil, invalid(fmt.Sprintf("/values/%d/at", k), "it is of %s; a value counts for %s and cannot be of the future", words.Moment(at), words.Span(control.PushedFor))
		}
		all = append(all, store.Pushed{Group: r.Name, Metric: string(name), Instance: some(v.Instance, ""), At: at, Value: v.Value})
	}
	if err := s.Store.Push(ctx, all...); err != nil {
		return nil, err
	}
	return routes.PushMetrics204Response{}, nil
}

// ListSizes lists how large a group was.
func (s *Server) ListSizes(ctx context.Context, r routes.ListSizesRequestObject) (routes.ListSizesResponseObject, error) {
	if _, err := s.Store.Group(ctx, r.Name); err != nil {
		return nil, about("group", r.Name, err)
	}
	entries, err := s.Store.Sizes(ctx, r.Name, some(r.Params.Since, s.now().Add(-time.Hour)))
	if err != nil {
		return nil, err
	}
	out := routes.ListSizes200JSONResponse{Items: []contract.SizeChange{}}
	size := 0
	for _, e := range entries {
		n := func(name string) int { v, _ := e.Numbers[name].(float64); return int(v) }
		if _, resized := e.Numbers["to"]; resized {
			size = n("to")
		} else if e.Kind == "group.created" {
			size = n("size")
		}
		because := e.Because
		if e.Cause.Code != fleet.CodeWords {
			because = say.Because(e.Cause)
		}
		out.Items = append(out.Items, contract.SizeChange{At: e.At.UTC(), Size: size, Min: n("min"), Max: n("max"), Because: because, Actor: e.Actor})
	}
	return out, nil
}

// ReplayRules runs rules over what was measured.
func (s *Server) ReplayRules(ctx context.Context, r routes.ReplayRulesRequestObject) (routes.ReplayRulesResponseObject, error) {
	p, err := s.ruled(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	g, now := p.Group.Group, s.now()
	if name := some(r.Body.Rule, ""); name != "" && r.Body.Settings != nil {
		was := g.Rule(name)
		if was == nil {
			return nil, notFound("rule", r.Name+"/"+name)
		}
		if err := notOf(was.Kind, *r.Body.Settings); err != nil {
			return nil, err
		}
		rule := toRule(*was, *r.Body.Settings, now)
		if err := placed(rule, now); err != nil {
			return nil, err
		}
		next, _, err := g.WithRule(rule, true, "")
		if err != nil {
			return nil, inSettings(about("rule", name, err))
		}
		g = next
	}
	if len(g.Rules) == 0 {
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The group %s has no rules; add one with: unitas rule add %s NAME", r.Name, r.Name)}
	}
	from := now.Add(-givenFor(r.Body.SinceSeconds))
	for k := range g.Rules { // what is from then on counts for the time that is replayed
		g.Rules[k].Since = from
	}
	recorded, step, err := s.Control.Recorded(ctx, &g, from, now)
	if err != nil {
		return nil, err
	}
	if len(recorded) == 0 {
		return nil, &problem{status: 409, kind: "conflict", detail: "Nothing was measured in that time."}
	}
	served := servedIn(recorded)
	g.Size = max(g.Min, min(served(recorded[0], g.Size), g.Max))
	found := fleet.ReplayRules(g, recorded, step, control.TimesOf(&g))
	price := meanPrice(p.Group.Prices)
	out := contract.RuleReplay{From: recorded[0].At, To: recorded[len(recorded)-1].At, StepSeconds: step.Seconds(), Points: []contract.ReplayPoint{}, Changes: []contract.SizeChange{}, Gaps: found.Gaps}
	was, every := 0, max(1, len(recorded)/mostReplayPoints)
	for k, m := range recorded {
		was = served(m, was)
		out.InstanceHours += float64(found.Sizes[k]) * step.Hours()
		out.WasInstanceHours += float64(was) * step.Hours()
		if k%every == 0 || k == len(recorded)-1 || (k > 0 && found.Sizes[k] != found.Sizes[k-1]) {
			out.Points = append(out.Points, contract.ReplayPoint{At: m.At, Size: found.Sizes[k], Was: was})
		}
	}
	for _, c := range found.Changes {
		if c.Kind == "group.resized" && len(out.Changes) < mostReplayPoints {
			out.Changes = append(out.Changes, contract.SizeChange{At: c.At, Size: c.Numbers.Int("to"), Min: c.Numbers.Int("min"), Max: c.Numbers.Int("max"), Because: say.Because(c.Cause), Actor: c.Cause.About})
		}
	}
	out.Cost, out.WasCost = money(out.InstanceHours*price), money(out.WasInstanceHours*price)
	out.InstanceHours, out.WasInstanceHours = round2(out.InstanceHours), round2(out.WasInstanceHours)
	out.Sentence = say.Replayed(found, out.InstanceHours, out.WasInstanceHours, out.Cost, out.WasCost, out.To.Sub(out.From)+step)
	return routes.ReplayRules200JSONResponse(out), nil
}

// mostReplayPoints is about how many points of a replay are told.
const mostReplayPoints = 600

// servedIn tells how many served at a moment, as before where that was not measured.
func servedIn(recorded []fleet.Recorded) func(m fleet.Recorded, before int) int {
	return func(m fleet.Recorded, before int) int {
		for _, p := range m.Points {
			return p.Serving
		}
		return before
	}
}

// meanPrice is what an instance costs for an hour over the zones.
func meanPrice(prices map[string]float64) float64 {
	sum := 0.0
	for _, p := range prices {
		sum += p
	}
	return sum / float64(max(len(prices), 1))
}
