package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/control"
	"unitas/internal/fleet"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// ListGroups lists groups with their summaries.
func (s *Server) ListGroups(ctx context.Context, r routes.ListGroupsRequestObject) (routes.ListGroupsResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	all, err := s.Control.Pictures(ctx, p)
	if err != nil {
		return nil, err
	}
	all, next := cut(all, p, func(p control.Picture) store.Cursor { return store.Cursor{p.Group.Name} })
	now := s.now()
	out := routes.ListGroups200JSONResponse{Next: next, Items: each(all, func(p control.Picture) contract.Group {
		return fromPicture(now, p, s.Control.Around(ctx, p))
	})}
	if r.Params.After == nil {
		out.Sentence, err = s.headline(ctx, all, next == nil)
	}
	return out, err
}

// headline is how all groups stand; the first page of them is there already, and may be all.
func (s *Server) headline(ctx context.Context, all []control.Picture, whole bool) (*string, error) {
	now := s.now()
	var standings []say.GroupStatus
	for p := (store.Page{Limit: 1000}); ; {
		if !whole {
			var err error
			if all, err = s.Control.Pictures(ctx, p); err != nil {
				return nil, err
			}
		}
		for i := range all {
			v := all[i].View()
			standings = append(standings, say.StatusOf(v, say.Summarise(now, v)))
		}
		if whole || len(all) < p.Limit {
			text := say.Headline(standings)
			return &text, nil
		}
		p.After = store.Cursor{all[len(all)-1].Group.Name}
	}
}

func (s *Server) group(ctx context.Context, name string) (contract.Group, error) {
	p, err := s.Control.Picture(ctx, name)
	if err == nil && p.Group.Alone {
		err = store.ErrNotFound // it is an instance
	}
	if err != nil {
		return contract.Group{}, err
	}
	return fromPicture(s.now(), p, s.Control.Around(ctx, p)), nil
}

// CreateGroup makes a group.
func (s *Server) CreateGroup(ctx context.Context, r routes.CreateGroupRequestObject) (routes.CreateGroupResponseObject, error) {
	b := r.Body
	v, err := s.resolve(ctx, "template", "template", b.Template)
	if err != nil {
		return nil, err
	}
	g := store.Group{
		Group: fleet.Group{
			Name: b.Name, Settings: fleet.Settings{
				Size: b.Size, Min: some(b.Min, min(b.Size, 1)), Max: some(b.Max, b.Size), Template: v, Zones: some(b.Zones, s.Places.Home().Zones),
				Heal: fleet.Heal(given(b.Heal)), HealLimit: given(b.HealLimitPercent), Settle: givenFor(b.SettleSeconds), Drain: givenFor(b.DrainSeconds),
				Shed: fleet.Shed(given(b.Shed)), Spread: placement.Spread(given(b.Spread)), Above: given(b.Above), PinNew: given(b.PinNew), HooksAtOnce: given(b.HooksAtOnce),
				Labels: some(b.Labels, map[string]string{}), Pools: given(b.Pools),
			},
		},
	}
	var fresh *store.Template
	if b.NewTemplate != nil {
		made, err := s.templateAlong(ctx, *b.NewTemplate, v)
		if err != nil {
			return nil, err
		}
		fresh = &made
	}
	first := func(tx *store.Tx) error {
		var faults []fieldFault
		var refusal *fleet.Refusal
		if err := g.Validate(); errors.As(err, &refusal) {
			faults = append(faults, fieldFault{"/" + refusal.Field, refusal.Text})
		}
		if fresh != nil {
			if _, err := tx.AddTemplate(ctx, *fresh, false); errors.Is(err, store.ErrExists) {
				faults = append(faults, fieldFault{"/new_template/name", fmt.Sprintf("there is a template %s already; choose another name, or launch it as it is", fresh.Name)})
			} else if err != nil {
				return err
			}
		}
		return s.checkReferences(ctx, tx.Reader, store.Group{}, g, faults...)
	}
	dry := given(r.Params.DryRun)
	g, err = s.Store.AddGroup(ctx, s.now(), actor(ctx), g, first)
	if err != nil {
		return nil, about("group", b.Name, err)
	}
	if dry {
		p := control.Picture{Group: g}
		return routes.CreateGroup200JSONResponse(fromPicture(s.now(), p, s.Control.Around(ctx, p))), nil
	}
	out, err := s.group(ctx, b.Name)
	return routes.CreateGroup201JSONResponse(out), err
}

// templateAlong is a template that is made with the group that launches its first
// version.
func (s *Server) templateAlong(ctx context.Context, b contract.NewTemplate, launches fleet.Version) (store.Template, error) {
	if launches != (fleet.Version{Name: b.Name, N: 1}) {
		return store.Template{}, invalid("/template", "it is %s, and the first version of the new template is %s@1; give that", launches, b.Name)
	}
	t, _, faults, err := s.completeTemplate(ctx, newTemplate(b), b.Image)
	if len(faults) > 0 {
		for k := range faults {
			faults[k].pointer = "/new_template" + faults[k].pointer
		}
		err = invalidFields(faults)
	}
	return t, err
}

