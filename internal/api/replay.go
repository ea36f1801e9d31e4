package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/rehearse"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// mostReplayed is how many lines of the journal are gone through at most.
const mostReplayed = 200_000

// ReplayRollout decides a rollout that is over again, from its journal.
func (s *Server) ReplayRollout(ctx context.Context, r routes.ReplayRolloutRequestObject) (routes.ReplayRolloutResponseObject, error) {
	number := strconv.FormatInt(r.Number, 10)
	ro, err := s.Store.Rollout(ctx, r.Number)
	if err != nil {
		return nil, about("rollout", number, err)
	}
	if !ro.State.Ended() {
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The rollout %s is %s; it can be decided again once it is over.", number, ro.State)}
	}
	stage, err := s.Store.Stage(ctx, r.Number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("How the group stood when the rollout %s began was not kept: it is older than this version of the service.", number)}
	}
	if err != nil {
		return nil, err
	}
	lines, err := s.Store.Between(ctx, ro.Group, ro.Started, ro.Ended, mostReplayed)
	if err != nil {
		return nil, err
	}
	view := fleet.View{Group: stage.Group, Instances: stage.Instances, Rollout: &stage.Rollout, Prices: stage.Prices, Location: control.Location(&stage.Rollout)}
	found := rehearse.Again(view, toldOf(lines, r.Number), store.Service)
	out := contract.Replay{Number: r.Number, Decisions: found.Moments, Same: found.Same, Given: append([]string{}, found.Given...), Differences: each(found.Differences, func(m rehearse.Difference) contract.ReplayDifference {
		return contract.ReplayDifference{At: m.At, Was: append([]string{}, m.Was...), Now: append([]string{}, m.Now...)}
	})}
	out.Sentence = fmt.Sprintf("In %d of %s the same was decided again", found.Same, words.Count(found.Moments, "moment"))
	switch {
	case found.Stopped != "":
		out.Sentence += ", and no further: " + found.Stopped
	case found.State == ro.State:
		out.Sentence += fmt.Sprintf(", and it ends %s as it did", ro.State)
	default:
		out.Sentence += fmt.Sprintf("; it ended %s, and would be %s now", ro.State, found.State)
	}
	out.Sentence += "."
	return routes.ReplayRollout200JSONResponse(out), nil
}

// toldOf are the lines since the begin of a rollout, as the core reads them.
func toldOf(lines []store.Entry, rollout int64) []rehearse.Told {
	begin := slices.IndexFunc(lines, func(e store.Entry) bool { return e.Rollout == rollout && e.Kind == "rollout.started" })
	var all []rehearse.Told
	for _, e := range lines[begin+1:] {
		var numbers fleet.Numbers
		for _, name := range slices.Sorted(maps.Keys(e.Numbers)) {
			if v, ok := e.Numbers[name].(float64); ok {
				numbers = append(numbers, fleet.Measured(name, v))
			}
		}
		zone := ""
		if strings.HasPrefix(e.Kind, "zone.") {
			zone = e.Cause.About
		}
		all = append(all, rehearse.Told{At: e.At, Actor: e.Actor, Entry: fleet.Entry{Kind: e.Kind, Instance: e.Instance, Instances: e.Instances, Zone: zone, Rollout: e.Rollout, Cause: e.Cause, Numbers: numbers}})
	}
	return all
}
