package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
	"unitas/internal/notice"
	"unitas/internal/store"
)

// AddHook adds a hook to a group, with a secret when it sends messages.
func (s *Server) AddHook(ctx context.Context, r routes.AddHookRequestObject) (routes.AddHookResponseObject, error) {
	b := r.Body
	usual := map[contract.HookPoint]contract.TicketChoice{contract.HookPointLaunch: contract.Fail, contract.HookPointRetire: contract.Pass}[b.At]
	h := fleet.Hook{Name: b.Name, At: fleet.HookPoint(b.At), Deadline: givenFor(b.DeadlineSeconds), Otherwise: fleet.Answer(some(b.Otherwise, usual)),
		Send: some(b.Send, ""), Run: some(b.Run, nil)}
	h.MaxDeadline = durationOf(b.MaxDeadlineSeconds, min(4*h.Deadline, fleet.MaxHookBound))
	secret := some(b.Secret, "")
	switch {
	case h.Send != "" && secret == "":
		secret = notice.NewSecret()
	case h.Send == "" && secret != "":
		return nil, invalid("/secret", "the hook sends nothing; leave the secret out, or say where to send")
	case secret != "":
		if err := notice.CheckSecret(secret); err != nil {
			return nil, invalid("/secret", "%s", err)
		}
	}
	err := s.changeHooks(ctx, r.Name, r.Params.IfMatch, func(tx *store.Tx, g fleet.Group) (fleet.Group, fleet.Entry, error) {
		next, e, err := g.WithHook(h, false, some(b.Reason, ""))
		return next, e, err
	}, func(tx *store.Tx) error { return tx.SetHookSecret(ctx, r.Name, h.Name, secret) })
	if err != nil {
		return nil, err
	}
	out, err := s.group(ctx, r.Name)
	if given(r.Params.DryRun) {
		return routes.AddHook200JSONResponse(out), err
	}
	return routes.AddHook201JSONResponse(out), err
}