// checkReferences reports everything that a group names and that is not there,
// or may not be used anew. What it launched and where before is not new use.
func (s *Server) checkReferences(ctx context.Context, r store.Reader, was, g store.Group, faults ...fieldFault) error {
	fault := func(pointer, format string, args ...any) {
		faults = append(faults, fieldFault{pointer, fmt.Sprintf(format, args...)})
	}
	if g.Template != was.Template || !slices.Equal(g.Zones, was.Zones) {
		if why, err := s.launchable(ctx, r, g.Template, g.Zones); err != nil {
			return err
		} else if why != "" {
			fault("/template", "%s", why)
		}
	}
	for i, z := range g.Zones {
		if !slices.Contains(s.Places.Zones(), z) {
			fault("/zones/"+strconv.Itoa(i), "there is no zone %q; there are %s", z, strings.Join(s.Places.Zones(), ", "))
		} else if slices.Index(g.Zones, z) != i {
			fault("/zones/"+strconv.Itoa(i), "the zone %s is named twice", z)
		}
	}
	for i, name := range g.Pools {
		if _, err := r.Pool(ctx, name); errors.Is(err, store.ErrNotFound) {
			fault("/pools/"+strconv.Itoa(i), "there is no pool %s; make it first with: unitas pool create %s", name, name)
		} else if err != nil {
			return err
		}
	}
	if check := g.Heal.Check(); check != "" && g.Heal != fleet.HealTraffic {
		if _, err := r.Check(ctx, check); errors.Is(err, store.ErrNotFound) {
			fault("/heal", "%q is none of off, machine and traffic, and there is no check of this name", check)
		} else if err != nil {
			return err
		}
	}
	if g.Course != "" && g.Course != was.Course {
		if _, err := r.Course(ctx, g.Course); errors.Is(err, store.ErrNotFound) {
			fault("/course", "there is no course %s; see: unitas course list", words.Plain(g.Course, 80))
		} else if err != nil {
			return err
		}
	}
	if len(faults) == 0 {
		return nil
	}
	return invalidFields(faults)
}

// GetGroup reads one group.
func (s *Server) GetGroup(ctx context.Context, r routes.GetGroupRequestObject) (routes.GetGroupResponseObject, error) {
	g, err := s.group(ctx, r.Name)
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	return routes.GetGroup200JSONResponse{Body: g, Headers: routes.GetGroup200ResponseHeaders{ETag: etag(g.Revision)}}, nil
}

