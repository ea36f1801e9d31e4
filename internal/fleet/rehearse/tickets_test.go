package rehearse

import (
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet"
)

// hooks gives a group some.
func (p *plan) hooks(g *fleet.Group) {
	for k := range 1 + p.r.IntN(3) {
		h := fleet.Hook{
			Name: fmt.Sprintf("hook-%d", k), At: []fleet.HookPoint{fleet.AtLaunch, fleet.AtRetire}[p.r.IntN(2)],
			Deadline: 4*time.Second + p.upTo(8*time.Second), MaxDeadline: 20 * time.Second, Otherwise: []fleet.Answer{fleet.Pass, fleet.Fail}[p.r.IntN(2)],
		}
		p.holds += h.MaxDeadline
		g.Hooks = append(g.Hooks, h)
	}
	g.HooksAtOnce = p.r.IntN(2) == 0
	p.worst += p.holds
}

// answer draws how a ticket is answered, and keeps when that was to be.
func (p *plan) answer(in fleet.Instance, t fleet.Ticket) Answering {
	a := Answering{After: p.upTo(3 * time.Second)}
	if !p.calm {
		switch p.r.IntN(10) {
		case 0:
			a.After = -1
		case 1:
			a.Fails = true
		case 2:
			a.After += 10 * time.Second // too late
		}
	}
	k := p.k.asked[in.ID]
	if k == nil || k.launch != in.Launch {
		k = &asked{launch: in.Launch, of: map[string]Answering{}, at: map[string]time.Time{}, over: map[string]time.Time{}}
		p.k.asked[in.ID] = k
	}
	k.set = k.set || (len(k.of) > 0 && k.skew != p.w.Skew)
	k.skew = p.w.Skew
	k.of[t.Hook], k.at[t.Hook], k.over[t.Hook] = a, p.w.Now, t.Deadline
	return a
}

// meddle has a person do something about a ticket.
func (p *plan) meddle() {
	in := p.w.Instance(p.any())
	if in == nil {
		return
	}
	for _, t := range in.Tickets {
		if t.State != fleet.TicketOpen {
			continue
		}
		if p.r.IntN(2) == 0 {
			if by := p.upTo(20 * time.Second); p.w.ExtendTicket(in.ID, t.Hook, by) == nil {
				p.k.asked[in.ID].over[t.Hook] = t.Deadline.Add(by)
			}
			continue
		}
		if p.w.AnswerTicket(in.ID, 0, t.Hook, fleet.Pass, "") == nil {
			p.k.asked[in.ID].of[t.Hook], p.k.asked[in.ID].at[t.Hook] = Answering{}, p.w.Now
		}
	}
}

// asked is what somebody was asked about one launch of an instance: how each hook is to be
// answered, since when it holds, and when its time is over.
type asked struct {
	launch   int
	skew     time.Duration // of the clock, when it was last asked
	set      bool          // the clock was, between two questions
	of       map[string]Answering
	at, over map[string]time.Time
}

// begunAnew gives what was open when the service went away its time again: only watched time counts.
func (k *watch) begunAnew() {
	w := k.p.w
	if w.watched.Equal(k.anew) {
		return
	}
	k.anew = w.watched
	for _, was := range k.asked {
		for _, h := range w.View.Group.Hooks {
			over, some := was.over[h.Name]
			if again := w.watched.Add(was.skew).Add(min(fleet.AnswerAgain, h.Deadline)); some && w.watched.After(was.at[h.Name]) && over.After(w.left.Add(was.skew)) && again.After(over) {
				was.over[h.Name] = again
			}
		}
	}
}

// said reports whether a hook was answered by now, or its time is over, and with what.
func (k *watch) said(in *fleet.Instance, h fleet.Hook) (a fleet.Answer, yes bool) {
	was := k.asked[in.ID]
	if was == nil || was.launch != in.Launch {
		return "", false
	}
	how, held := was.of[h.Name]
	if !held {
		return "", false
	}
	k.begunAnew()
	answered, over := was.at[h.Name].Add(how.After), was.over[h.Name]
	switch inTime := how.After >= 0 && (answered.Add(was.skew).Before(over) || k.frozenAt(answered, over.Add(-was.skew))); {
	case was.set || was.skew != k.p.w.Skew: // the clock was set meanwhile: which came first cannot be told
		return fleet.Pass, true
	case !inTime:
		return h.Otherwise, !k.p.w.Clock().Before(over)
	case how.Fails:
		return fleet.Fail, !k.p.w.Now.Before(answered)
	}
	return fleet.Pass, !k.p.w.Now.Before(answered)
}

// frozenAt reports whether the group was frozen at a time, and before a deadline: then that does not run out.
func (k *watch) frozenAt(at, deadline time.Time) bool {
	w := k.p.w
	if w.View.Group.Frozen != "" && !at.Before(w.froze) && deadline.After(w.froze) {
		return true
	}
	return slices.ContainsFunc(w.freezes, func(f [2]time.Time) bool { return !at.Before(f[0]) && !at.After(f[1]) && deadline.After(f[0]) })
}

// acted looks at what is done for an instance.
func (k *watch) acted(do fleet.Act, in *fleet.Instance, m *Machine) {
	k.invariant5(do, in, m)
	if m == nil || m.Gone || !m.Running || m.Launch != in.Launch {
		return
	}
	for _, h := range k.p.w.View.Group.Hooks {
		a, yes := k.said(in, h)
		switch {
		case do == fleet.Open && h.At == fleet.AtLaunch && (!yes || a == fleet.Fail):
			k.fail("5: %s gets requests, and its launch hook %s said %q", in.ID, h.Name, a)
		case do == fleet.Stop && h.At == fleet.AtRetire && !yes && !couldNotWait(in):
			k.fail("5: the machine of %s is stopped, and nobody answered its retire hook %s", in.ID, h.Name)
		}
	}
}

// couldNotWait reports whether an instance was sent away before it was heard that its
// machine runs, or since its picture never ended.
func couldNotWait(in *fleet.Instance) bool {
	return in.Up.IsZero() || in.Cause.Code == fleet.CodeRestedOver
}

// heldAtOnce expects no more tickets open than may be.
func (k *watch) heldAtOnce() {
	k.begunAnew()
	g := k.p.w.View.Group
	for _, in := range k.p.w.View.Instances {
		open := func(t fleet.Ticket) bool { return t.State == fleet.TicketOpen }
		first := slices.IndexFunc(in.Tickets, open)
		if first >= 0 && !g.HooksAtOnce && slices.ContainsFunc(in.Tickets[first+1:], open) {
			k.fail("two hooks hold %s at once", in.ID)
		}
		if first >= 0 && in.State != fleet.HeldIn && in.State != fleet.HeldOut && in.State != fleet.Leaving && in.State != fleet.Lost {
			k.fail("%s is %s with an open ticket", in.ID, in.State)
		}
	}
}
