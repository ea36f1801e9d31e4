package api

import (
	"context"
	"math"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet/cost"
	"unitas/internal/store"
)

// longestCosts is how much time at most is added up at once.
const longestCosts = 400 * 24 * time.Hour

// GetCosts adds up what instances cost.
func (s *Server) GetCosts(ctx context.Context, r routes.GetCostsRequestObject) (routes.GetCostsResponseObject, error) {
	now := s.now()
	from := some(r.Params.From, time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC)).UTC()
	to := some(r.Params.To, now).UTC()
	step := time.Hour
	if given(r.Params.Step) == contract.Day {
		step = 24 * time.Hour
	}
	by := given(r.Params.By)
	label, isLabel := strings.CutPrefix(by, "label:")
	switch {
	case by != "group" && by != "zone" && (!isLabel || label == ""):
		return nil, invalid("by", "%q is not what costs can be told by; give group, zone or label:NAME", by)
	case !from.Before(to):
		return nil, invalid("from", "the time ends before it begins: from %s to %s", from.Format(time.RFC3339), to.Format(time.RFC3339))
	case to.Sub(from) > longestCosts:
		return nil, invalid("from", "more than 400 days lie between from and to; ask for less at once")
	}
	if to.After(now) {
		to = now
	}
	runs, err := s.Store.Runs(ctx, from, to)
	if err != nil {
		return nil, err
	}
	lines := cost.Add(each(runs, func(run store.Run) cost.Run {
		out := cost.Run{PerHour: run.PricePerHour, From: run.FromAt, Name: run.GroupName}
		if run.UntilAt != nil {
			out.Until = *run.UntilAt
		}
		switch {
		case by == "zone":
			out.Name = run.Zone
		case isLabel:
			out.Name = run.Labels[label]
		}
		return out
	}), from, to, step)
	answer := contract.Costs{By: by, From: from, To: to, StepSeconds: int(step.Seconds()), Lines: []contract.CostLine{}}
	for _, l := range lines {
		answer.Total += l.Cost
		answer.NowPerHour += l.NowPerHour
		answer.Lines = append(answer.Lines, contract.CostLine{Name: l.Name, Hours: money(l.Hours), Cost: money(l.Cost), NowPerHour: money(l.NowPerHour), Steps: each(l.Steps, money)})
	}
	answer.Total, answer.NowPerHour = money(answer.Total), money(answer.NowPerHour)
	return routes.GetCosts200JSONResponse(answer), nil
}

// money rounds to a millionth, which is below what any price for an hour says.
func money(f float64) float64 { return math.Round(f*1e6) / 1e6 }
