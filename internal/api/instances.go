package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/say"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// ListInstances lists instances.
func (s *Server) ListInstances(ctx context.Context, r routes.ListInstancesRequestObject) (routes.ListInstancesResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.readInstances(ctx, some(r.Params.Group, ""), given(r.Params.Alone), given(r.Params.Gone), p)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(i store.Instance) store.Cursor { return versionKey(i.Group, i.Serial) })
	s.Control.AddFacts(items)
	return routes.ListInstances200JSONResponse{Next: next, Items: each(items, s.instance)}, nil
}

// readInstances reads a page of those of a group ("" for all), or of those that are alone.
func (s *Server) readInstances(ctx context.Context, group string, alone, gone bool, p store.Page) ([]store.Instance, error) {
	if alone {
		return s.Store.InstancesAlone(ctx, gone, p)
	}
	return s.Store.Instances(ctx, group, gone, p)
}

// GetInstance reads one instance with the last answers of its checks.
func (s *Server) GetInstance(ctx context.Context, r routes.GetInstanceRequestObject) (routes.GetInstanceResponseObject, error) {
	in, err := s.Store.Instance(ctx, r.Id)
	if err != nil {
		return nil, about("instance", r.Id, err)
	}
	one := []store.Instance{in}
	s.Control.AddFacts(one)
	in = one[0]
	for _, check := range s.checksOf(ctx, in.Group) {
		if !slices.ContainsFunc(in.Reports, func(r health.Report) bool { return r.Check == check }) {
			in.Reports = append(in.Reports, health.Report{Check: check, Verdict: health.Unknown, Why: "not enough answers yet"})
		}
	}
	out := s.instance(in)
	for i := range out.Reports {
		answers := each(s.Control.Answers(in.ID, out.Reports[i].Check), func(a health.Answer) contract.Answer {
			return contract.Answer{At: a.At, TookMs: round2(a.Took.Seconds() * 1000), Good: a.Good, Why: a.Why}
		})
		out.Reports[i].Answers = &answers
	}
	usual := s.Control.Usual(in.Group)
	out.UsualSeconds, out.SlowSeconds = known(usual.Median), known(usual.Slow)
	if err := s.launchedWith(ctx, in, &out); err != nil {
		return nil, err
	}
	return routes.GetInstance200JSONResponse{Body: out, Headers: routes.GetInstance200ResponseHeaders{ETag: etag(in.Revision)}}, nil
}

// launchedWith tells what the machine was made from: its template with what was put over it.
func (s *Server) launchedWith(ctx context.Context, in store.Instance, out *contract.Instance) error {
	t, err := s.Store.Template(ctx, in.Version)
	if errors.Is(err, store.ErrNotFound) {
		return nil // it is gone since
	}
	if err != nil {
		return err
	}
	labels := contract.Labels{}
	maps.Copy(labels, t.Labels)
	maps.Copy(labels, in.Overrides.Labels)
	image := fleet.Version{Name: t.Image, N: t.ImageVersion}.String()
	out.LaunchedWith = &contract.LaunchedWith{Cpus: t.CPUs, Image: cmp.Or(in.Overrides.Image, image), Labels: labels, MemoryBytes: t.MemoryBytes, Port: t.Port}
	return nil
}

func (s *Server) checksOf(ctx context.Context, group string) []string {
	g, err := s.Store.Group(ctx, group)
	if err != nil {
		return nil
	}
	return g.AllChecks()
}

// GetBootLog reads the end of what a machine wrote.
func (s *Server) GetBootLog(ctx context.Context, r routes.GetBootLogRequestObject) (routes.GetBootLogResponseObject, error) {
	in, err := s.Store.Instance(ctx, r.Id)
	if err != nil {
		return nil, about("instance", r.Id, err)
	}
	raw, err := s.bootLog(in.ID, 256<<10)
	if errors.Is(err, os.ErrNotExist) {
		if in.State == fleet.Gone {
			return nil, &problem{status: 404, kind: "not-found", detail: fmt.Sprintf("The machine of %s is gone, and its boot log with it.", in.ID)}
		}
		raw, err = nil, nil
	}
	return routes.GetBootLog200TextResponse(raw), err
}

// bootLog is the end of what a machine wrote; [os.ErrNotExist] when there is none.
func (s *Server) bootLog(id string, max int64) ([]byte, error) {
	logger, can := s.Machines.(machine.Logger)
	if !can {
		return nil, os.ErrNotExist
	}
	return logger.BootLog(id, max)
}

// ListFailures shows the places whose instances failed, with what the last of
// them wrote.
func (s *Server) ListFailures(ctx context.Context, r routes.ListFailuresRequestObject) (routes.ListFailuresResponseObject, error) {
	p, err := s.Control.Picture(ctx, r.Name)
	if err == nil && p.Group.Alone {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	out := routes.ListFailures200JSONResponse{Items: []contract.FailingSlot{}}
	for k, place := range slots(p) {
		place := contract.FailingSlot{Count: place.Failures, Instance: place.Instance, UntilAt: place.UntilAt, Failures: []contract.Failure{}}
		for _, id := range p.Group.Slots[k].Failed {
			in, err := s.Store.Instance(ctx, id)
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			if err != nil {
				return nil, err
			}
			failure := contract.Failure{Instance: id, Zone: in.Zone, Version: in.Version.String(), At: in.Since, Why: say.Because(in.Cause)}
			if failure.Why, failure.At, err = s.Store.Ending(ctx, id); err != nil {
				return nil, err
			}
			raw, err := s.bootLog(id, 4<<10)
			if err != nil && !errors.Is(err, os.ErrNotExist) {
				return nil, err
			}
			failure.BootLog = strings.ToValidUTF8(string(raw), "\uFFFD")
			place.Failures = append(place.Failures, failure)
		}
		out.Items = append(out.Items, place)
	}
	return out, nil
}

// ReleaseInstance lets an instance go without stopping it.
func (s *Server) ReleaseInstance(ctx context.Context, r routes.ReleaseInstanceRequestObject) (routes.ReleaseInstanceResponseObject, error) {
	in, err := s.releaseInstance(ctx, r.Id, r.Params.IfMatch, given(r.Body.Replace), some(r.Body.Reason, ""), 0)
	return routes.ReleaseInstance200JSONResponse(in), err
}

func (s *Server) releaseInstance(ctx context.Context, id string, match *string, replace bool, reason string, launch int) (contract.Instance, error) {
	revision, err := ifMatch(match)
	if err != nil {
		return contract.Instance{}, err
	}
	now := s.now()
	err = s.Store.ReleaseInstance(ctx, now, actor(ctx), id, revision, func(g fleet.Group, in fleet.Instance) (fleet.Group, fleet.Instance, fleet.Entry, error) {
		if err := in.IsLaunch(launch); err != nil {
			return g, in, fleet.Entry{}, err
		}
		return g.Release(now, in, replace, reason)
	})
	if err != nil {
		return contract.Instance{}, about("instance", id, err)
	}
	in, err := s.Store.Instance(ctx, id)
	if err != nil {
		return contract.Instance{}, err
	}
	return s.instance(in), nil
}
