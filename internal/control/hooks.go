package control

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/machine"
	"unitas/internal/notice"
	"unitas/internal/store"
)

// How those are told that a hook names: by a signed message, or by a command in the instance.

// Pauses between attempts to tell somebody, doubling.
const (
	firstPause = time.Second
	lastPause  = 30 * time.Second
)

// maxCameBack is how much is kept of what a command wrote, in bytes; the end of it.
const maxCameBack = 16 << 10

// ticketKey is one ticket among those of a group.
type ticketKey struct {
	instance, hook string
	launch         int
}

// errand is that somebody is to be told of an open ticket. It is over once he was, or the
// ticket is not open any more.
type errand struct {
	tries int
	busy  bool
	heard bool
	next  time.Time // on the monotonic clock
	stop  context.CancelFunc
}

// ofErrand is how an attempt to tell somebody ended.
type ofErrand struct {
	ticketKey
	heard bool
}

func (ofErrand) isFact() {}

// announce tells whoever the hooks of an instance name, as far as that is due.
func (k *keeper) announce(in *fleet.Instance, one *kept) {
	for _, t := range in.Tickets {
		h := k.group.Hook(t.Hook)
		if t.State != fleet.TicketOpen || h == nil || (h.Send == "" && len(h.Run) == 0) {
			continue
		}
		key := ticketKey{in.ID, t.Hook, t.Launch}
		e := k.errands[key]
		if e == nil {
			e = &errand{}
			k.errands[key] = e
		}
		if e.busy || e.heard || time.Now().Before(e.next) {
			continue
		}
		k.attempt(key, e, *h, t, k.record(one))
	}
}

// attempt tells somebody once, beside the keeper.
func (k *keeper) attempt(key ticketKey, e *errand, h fleet.Hook, t fleet.Ticket, in store.Instance) {
	ctx, stop := context.WithCancel(k.ctl.term.context())
	first := e.tries == 0
	e.busy, e.stop = true, stop
	e.tries++
	pause := min(firstPause<<min(e.tries-1, 10), lastPause)
	e.next = time.Now().Add(pause)
	k.ctl.acts.Go(func() {
		defer caught.Told("a hook", nil)
		defer stop()
		heard := false
		_ = caught.Do("a hook", func() {
			if first { // another service may have told him, before this one kept the group
				heard, _ = k.ctl.Store.Heard(ctx, k.name, in.ID, h.Name, t.Launch)
			}
			if !heard {
				heard = k.ctl.deliver(ctx, h, t, in, "")
			}
		})
		k.tell(ofErrand{key, heard})
		if !heard {
			time.AfterFunc(pause, caught.Func("a hook", func() { k.tell(ofTraffic{}) }))
		}
	})
}

// errandOver takes in how an attempt ended.
func (k *keeper) errandOver(f ofErrand) {
	if e := k.errands[f.ticketKey]; e != nil {
		e.busy, e.heard = false, f.heard
	}
}

// dropErrands ends those of tickets that are not open any more.
func (k *keeper) dropErrands() {
	for key, e := range k.errands {
		if one := k.kept[key.instance]; one != nil {
			if t := k.view.Instances[one.at].Ticket(key.hook); t != nil && t.Launch == key.launch && t.State == fleet.TicketOpen {
				continue
			}
		}
		if e.stop != nil {
			e.stop()
		}
		delete(k.errands, key)
	}
}

// deliver tells somebody of a ticket once, records what came of it, and answers the ticket
// when he did. It reports whether he need not be told again.
func (c *Control) deliver(ctx context.Context, h fleet.Hook, t fleet.Ticket, in store.Instance, by string) (heard bool) {
	d := store.Delivery{Group: in.Group, Instance: in.ID, Launch: t.Launch, Hook: h.Name, At: c.Clock.Now(), SentBy: by}
	var answer fleet.Answer
	note := ""
	if h.Send != "" {
		out := c.send(ctx, h, in, "unitas.ticket.opened", t)
		d.Kind, d.Took, d.Status, d.Heard, d.CameBack = "webhook", out.Took, out.Status, out.Heard, out.CameBack
		answer, note = fleet.Answer(out.Answer), out.Note
	} else {
		answer, note = c.runFor(ctx, h, t, &d)
	}
	d.Answered = answer != ""
	if err := c.Store.AddDelivery(context.WithoutCancel(ctx), d); err != nil {
		c.warn(in.Group, "what came of telling about a ticket was not recorded", err)
	}
	if answer == "" {
		return d.Heard
	}
	err := c.AnswerTicket(ctx, "hook "+h.Name, in.ID, h.Name, t.Launch, answer, note)
	var refusal *fleet.Refusal
	switch {
	case errors.As(err, &refusal): // it came too late
		return true
	case err != nil:
		c.warn(in.Group, "the answer to a ticket was not written; it is asked for again", err)
		return false
	}
	return true
}

