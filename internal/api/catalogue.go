package api

import (
	"context"
	"errors"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// ListChecks lists checks.
func (s *Server) ListChecks(ctx context.Context, r routes.ListChecksRequestObject) (routes.ListChecksResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Checks(ctx, p)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(c store.Check) store.Cursor { return store.Cursor{c.Name} })
	return routes.ListChecks200JSONResponse{Items: each(items, fromCheck), Next: next}, nil
}

// CreateCheck makes a check.
func (s *Server) CreateCheck(ctx context.Context, r routes.CreateCheckRequestObject) (routes.CreateCheckResponseObject, error) {
	b := r.Body
	interval := givenFor(b.IntervalSeconds)
	check := health.Check{
		Name: b.Name, Kind: health.Kind(b.Kind), Port: given(b.Port), Path: given(b.Path), Interval: interval,
		Timeout: durationOf(b.TimeoutSeconds, min(2*time.Second, interval)), Passes: given(b.Passes), Fails: given(b.Fails),
		Host: some(b.Host, ""), Statuses: given(b.Statuses), Text: some(b.Text, ""), Service: some(b.Service, ""), Verify: given(b.Verify),
	}
	if b.Name == "off" || b.Name == "machine" || b.Name == string(fleet.HealTraffic) {
		return nil, invalid("/name", "%q says how a group heals and cannot name a check; choose another name", b.Name)
	}
	if err := goodCheck(check); err != nil {
		return nil, err
	}
	c, err := s.Store.AddCheck(ctx, s.now(), actor(ctx), store.Check{Check: check, Labels: some(b.Labels, nil)})
	if err != nil {
		return nil, about("check", b.Name, err)
	}
	if given(r.Params.DryRun) {
		return routes.CreateCheck200JSONResponse(fromCheck(c)), nil
	}
	return routes.CreateCheck201JSONResponse(fromCheck(c)), nil
}

// goodCheck reports what no field says alone.
func goodCheck(c health.Check) error {
	if c.Timeout > c.Interval {
		return invalid("/timeout_seconds", "the timeout of %s is longer than the interval of %s; give at most the interval",
			words.Span(c.Timeout), words.Span(c.Interval))
	}
	if _, err := health.ParseStatuses(c.Statuses); err != nil {
		return invalid("/statuses", "%s", err)
	}
	return nil
}

// ChangeCheck changes a check for all that use it.
func (s *Server) ChangeCheck(ctx context.Context, r routes.ChangeCheckRequestObject) (routes.ChangeCheckResponseObject, error) {
	b := r.Body
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	var was health.Check
	c, err := s.Store.ChangeCheck(ctx, s.now(), actor(ctx), r.Name, revision, func(c *store.Check) (fleet.Cause, error) {
		was = c.Check
		c.Port, c.Path, c.Host, c.Statuses = some(b.Port, c.Port), some(b.Path, c.Path), some(b.Host, c.Host), some(b.Statuses, c.Statuses)
		c.Text, c.Service, c.Verify = some(b.Text, c.Text), some(b.Service, c.Service), some(b.Verify, c.Verify)
		c.Interval, c.Timeout = durationOf(b.IntervalSeconds, c.Interval), durationOf(b.TimeoutSeconds, c.Timeout)
		c.Passes, c.Fails, c.Labels = some(b.Passes, c.Passes), some(b.Fails, c.Fails), some(b.Labels, c.Labels)
		return fleet.Asked(some(b.Reason, "")), goodCheck(c.Check)
	})
	if err != nil {
		return nil, about("check", r.Name, err)
	}
	out, err := s.checkWithUsers(ctx, c)
	if err == nil {
		out.Advice, err = s.adviseCheck(ctx, out, was, c.Check)
	}
	return routes.ChangeCheck200JSONResponse(out), err
}

// advisedOf is for how many groups a change of a check is thought through.
const advisedOf = 20

// adviseCheck is the advice on a check with what its change does to the groups that it judges.
func (s *Server) adviseCheck(ctx context.Context, told contract.Check, was, now health.Check) ([]string, error) {
	all := told.Advice
	for _, name := range (*told.Groups)[:min(len(*told.Groups), advisedOf)] {
		p, err := s.Control.Picture(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, text := range p.Group.AdviseCheck(s.Control.Around(ctx, p), was, now) {
			all = append(all, name+": "+text)
		}
	}
	return all, nil
}

func (s *Server) checkWithUsers(ctx context.Context, c store.Check) (contract.Check, error) {
	pools, groups, err := s.Store.CheckUsers(ctx, c.Name)
	out := fromCheck(c)
	out.Pools, out.Groups = &pools, &groups
	return out, err
}

// GetCheck reads one check.
func (s *Server) GetCheck(ctx context.Context, r routes.GetCheckRequestObject) (routes.GetCheckResponseObject, error) {
	c, err := s.Store.Check(ctx, r.Name)
	if err != nil {
		return nil, about("check", r.Name, err)
	}
	out, err := s.checkWithUsers(ctx, c)
	return routes.GetCheck200JSONResponse{Body: out, Headers: routes.GetCheck200ResponseHeaders{ETag: etag(c.Revision)}}, err
}

// DeleteCheck deletes a check that nothing uses.
func (s *Server) DeleteCheck(ctx context.Context, r routes.DeleteCheckRequestObject) (routes.DeleteCheckResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := s.Store.DeleteCheck(ctx, s.now(), actor(ctx), r.Name, revision); err != nil {
		return nil, about("check", r.Name, err)
	}
	return routes.DeleteCheck204Response{}, nil
}