// ChangeGroup changes settings, and tells what the change makes happen; with a
// dry run it only tells.
func (s *Server) ChangeGroup(ctx context.Context, r routes.ChangeGroupRequestObject) (routes.ChangeGroupResponseObject, error) {
	b := r.Body
	p, err := s.Control.Picture(ctx, r.Name)
	if err == nil && p.Group.Alone {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	var version *fleet.Version
	if b.Template != nil {
		v, err := s.resolve(ctx, "template", "template", *b.Template)
		if err != nil {
			return nil, err
		}
		version = &v
	}
	var trusted []fleet.Version
	for k, ref := range some(b.Trust, nil) {
		v, err := s.resolve(ctx, "template", fmt.Sprintf("trust/%d", k), ref)
		if err != nil {
			return nil, err
		}
		if p.Rollout != nil && p.Rollout.To == v {
			return nil, invalid(fmt.Sprintf("/trust/%d", k), "a rollout to %s is under way: proceed clears it, or clear it once the rollout has ended", v)
		}
		trusted = append(trusted, v)
	}
	change := func(g *store.Group) (e fleet.Entry, err error) {
		var untrusted error
		g.Group, e, err = g.Change(func(f *fleet.Group) {
			untrusted = f.Trust(trusted)
			f.Size, f.Min, f.Max = some(b.Size, f.Size), some(b.Min, f.Min), some(b.Max, f.Max)
			f.Template, f.Zones = some(version, f.Template), some(b.Zones, f.Zones)
			f.Shed, f.Heal = fleet.Shed(some(b.Shed, contract.Shed(f.Shed))), fleet.Heal(some(b.Heal, string(f.Heal)))
			f.HealLimit, f.PinNew, f.HooksAtOnce, f.Course, f.Labels = some(b.HealLimitPercent, f.HealLimit), some(b.PinNew, f.PinNew), some(b.HooksAtOnce, f.HooksAtOnce), some(b.Course, f.Course), some(b.Labels, f.Labels)
			f.Scrape = some(b.Scrape, f.Scrape)
			f.Settle, f.Drain = durationOf(b.SettleSeconds, f.Settle), durationOf(b.DrainSeconds, f.Drain)
			f.Pools, f.Above, f.Spread = some(b.Pools, f.Pools), some(b.Above, f.Above), placement.Spread(some(b.Spread, contract.Spread(f.Spread)))
		}, some(b.Reason, ""))
		if untrusted != nil {
			return e, untrusted
		}
		return e, err
	}
	after := p.Group
	if _, err := change(&after); err != nil {
		return nil, about("group", r.Name, err)
	}
	if p.Rollout != nil && after.Template != p.Group.Template {
		return nil, invalid("/template", "the group %s has a rollout under way, which decides what is launched", r.Name)
	}
	if err := s.checkReferences(ctx, s.Store.Reader, p.Group, after); err != nil {
		return nil, err
	}
	before := p
	p.Group = after
	pools := s.Control.Around(ctx, before).Pools
	for _, more := range s.Control.Around(ctx, p).Pools {
		if !slices.ContainsFunc(pools, func(had fleet.PoolAround) bool { return had.Name == more.Name }) {
			pools = append(pools, more)
		}
	}
	outlook := fleet.Effects(s.now(), before.View(), p.View(), pools)
	if !given(r.Params.DryRun) {
		if err := s.changeGroup(ctx, r.Name, r.Params.IfMatch, func(r store.Reader, g *store.Group) (fleet.Entry, error) {
			was := *g
			e, err := change(g)
			if err == nil {
				err = s.checkReferences(ctx, r, was, *g)
			}
			return e, err
		}); err != nil {
			return nil, err
		}
	}
	out, err := s.group(ctx, r.Name)
	differences := before.Group.Differences(after.Group)
	out.Effects, out.Caution, out.Changes = &outlook.Effects, text(outlook.Caution), &differences
	return routes.ChangeGroup200JSONResponse(out), err
}

// TellGroup freezes, thaws, or permits healing.
func (s *Server) TellGroup(ctx context.Context, r routes.TellGroupRequestObject) (routes.TellGroupResponseObject, error) {
	reason := some(r.Body.Reason, "")
	if r.Body.Command == contract.Freeze && reason == "" {
		return nil, invalid("/reason", "say why the group is frozen; everybody who looks at it is told")
	}
	now := s.now()
	err := s.changeGroup(ctx, r.Name, r.Params.IfMatch, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
		switch {
		case g.Alone:
			err = store.ErrNotFound
		case r.Body.Command == contract.Freeze:
			g.Group, e, err = g.Freeze(reason)
		case r.Body.Command == contract.Thaw:
			g.Group, e, err = g.Thaw(reason)
		default:
			g.Group, e, err = g.HealAnyway(now, reason)
		}
		return e, err
	})
	if err != nil {
		return nil, err
	}
	out, err := s.group(ctx, r.Name)
	return routes.TellGroup200JSONResponse(out), err
}

// DeleteGroup begins the end of a group.
func (s *Server) DeleteGroup(ctx context.Context, r routes.DeleteGroupRequestObject) (routes.DeleteGroupResponseObject, error) {
	p, err := s.Control.Picture(ctx, r.Name)
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	pinned := fleet.Pinned(p.View().Instances)
	err = s.changeGroup(ctx, r.Name, r.Params.IfMatch, func(_ store.Reader, g *store.Group) (e fleet.Entry, err error) {
		if g.Alone {
			return e, store.ErrNotFound
		}
		g.Group, e, err = g.Delete(pinned...)
		return e, err
	})
	if err != nil {
		return nil, err
	}
	out, err := s.group(ctx, r.Name)
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	return routes.DeleteGroup202JSONResponse(out), nil
}

func (s *Server) changeGroup(ctx context.Context, name string, match *string,
	f func(store.Reader, *store.Group) (fleet.Entry, error)) error {
	revision, err := ifMatch(match)
	if err != nil {
		return err
	}
	if err := s.Store.ChangeGroup(ctx, s.now(), actor(ctx), name, revision, f); err != nil {
		return about("group", name, err)
	}
	return nil
}

// ListJournal lists journal entries.
func (s *Server) ListJournal(ctx context.Context, r routes.ListJournalRequestObject) (routes.ListJournalResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Journal(ctx, store.JournalQuery{
		Group: some(r.Params.Group, ""), Instance: some(r.Params.Instance, ""), Rollout: some(r.Params.Rollout, 0), Page: p,
		Kinds: some(r.Params.Kind, nil), Actor: some(r.Params.By, ""), Since: some(r.Params.Since, time.Time{}), Until: some(r.Params.Until, time.Time{}),
		Outcome: fleet.Outcome(some(r.Params.Outcome, "")),
	})
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(e store.Entry) store.Cursor { return store.Cursor{strconv.FormatInt(e.Number, 10)} })
	return routes.ListJournal200JSONResponse{Items: each(items, fromEntry), Next: next}, nil
}