// send sends a message about a ticket.
func (c *Control) send(ctx context.Context, h fleet.Hook, in store.Instance, kind string, t fleet.Ticket) notice.Delivery {
	secret, err := c.Store.HookSecret(ctx, in.Group, h.Name)
	if err != nil {
		return notice.Delivery{CameBack: "its secret could not be read"}
	}
	port := 0
	if template, err := c.library.template(ctx, in.Version); err == nil {
		port = template.Port
	}
	id := fmt.Sprintf("%s.%d.%s", in.ID, t.Launch, h.Name)
	return c.sender.Send(ctx, notice.Message{
		URL: h.Send, Secret: secret, ID: id, Type: kind, Source: "unitas", Subject: in.ID + "/" + h.Name, Time: t.Opened,
		Data: map[string]any{
			"group": in.Group, "instance": in.ID, "launch": t.Launch, "hook": h.Name, "at": h.At, "zone": in.Zone, "template": in.Version.String(),
			"address": in.Address, "port": port, "opened_at": t.Opened, "deadline_at": t.Deadline, "max_deadline_at": t.Bound, "bound_at": t.Bound, // as it was called before: for one release
			"otherwise":   t.Counts,
			"answer_path": fmt.Sprintf("/v1/instances/%s/tickets/%s/answer", in.ID, h.Name),
		},
	})
}

// runFor runs the command of a hook in the instance: its exit status answers.
func (c *Control) runFor(ctx context.Context, h fleet.Hook, t fleet.Ticket, d *store.Delivery) (fleet.Answer, string) {
	d.Kind, d.Status = "command", -1
	runner, can := c.Machines.(machine.Runner)
	if !can {
		d.CameBack = "the machines of this service run no commands"
		return "", ""
	}
	ctx, cancel := context.WithTimeout(ctx, t.Bound.Sub(c.Clock.Now()))
	defer cancel()
	ran, err := runner.Run(ctx, d.Instance, h.Run)
	if err != nil {
		d.CameBack = words.Plain(err.Error(), words.Outside)
		return "", ""
	}
	d.Took, d.Status, d.CameBack = ran.Took, ran.Status, words.Lines(string(ran.Output), maxCameBack)
	if ran.Why != "" && ctx.Err() != nil {
		return "", "" // it was ended from here
	}
	d.Heard = true
	if ran.Status == 0 {
		return fleet.Pass, words.LastLine(d.CameBack)
	}
	how := ran.Why
	if how == "" {
		how = fmt.Sprintf("status %d", ran.Status)
	}
	return fleet.Fail, strings.TrimSuffix(how+": "+words.LastLine(d.CameBack), ": ")
}

// errSame is that a ticket has this answer already.
var errSame = errors.New("the same")

// AnswerTicket answers the ticket of a hook in the present launch of an instance, or in the
// one that is named. The same answer again changes nothing.
func (c *Control) AnswerTicket(ctx context.Context, actor, instance, hook string, launch int, a fleet.Answer, note string) error {
	now := c.Clock.Now()
	err := c.Store.ChangeInstance(ctx, now, actor, instance, store.AnyRevision, func(g fleet.Group, in fleet.Instance, _ bool) (fleet.Instance, fleet.Entry, error) {
		next, e, changed, err := g.AnswerTicket(now, in, hook, launch, a, note, actor)
		if err == nil && !changed {
			err = errSame
		}
		return next, e, err
	})
	if errors.Is(err, errSame) {
		return nil
	}
	return err
}

// SendTicket tells whoever the hook names once more, now. It returns [store.ErrNotFound] when
// there is no such ticket, and a refusal when nobody is named.
func (c *Control) SendTicket(ctx context.Context, actor, instance, hook string) error {
	in, err := c.Store.Instance(ctx, instance)
	if err != nil {
		return err
	}
	g, err := c.Store.Group(ctx, in.Group)
	if err != nil {
		return err
	}
	h, t := g.Hook(hook), in.Ticket(hook)
	switch {
	case h == nil || t == nil:
		return store.ErrNotFound
	case h.Send == "" && len(h.Run) == 0:
		return &fleet.Refusal{Text: fmt.Sprintf("the hook %s names nobody to tell: it neither sends nor runs anything", hook)}
	case h.Send == "" && t.State != fleet.TicketOpen:
		return &fleet.Refusal{Text: fmt.Sprintf("the ticket %s/%s is %s; a command is run for an open one", instance, hook, t.State)}
	}
	c.deliver(ctx, *h, *t, in, actor)
	return nil
}

// TryHook sends a message about a ticket that there is not, or runs the command of the hook
// in an instance, and returns what came back. Nothing is recorded and nothing is answered.
func (c *Control) TryHook(ctx context.Context, group store.Group, h fleet.Hook, in store.Instance) (store.Delivery, fleet.Answer) {
	now := c.Clock.Now()
	t := fleet.Ticket{Hook: h.Name, At: h.At, Launch: max(in.Launch, 1), Opened: now, Deadline: now.Add(h.Deadline), Bound: now.Add(h.MaxDeadline), Counts: h.Otherwise}
	d := store.Delivery{Group: group.Name, Instance: in.ID, Hook: h.Name, At: now, Kind: "webhook"}
	if h.Send == "" {
		t.Bound = now.Add(tryLimit)
		answer, _ := c.runFor(ctx, h, t, &d)
		return d, answer
	}
	in.Group = group.Name
	out := c.send(ctx, h, in, "unitas.ticket.sample", t)
	d.Took, d.Status, d.Heard, d.CameBack = out.Took, out.Status, out.Heard, out.CameBack
	return d, fleet.Answer(out.Answer)
}

// tryLimit is how long a command may take that is only tried.
const tryLimit = 30 * time.Second