// ChangeHook has a hook otherwise.
func (s *Server) ChangeHook(ctx context.Context, r routes.ChangeHookRequestObject) (routes.ChangeHookResponseObject, error) {
	b := r.Body
	sends := false
	err := s.changeHooks(ctx, r.Name, r.Params.IfMatch, func(_ *store.Tx, g fleet.Group) (fleet.Group, fleet.Entry, error) {
		was := g.Hook(r.Hook)
		if was == nil {
			return g, fleet.Entry{}, notFound("hook", r.Name+"/"+r.Hook)
		}
		h := *was
		h.At, h.Otherwise = fleet.HookPoint(some(b.At, contract.HookPoint(h.At))), fleet.Answer(some(b.Otherwise, contract.TicketChoice(h.Otherwise)))
		h.Deadline = durationOf(b.DeadlineSeconds, h.Deadline)
		h.MaxDeadline = durationOf(b.MaxDeadlineSeconds, max(h.MaxDeadline, h.Deadline))
		h.Send, h.Run = some(b.Send, h.Send), some(b.Run, h.Run)
		sends = h.Send != ""
		return g.WithHook(h, true, some(b.Reason, ""))
	}, func(tx *store.Tx) error {
		_, err := tx.HookSecret(ctx, r.Name, r.Hook)
		switch {
		case !sends:
			return tx.SetHookSecret(ctx, r.Name, r.Hook, "")
		case errors.Is(err, store.ErrNotFound):
			return tx.SetHookSecret(ctx, r.Name, r.Hook, notice.NewSecret())
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	out, err := s.group(ctx, r.Name)
	return routes.ChangeHook200JSONResponse(out), err
}

// RemoveHook takes a hook away.
func (s *Server) RemoveHook(ctx context.Context, r routes.RemoveHookRequestObject) (routes.RemoveHookResponseObject, error) {
	err := s.changeHooks(ctx, r.Name, r.Params.IfMatch, func(_ *store.Tx, g fleet.Group) (fleet.Group, fleet.Entry, error) {
		if g.Hook(r.Hook) == nil {
			return g, fleet.Entry{}, notFound("hook", r.Name+"/"+r.Hook)
		}
		return g.WithoutHook(r.Hook, "")
	}, func(tx *store.Tx) error { return tx.SetHookSecret(ctx, r.Name, r.Hook, "") })
	if err != nil {
		return nil, err
	}
	out, err := s.group(ctx, r.Name)
	return routes.RemoveHook200JSONResponse(out), err
}

// changeHooks changes the hooks of a group, and then their secrets, as one change.
func (s *Server) changeHooks(ctx context.Context, name string, match *string,
	change func(*store.Tx, fleet.Group) (fleet.Group, fleet.Entry, error), then func(*store.Tx) error) error {
	revision, err := ifMatch(match)
	if err != nil {
		return err
	}
	err = s.Store.ChangeGroupAnd(ctx, s.now(), actor(ctx), name, revision, func(tx *store.Tx, g *store.Group) (e fleet.Entry, err error) {
		if g.Alone {
			return e, store.ErrNotFound
		}
		if g.Group, e, err = change(tx, g.Group); err != nil {
			return e, err
		}
		return e, then(tx)
	})
	return inSeconds(about("group", name, err))
}

// inSeconds names the fields of spans as the contract does.
func inSeconds(err error) error {
	var p *problem
	if errors.As(err, &p) {
		for i, f := range p.fields {
			if slices.Contains([]string{"/deadline", "/max_deadline", "/by"}, f.pointer) {
				p.fields[i].pointer += "_seconds"
			}
		}
	}
	return err
}

// hook finds a hook of a group.
func (s *Server) hook(ctx context.Context, group, name string) (store.Group, fleet.Hook, error) {
	g, err := s.Store.Group(ctx, group)
	if err != nil {
		return g, fleet.Hook{}, about("group", group, err)
	}
	h := g.Hook(name)
	if h == nil {
		return g, fleet.Hook{}, notFound("hook", group+"/"+name)
	}
	return g, *h, nil
}

// GetHookSecret shows what messages of a hook are signed with.
func (s *Server) GetHookSecret(ctx context.Context, r routes.GetHookSecretRequestObject) (routes.GetHookSecretResponseObject, error) {
	if _, _, err := s.hook(ctx, r.Name, r.Hook); err != nil {
		return nil, err
	}
	secret, err := s.Store.HookSecret(ctx, r.Name, r.Hook)
	if err != nil {
		return nil, about("secret of the hook", r.Name+"/"+r.Hook, err)
	}
	return routes.GetHookSecret200JSONResponse{Secret: secret}, s.noteSecret(ctx, r.Name, r.Hook, "read")
}

// SetHookSecret has messages signed with another secret.
func (s *Server) SetHookSecret(ctx context.Context, r routes.SetHookSecretRequestObject) (routes.SetHookSecretResponseObject, error) {
	_, h, err := s.hook(ctx, r.Name, r.Hook)
	if err != nil {
		return nil, err
	}
	secret := cmp.Or(some(r.Body.Secret, ""), notice.NewSecret())
	if err := notice.CheckSecret(secret); err != nil {
		return nil, invalid("/secret", "%s", err)
	}
	if h.Send == "" {
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The hook %s sends nothing, so it needs no secret.", r.Hook)}
	}
	err = s.Store.Change(ctx, s.now(), actor(ctx), func(tx *store.Tx) error { return tx.SetHookSecret(ctx, r.Name, r.Hook, secret) })
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	return routes.SetHookSecret200JSONResponse{Secret: secret}, s.noteSecret(ctx, r.Name, r.Hook, "another")
}

func (s *Server) noteSecret(ctx context.Context, group, hook, what string) error {
	text := fmt.Sprintf("The secret of the hook %s was read.", hook)
	if what == "another" {
		text = fmt.Sprintf("The hook %s signs with another secret.", hook)
	}
	return s.Store.Record(context.WithoutCancel(ctx), s.now(), actor(ctx), group, fleet.Entry{Kind: "hook.secret-" + what, Text: text, Cause: fleet.Asked("")})
}

// TryHook shows what a hook would bring.
func (s *Server) TryHook(ctx context.Context, r routes.TryHookRequestObject) (routes.TryHookResponseObject, error) {
	g, h, err := s.hook(ctx, r.Name, r.Hook)
	if err != nil {
		return nil, err
	}
	in := store.Instance{Instance: fleet.Instance{ID: r.Name + "-sample", Version: g.Template, Zone: g.Zones[0]}, Address: "127.0.0.1"}
	id := some(r.Body.Instance, "")
	switch {
	case id != "":
		if in, err = s.Store.Instance(ctx, id); err == nil && in.Group != r.Name {
			err = store.ErrNotFound
		}
		if err != nil {
			return nil, about("instance of the group "+r.Name, id, err)
		}
	case h.Send == "" && len(h.Run) > 0:
		return nil, invalid("/instance", "the hook runs a command; say in which instance to try it, with --instance")
	case h.Send == "":
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The hook %s names nobody to tell: it neither sends nor runs anything.", r.Hook)}
	}
	d, answer := s.Control.TryHook(ctx, g, h, in)
	out := contract.HookTried{Kind: contract.HookTriedKind(d.Kind), Status: d.Status, TookMs: round2(d.Took.Seconds() * 1000), Response: d.CameBack, Delivered: d.Heard}
	if answer != "" {
		choice := contract.TicketChoice(answer)
		out.Answer = &choice
	}
	return routes.TryHook200JSONResponse(out), nil
}

// ListDeliveries lists what was sent or run.
func (s *Server) ListDeliveries(ctx context.Context, r routes.ListDeliveriesRequestObject) (routes.ListDeliveriesResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	if _, err := s.Store.Group(ctx, r.Name); err != nil {
		return nil, about("group", r.Name, err)
	}
	all, err := s.Store.Deliveries(ctx, r.Name, some(r.Params.Hook, ""), some(r.Params.Instance, ""), p)
	if err != nil {
		return nil, err
	}
	all, next := cut(all, p, func(d store.Delivery) store.Cursor { return store.Cursor{fmt.Sprint(d.Number)} })
	return routes.ListDeliveries200JSONResponse{Next: next, Items: each(all, fromDelivery)}, nil
}

func fromDelivery(d store.Delivery) contract.Delivery {
	return contract.Delivery{Number: d.Number, Instance: d.Instance, Launch: d.Launch, Hook: d.Hook, Kind: contract.DeliveryKind(d.Kind), At: d.At,
		TookMs: round2(d.Took.Seconds() * 1000), Status: d.Status, Delivered: d.Heard, Response: d.CameBack, SentBy: d.SentBy}
}

func fromHook(h fleet.Hook, usual fleet.Usual) contract.Hook {
	return contract.Hook{Name: h.Name, At: contract.HookPoint(h.At), DeadlineSeconds: secondsOf(h.Deadline), MaxDeadlineSeconds: secondsOf(h.MaxDeadline), Otherwise: contract.TicketChoice(h.Otherwise),
		Send: h.Send, Run: append([]string{}, h.Run...), UsualSeconds: known(usual.Median), SlowSeconds: known(usual.Slow)}
}

// ListTickets lists those that are open, or all.
func (s *Server) ListTickets(ctx context.Context, r routes.ListTicketsRequestObject) (routes.ListTicketsResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	all := given(r.Params.All)
	ins, err := s.Store.Ticketed(ctx, some(r.Params.Group, ""), all, p)
	if err != nil {
		return nil, err
	}
	ins, next := cut(ins, p, func(i store.Instance) store.Cursor { return versionKey(i.Group, i.Serial) })
	out := routes.ListTickets200JSONResponse{Next: next, Items: []contract.Ticket{}}
	for _, in := range ins {
		for _, t := range s.tickets(in) {
			if all || t.State == contract.TicketStateOpen {
				out.Items = append(out.Items, t)
			}
		}
	}
	return out, nil
}

// tickets are those of an instance, with how long each hook usually holds.
func (s *Server) tickets(in store.Instance) []contract.Ticket {
	if len(in.Tickets) == 0 {
		return []contract.Ticket{}
	}
	usual, now := s.Control.Holds(in.Group), s.now()
	return each(in.Tickets, func(t fleet.Ticket) contract.Ticket { return fromTicket(now, in, t, usual[t.Hook]) })
}

func fromTicket(now time.Time, in store.Instance, t fleet.Ticket, usual fleet.Usual) contract.Ticket {
	held := now.Sub(t.Opened)
	if t.State != fleet.TicketOpen {
		held = t.Closed.Sub(t.Opened)
	}
	return contract.Ticket{Group: in.Group, Instance: in.ID, Launch: t.Launch, Hook: t.Hook, At: contract.HookPoint(t.At), State: contract.TicketState(t.State),
		OpenedAt: t.Opened, DeadlineAt: t.Deadline, MaxDeadlineAt: t.Bound, ClosedAt: optional(t.Closed), HeldSeconds: known(held),
		UsualSeconds: known(usual.Median), SlowSeconds: known(usual.Slow), Counts: contract.TicketChoice(t.Counts), Note: t.Note, By: t.By, Sentence: say.Ticket(now, t, usual)}
}

// AnswerTicket answers a ticket.
func (s *Server) AnswerTicket(ctx context.Context, r routes.AnswerTicketRequestObject) (routes.AnswerTicketResponseObject, error) {
	err := s.Control.AnswerTicket(ctx, actor(ctx), r.Id, r.Hook, given(r.Body.Launch), fleet.Answer(r.Body.Answer), given(r.Body.Note))
	if err != nil {
		return nil, about("instance", r.Id, err)
	}
	out, err := s.ticket(ctx, r.Id, r.Hook)
	return routes.AnswerTicket200JSONResponse(out), err
}

// ExtendTicket moves a deadline.
func (s *Server) ExtendTicket(ctx context.Context, r routes.ExtendTicketRequestObject) (routes.ExtendTicketResponseObject, error) {
	now := s.now()
	err := s.Store.ChangeInstance(ctx, now, actor(ctx), r.Id, store.AnyRevision, func(g fleet.Group, in fleet.Instance, _ bool) (fleet.Instance, fleet.Entry, error) {
		return g.ExtendTicket(now, in, r.Hook, durationOf(&r.Body.BySeconds, 0), given(r.Body.Note))
	})
	if err != nil {
		return nil, inSeconds(about("instance", r.Id, err))
	}
	out, err := s.ticket(ctx, r.Id, r.Hook)
	return routes.ExtendTicket200JSONResponse(out), err
}

func (s *Server) ticket(ctx context.Context, instance, hook string) (contract.Ticket, error) {
	in, err := s.Store.Instance(ctx, instance)
	if err != nil {
		return contract.Ticket{}, about("instance", instance, err)
	}
	t := in.Ticket(hook)
	if t == nil {
		return contract.Ticket{}, notFound("ticket", instance+"/"+hook)
	}
	return fromTicket(s.now(), in, *t, s.Control.Holds(in.Group)[hook]), nil
}

// SendTicket tells whoever the hook names once more.
func (s *Server) SendTicket(ctx context.Context, r routes.SendTicketRequestObject) (routes.SendTicketResponseObject, error) {
	if err := s.Control.SendTicket(ctx, actor(ctx), r.Id, r.Hook); err != nil {
		return nil, about("ticket", r.Id+"/"+r.Hook, err)
	}
	in, err := s.Store.Instance(ctx, r.Id)
	if err != nil {
		return nil, about("instance", r.Id, err)
	}
	all, err := s.Store.Deliveries(ctx, in.Group, r.Hook, r.Id, store.Page{Limit: 20})
	return routes.SendTicket200JSONResponse{Items: each(all, fromDelivery)}, err
}
