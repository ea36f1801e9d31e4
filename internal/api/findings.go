package api

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/balancer"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/template"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// Bounds of what is put together: how many instances, and how much of each boot log.
const (
	mostFound = 10
	foundLog  = 4 << 10
)

// GetFindings puts together what the new instances of a rollout had in common.
func (s *Server) GetFindings(ctx context.Context, r routes.GetFindingsRequestObject) (routes.GetFindingsResponseObject, error) {
	number := strconv.FormatInt(r.Number, 10)
	ro, err := s.Store.Rollout(ctx, r.Number)
	if err != nil {
		return nil, about("rollout", number, err)
	}
	out := contract.Findings{Number: r.Number, Common: []string{}, Changes: []contract.Change{}, Instances: []contract.Finding{}, Paths: []contract.PathAnswers{}}
	was, wasErr := s.Store.Template(ctx, ro.From)
	is, isErr := s.Store.Template(ctx, ro.To)
	if err := errors.Join(wasErr, isErr); err != nil {
		return nil, err
	}
	out.Changes = fromChanges(template.Diff(was.Spec, is.Spec))
	fresh, err := s.Store.LaunchedFor(ctx, ro.Group, ro.To, ro.Started, ro.Ended, mostFound)
	if err != nil {
		return nil, err
	}
	s.Control.AddFacts(fresh)
	logs := map[string]int{}
	for _, in := range fresh {
		one, err := s.finding(ctx, in)
		if err != nil {
			return nil, err
		}
		if last := words.LastLine(one.BootLog); last != "" {
			logs[last]++
		}
		out.Instances = append(out.Instances, one)
	}
	out.Paths = s.pathsOf(ctx, ro)
	out.Common = common(fresh, logs, out.Paths, out.Changes)
	out.Sentence = fmt.Sprintf("%s of %s, launched for it. It is %s: %s.", words.Count(len(fresh), "instance"), ro.To, ro.State, strings.TrimSuffix(say.Why(&ro.Rollout), "."))
	return routes.GetFindings200JSONResponse(out), nil
}

// finding is what is known of one new instance.
func (s *Server) finding(ctx context.Context, in store.Instance) (contract.Finding, error) {
	shown := s.instance(in)
	out := contract.Finding{Instance: in.ID, Zone: in.Zone, State: shown.State, Why: shown.Why, Reports: shown.Reports}
	if why, _, err := s.Store.Ending(ctx, in.ID); err != nil {
		return out, err
	} else if why != "" {
		out.Why = why
	}
	raw, err := s.bootLog(in.ID, foundLog)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return out, err
	}
	out.BootLog = words.Lines(string(raw), foundLog)
	return out, nil
}

// pathsOf is what the new version answered, by path, in the pools of the group.
func (s *Server) pathsOf(ctx context.Context, ro store.Rollout) []contract.PathAnswers {
	out := []contract.PathAnswers{}
	pather, can := s.Balancer.(balancer.Pather)
	g, err := s.Store.Group(ctx, ro.Group)
	if !can || err != nil {
		return out
	}
	for _, pool := range g.Pools {
		for _, p := range pather.Paths(pool, ro.To.String()) {
			// The first class is of none at all; it is told last.
			classes := append(append([]int64{}, p.Status[1:]...), p.Status[0])
			name := words.Plain(p.Path, 120)
			if p.Path == "" {
				name = "all others"
			}
			out = append(out, contract.PathAnswers{Path: name, Requests: p.Requests(), Failed: p.Status[5] + p.Status[0], Classes: classes})
		}
	}
	slices.SortStableFunc(out, func(a, b contract.PathAnswers) int { return int(b.Failed - a.Failed) })
	return out
}

// common is what they had in common, in sentences.
func common(fresh []store.Instance, logs map[string]int, paths []contract.PathAnswers, changes []contract.Change) []string {
	var all []string
	zones, checks, n := map[string]int{}, map[string]int{}, len(fresh)
	served := 0
	for _, in := range fresh {
		zones[in.Zone]++
		if !in.Served.IsZero() {
			served++
		}
		for _, r := range in.Reports {
			if r.Verdict != health.Healthy {
				checks[r.Check+" "+r.Why]++
			}
		}
	}
	if n > 0 {
		all = append(all, fmt.Sprintf("%d of %d ever served", served, n))
	}
	for zone, of := range zones {
		if of == n && n > 1 {
			all = append(all, "all of them were in "+zone)
		}
	}
	for what, of := range checks {
		all = append(all, fmt.Sprintf("of %d the check said: %s", of, what))
	}
	for line, of := range logs {
		if of > 1 || n == 1 {
			all = append(all, fmt.Sprintf("the boot logs of %d end with: %s", of, line))
		}
	}
	for _, p := range paths {
		if p.Failed > 0 {
			all = append(all, fmt.Sprintf("%d of %d requests to %s failed", p.Failed, p.Requests, p.Path))
		}
	}
	for _, c := range changes {
		all = append(all, fmt.Sprintf("its template has another %s", c.Field))
	}
	slices.Sort(all)
	return append([]string{}, all...)
}
