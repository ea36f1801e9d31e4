package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet"
	"unitas/internal/fleet/template"
	"unitas/internal/store"
	"unitas/internal/userdata"
)

// LaunchInstance launches one instance outside any group.
func (s *Server) LaunchInstance(ctx context.Context, r routes.LaunchInstanceRequestObject) (routes.LaunchInstanceResponseObject, error) {
	b := r.Body
	var refusal *fleet.Refusal
	if err := fleet.CheckInstanceName(b.Name); errors.As(err, &refusal) {
		return nil, about("instance", b.Name, err)
	}
	v, err := s.resolve(ctx, "template", "template", b.Template)
	if err != nil {
		return nil, err
	}
	var faults []fieldFault
	if !slices.Contains(s.Places.Zones(), b.Zone) {
		faults = append(faults, fieldFault{"/zone", fmt.Sprintf("there is no zone %q; there are %s", b.Zone, strings.Join(s.Places.Zones(), ", "))})
	}
	o := store.Overrides{UserData: b.UserData, Labels: some(b.Labels, nil)}
	zones := []string{b.Zone}
	if b.Image != nil {
		i, wrong, err := s.usableImage(ctx, "/image", *b.Image)
		if err != nil {
			return nil, err
		}
		faults = append(faults, wrong...)
		if why := s.absent(i.Ref(), i.Places, zones); len(wrong) == 0 && why != "" {
			faults = append(faults, fieldFault{"/image", why})
		}
		o.Image, o.Digest, o.Start, o.Environment = i.Ref().String(), i.Digest, i.Start, i.Environment
		zones = nil // the template's image is not needed there
	}
	if why, err := s.launchable(ctx, s.Store.Reader, v, zones); err != nil {
		return nil, err
	} else if why != "" {
		faults = append(faults, fieldFault{"/template", why})
	}
	if _, err := userdata.Parse(some(b.UserData, "")); err != nil {
		faults = append(faults, fieldFault{"/user_data", err.Error()})
	}
	labels := template.Spec{Labels: o.Labels}
	for _, f := range labels.Validate() {
		faults = append(faults, fieldFault{"/" + f.Field, f.Text})
	}
	if len(faults) > 0 {
		return nil, invalidFields(faults)
	}
	now := s.now()
	if _, err := s.Store.AddGroup(ctx, now, actor(ctx), store.Group{Overrides: o, Group: fleet.Group{
		Name: b.Name, Alone: true, Settings: fleet.Settings{
			Size: 1, Max: 1, Template: v, Zones: []string{b.Zone}, Heal: fleet.HealOff, Settle: time.Minute,
		},
	}}, func(*store.Tx) error { return nil }); err != nil {
		return nil, about("group or instance", b.Name, err)
	}
	if given(r.Params.DryRun) {
		return routes.LaunchInstance200JSONResponse(s.instance(store.Instance{Group: b.Name, Overrides: o, Instance: fleet.Instance{
			ID: b.Name, Launch: 1, Version: v, Zone: b.Zone, State: fleet.Ordered, Since: now, Ordered: now}})), nil
	}
	// Its record is written by the next decision, within a tenth of a second.
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		in, err := s.Store.Instance(ctx, b.Name)
		if err == nil {
			return routes.LaunchInstance202JSONResponse(s.instance(in)), nil
		}
		if !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-tick.C:
		}
	}
}

// TellInstance gives a person's command to an instance.
func (s *Server) TellInstance(ctx context.Context, r routes.TellInstanceRequestObject) (routes.TellInstanceResponseObject, error) {
	in, err := s.tellInstance(ctx, r.Id, r.Params.IfMatch, commandOf(string(r.Body.Command), r.Body.AtOnce), some(r.Body.Reason, ""), 0)
	return routes.TellInstance200JSONResponse(in), err
}

// commandOf is a command as the core has it.
func commandOf(command string, atOnce *bool) fleet.InstanceCommand {
	if command == string(fleet.CommandRecreate) && given(atOnce) {
		return fleet.CommandRecreateNow
	}
	return fleet.InstanceCommand(command)
}

// tellInstance carries a command out. One that is alone is retired by ending
// the group that it is. It must have the machine of that launch, when one is given.
func (s *Server) tellInstance(ctx context.Context, id string, match *string, c fleet.InstanceCommand, reason string, launch int) (contract.Instance, error) {
	revision, err := ifMatch(match)
	if err != nil {
		return contract.Instance{}, err
	}
	in, err := s.Store.Instance(ctx, id)
	if err != nil {
		return contract.Instance{}, about("instance", id, err)
	}
	if c == fleet.CommandRetire && in.Group == in.ID {
		if revision != store.AnyRevision && revision != in.Revision {
			return contract.Instance{}, about("instance", id, store.ErrStale)
		}
		if err := in.IsLaunch(launch); err != nil {
			return contract.Instance{}, about("instance", id, err)
		}
		whatever := "*"
		err := s.changeGroup(ctx, in.Group, &whatever, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
			g.Group, e, err = g.Delete()
			return e, err
		})
		return s.instance(in), err
	}
	now := s.now()
	if err := s.Store.ChangeInstance(ctx, now, actor(ctx), id, revision, func(g fleet.Group, in fleet.Instance, _ bool) (fleet.Instance, fleet.Entry, error) {
		if err := in.IsLaunch(launch); err != nil {
			return in, fleet.Entry{}, err
		}
		return g.TellInstance(now, in, c, reason)
	}); err != nil {
		return contract.Instance{}, about("instance", id, err)
	}
	if in, err = s.Store.Instance(ctx, id); err != nil {
		return contract.Instance{}, err
	}
	return s.instance(in), nil
}

// TellInstances gives the same command to several instances.
func (s *Server) TellInstances(ctx context.Context, r routes.TellInstancesRequestObject) (routes.TellInstancesResponseObject, error) {
	out := contract.InstancesTold{Taken: []contract.Instance{}, Refused: []contract.InstanceRefusal{}}
	whatever := "*"
	looked := some(r.Body.Launches, nil)
	for _, id := range r.Body.Instances {
		tell := func() (contract.Instance, error) {
			if r.Body.Command == contract.InstancesCommandCommandRelease {
				return s.releaseInstance(ctx, id, &whatever, true, some(r.Body.Reason, ""), looked[id])
			}
			return s.tellInstance(ctx, id, &whatever, commandOf(string(r.Body.Command), r.Body.AtOnce), some(r.Body.Reason, ""), looked[id])
		}
		in, err := tell()
		p := cmp.Or(toProblem(err), ofStore(err))
		switch {
		case err == nil:
			out.Taken = append(out.Taken, in)
		case p != nil:
			out.Refused = append(out.Refused, contract.InstanceRefusal{Instance: id, Why: p.detail})
		case len(out.Taken) == 0:
			return nil, err
		default: // what was taken is told all the same
			s.Log.Warn("an instance could not be told a command", "instance", id, "error", err)
			out.Refused = append(out.Refused, contract.InstanceRefusal{Instance: id, Why: fmt.Sprintf("%s could not be told; the log of the service says why.", id)})
		}
	}
	return routes.TellInstances200JSONResponse(out), nil
}
