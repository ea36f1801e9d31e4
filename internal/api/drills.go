package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/drill"
	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// ListDrills lists what is under way.
func (s *Server) ListDrills(ctx context.Context, _ routes.ListDrillsRequestObject) (routes.ListDrillsResponseObject, error) {
	return routes.ListDrills200JSONResponse{Items: append(each(s.Drills.List(), fromDrill), s.drillsElsewhere(ctx)...)}, nil
}

func fromDrill(d drill.Drill) contract.Drill {
	return contract.Drill{Number: d.Number, Kind: string(d.Kind), Instance: text(d.Instance), Zone: text(d.Zone), Region: text(d.Region), What: d.What(),
		StartedAt: d.Began, UntilAt: d.Began.Add(d.For), StartedBy: d.By}
}

// StartDrill makes a fault on purpose.
func (s *Server) StartDrill(ctx context.Context, r routes.StartDrillRequestObject) (routes.StartDrillResponseObject, error) {
	b := r.Body
	d := drill.Drill{Kind: drill.Kind(b.Kind), Instance: some(b.Instance, ""), Zone: some(b.Zone, ""), Region: some(b.Region, ""), For: givenFor(b.ForSeconds),
		Slow: givenFor(b.SlowSeconds), Percent: given(b.ErrorPercent), Reason: some(b.Reason, ""), By: actor(ctx)}
	if d.Kind != drill.Region && d.Region != "" {
		return nil, invalid("/region", "a drill of the kind %s is about no region; leave it out", d.Kind)
	}
	switch d.Kind {
	case drill.Region:
		r, ok := s.Places.Region(d.Region)
		switch {
		case d.Instance != "" || d.Zone != "":
			return nil, invalid("/region", "a drill of the kind region is about a region alone; leave instance and zone out")
		case !ok:
			return nil, invalid("/region", "there is no region %q; there are %s", d.Region, s.Places.Names())
		}
		d.Zones = r.Zones
	case drill.Zone:
		switch {
		case d.Instance != "":
			return nil, invalid("/instance", "a drill of the kind zone is about a zone; leave the instance out")
		case !slices.Contains(s.Places.Zones(), d.Zone):
			return nil, invalid("/zone", "there is no zone %q; there are %s", d.Zone, strings.Join(s.Places.Zones(), ", "))
		}
	default:
		if d.Zone != "" {
			return nil, invalid("/zone", "a drill of the kind %s is about one instance; leave the zone out", d.Kind)
		}
		in, err := s.Store.Instance(ctx, d.Instance)
		if err != nil {
			return nil, invalid("/instance", "there is no instance %q", d.Instance)
		}
		d.Group = in.Group
	}
	if d.Kind == drill.Crash {
		d.For = 0
	}
	changes, err := s.drillTakes(ctx, d)
	if err != nil {
		return nil, err
	}
	if some(r.Params.DryRun, false) {
		if err := s.Drills.May(d); err != nil {
			return nil, about("drill", "", err)
		}
		d.Began = s.now()
		told := fromDrill(d)
		told.Changes = &changes
		return routes.StartDrill200JSONResponse(told), nil
	}
	d, err = s.Drills.Start(ctx, s.now(), d)
	if err != nil {
		return nil, about("drill", "", err)
	}
	told := fromDrill(d)
	told.Changes = &changes
	return routes.StartDrill201JSONResponse(told), nil
}

// drillTakes says what a drill takes: of zones from each group, else of the one instance.
func (s *Server) drillTakes(ctx context.Context, d drill.Drill) ([]string, error) {
	zones := d.Zones
	switch d.Kind {
	case drill.Zone:
		zones = []string{d.Zone}
	case drill.Region:
	default:
		return []string{d.What()}, nil
	}
	losses, err := s.Store.ZoneLosses(ctx, zones)
	if err != nil {
		return nil, err
	}
	all := []string{}
	for _, l := range losses {
		all = append(all, fmt.Sprintf("%s loses %s; %d of %d go on serving", l.Group, words.Count(l.Goes, "instance"), l.Stays, l.Serving))
	}
	if len(all) == 0 {
		all = append(all, "no group has an instance there")
	}
	return all, nil
}

// StopDrill ends one now.
func (s *Server) StopDrill(ctx context.Context, r routes.StopDrillRequestObject) (routes.StopDrillResponseObject, error) {
	err := s.Drills.Stop(r.Number, actor(ctx))
	if errors.Is(err, store.ErrNotFound) && s.stopElsewhere(ctx, r.Number) {
		err = nil
	}
	if err != nil {
		return nil, about("drill", strconv.FormatInt(r.Number, 10), err)
	}
	return routes.StopDrill204Response{}, nil
}

// RunOnInstance runs a command on the machine of an instance. That it was asked
// for is journalled before, how it ended after.
func (s *Server) RunOnInstance(ctx context.Context, r routes.RunOnInstanceRequestObject) (routes.RunOnInstanceResponseObject, error) {
	in, err := s.Store.Instance(ctx, r.Id)
	if err != nil {
		return nil, about("instance", r.Id, err)
	}
	if err := s.mayRun(); err != nil {
		return nil, err
	}
	runner, can := s.Machines.(machine.Runner)
	if !can {
		return nil, &problem{status: 409, kind: "conflict", detail: "The machines of this service run no commands."}
	}
	command := commandWords(r.Body.Command)
	note := func(kind, what string, because fleet.Cause) error {
		return s.noteRun(ctx, actor(ctx), in, kind, what, because)
	}
	if err := note("run", fmt.Sprintf("A command is run on %s: %s", in.ID, command), fleet.Asked("")); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, givenFor(r.Body.TimeoutSeconds))
	defer cancel()
	ran, err := runner.Run(ctx, in.ID, r.Body.Command)
	if err != nil {
		_ = note("ran", fmt.Sprintf("The command was not run on %s.", in.ID), fleet.Because(err.Error()))
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The command was not run on %s: %s.", in.ID, err)}
	}
	ended := ran.Why
	if ended == "" {
		ended = fmt.Sprintf("it ended with status %d", ran.Status)
	}
	if err := note("ran", fmt.Sprintf("The command on %s is over: %s", in.ID, command), fleet.Because(ended)); err != nil {
		return nil, err
	}
	return routes.RunOnInstance200JSONResponse{Status: ran.Status, Why: text(ran.Why), Output: strings.ToValidUTF8(string(ran.Output), "\uFFFD"),
		Truncated: ran.Truncated, TookSeconds: secondsOf(ran.Took)}, nil
}
