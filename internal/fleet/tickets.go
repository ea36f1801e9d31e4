package fleet

import (
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/words"
)

// TicketState is what became of a ticket.
type TicketState string

// The states of a ticket. One that expired was not answered in time, or not before its
// instance went another way.
const (
	TicketOpen    TicketState = "open"
	TicketPassed  TicketState = "passed"
	TicketFailed  TicketState = "failed"
	TicketExpired TicketState = "expired"
)

// Ticket is one hold of one instance at one hook.
type Ticket struct {
	Hook     string      `json:"hook"`
	At       HookPoint   `json:"at"`
	Launch   int         `json:"launch"` // of the instance
	State    TicketState `json:"state"`
	Opened   time.Time   `json:"opened"`
	Deadline time.Time   `json:"deadline"`
	Bound    time.Time   `json:"bound"`   // to which the deadline can be moved
	Closed   time.Time   `json:"closed"`  // zero while it is open
	Counts   Answer      `json:"counts"`  // what counts: the answer, or otherwise when nobody answers
	Note     string      `json:"note"`    // of the answer, or why it was closed without
	By       string      `json:"by"`      // who answered
	Dropped  bool        `json:"dropped"` // its instance went another way, or its hook was taken away
}

// Answered reports whether somebody answered it.
func (t *Ticket) Answered() bool { return t.State == TicketPassed || t.State == TicketFailed }

// maxNote is how long the note of an answer may be, in bytes.
const maxNote = 500

// Ticket is the ticket of the hook in the present launch, nil when there is none.
func (i *Instance) Ticket(hook string) *Ticket {
	for k := range i.Tickets {
		if i.Tickets[k].Hook == hook {
			return &i.Tickets[k]
		}
	}
	return nil
}

// closed is the ticket after its end.
func (t Ticket) closed(now time.Time, to TicketState, note, by string) Ticket {
	t.State, t.Closed, t.Note, t.By = to, now, words.Plain(note, maxNote), by
	return t
}

// put is the instance with one of its tickets as it is now.
func (i *Instance) put(t Ticket) {
	i.Tickets = slices.Clone(i.Tickets)
	if old := i.Ticket(t.Hook); old != nil {
		*old = t
		return
	}
	i.Tickets = append(i.Tickets, t)
}

func (i *Instance) ticketEntry(t Ticket) Entry {
	code := map[TicketState]Code{TicketOpen: CodeHookHolds, TicketPassed: CodeAnswered, TicketFailed: CodeAnswered, TicketExpired: CodeUnanswered}[t.State]
	kind, cause := string(t.State), Cause{Code: code, About: t.Hook, Words: t.Note}
	numbers := Numbers{span("held_seconds", t.Closed.Sub(t.Opened))}
	switch {
	case t.State == TicketOpen:
		kind, numbers = "opened", Numbers{span("deadline_seconds", t.Deadline.Sub(t.Opened))}
	case t.Dropped:
		cause.Code = CodeDropped
	}
	return Entry{Kind: "ticket." + kind, Instance: i.ID, Version: i.Version, Zone: i.Zone, Was: string(t.Counts), Cause: cause, Numbers: numbers}
}

// AnswerTicket returns the instance with the ticket of the hook answered, and whether
// anything changed: the same answer again changes nothing. A launch of 0 is the present
// one. An answer after the deadline, which does not run out in a frozen group, or another than the one that was given, is refused.
func (g *Group) AnswerTicket(now time.Time, in Instance, hook string, launch int, a Answer, note, by string) (Instance, Entry, bool, error) {
	t, err := in.ticketFor(hook, launch)
	if err != nil {
		return in, Entry{}, false, err
	}
	to := TicketPassed
	if a == Fail {
		to = TicketFailed
	}
	switch {
	case a != Pass && a != Fail:
		return in, Entry{}, false, refuse("answer", "the answer is %q; give pass or fail", a)
	case t.State == to:
		return in, Entry{}, false, nil
	case t.State != TicketOpen:
		return in, Entry{}, false, refuse("", "the ticket %s/%s %s at %s%s; no other answer counts", in.ID, hook, t.ended(), words.Moment(t.Closed), givenBy(t))
	case !now.Before(t.Deadline) && g.Frozen == "":
		return in, Entry{}, false, refuse("", "the deadline of the ticket %s/%s was at %s, %s ago, and %s counts", in.ID, hook, words.Moment(t.Deadline), words.Span(now.Sub(t.Deadline)), t.Counts)
	}
	next := t.closed(now, to, note, by)
	next.Counts = a
	in.put(next)
	return in, in.ticketEntry(next), true, nil
}

func givenBy(t *Ticket) string {
	if t.By == "" {
		return ""
	}
	return " by " + t.By
}

func (t *Ticket) ended() string {
	switch {
	case t.Dropped:
		return "was dropped"
	case t.State == TicketExpired:
		return "expired"
	}
	return string(t.State)
}

// ExtendTicket returns the instance with the deadline of a ticket moved by so much.
func (g *Group) ExtendTicket(now time.Time, in Instance, hook string, by time.Duration, note string) (Instance, Entry, error) {
	t, err := in.ticketFor(hook, 0)
	if err != nil {
		return in, Entry{}, err
	}
	over := !now.Before(t.Deadline)
	if t.State != TicketOpen || (over && g.Frozen == "") {
		return in, Entry{}, refuse("", "the ticket %s/%s is not open any more; its deadline was at %s", in.ID, hook, words.Moment(t.Deadline))
	}
	was := *t
	if h := g.Hook(hook); over && h != nil { // it did not run out, since the group is frozen
		was.Deadline, was.Bound = now, later(was.Bound, now.Add(h.Deadline))
	}
	next := was
	next.Deadline = was.Deadline.Add(by)
	if !was.Deadline.Before(was.Bound) {
		return in, Entry{}, refuse("by", "the deadline is at the hook's max-deadline already, %s; answer the ticket, or give the hook a longer one for those to come", words.Moment(was.Bound))
	}
	if by <= 0 || next.Deadline.After(was.Bound) {
		return in, Entry{}, refuse("by", "the deadline can be moved by up to %s, to %s, by the hook's max-deadline", words.Span(was.Bound.Sub(was.Deadline)), words.Moment(was.Bound))
	}
	in.put(next)
	e := in.ticketEntry(next)
	e.Kind, e.Cause, e.Numbers = "ticket.extended", Cause{Code: CodeAsked, About: hook, Words: words.Plain(note, maxNote)}, Numbers{span("by_seconds", by), span("deadline_seconds", next.Deadline.Sub(now))}
	return in, e, nil
}

func (i *Instance) ticketFor(hook string, launch int) (*Ticket, error) {
	t := i.Ticket(hook)
	switch {
	case t == nil:
		return nil, refuse("", "%s has no ticket of a hook %s", i.ID, hook)
	case launch != 0 && launch != t.Launch:
		return nil, refuse("", "the ticket %s/%s is one of launch %d of its instance, and launch %d is answered", i.ID, hook, t.Launch, launch)
	}
	return t, nil
}

// point is the hook point that a state is at, "" for none.
func (s State) point() HookPoint {
	switch s {
	case HeldIn:
		return AtLaunch
	case HeldOut:
		return AtRetire
	}
	return ""
}

// observeHeld opens the tickets of an instance at its hooks one after another or at once,
// closes those that nobody answered, and lets it go on when all have passed.
func (d *deciding) observeHeld(i int) {
	at := d.at(i).State.point()
	if d.at(i).Machine.State == MachineStopped {
		d.endedHeld(i)
		return
	}
	d.expireTickets(i)
	if d.at(i).State == HeldIn {
		if t := d.at(i).failedTicket(at); t != nil {
			d.failLaunch(i, *t)
			return
		}
	}
	if d.openTickets(i, at) {
		return
	}
	held := span("held_seconds", d.now.Sub(d.at(i).Since))
	if at == AtLaunch {
		d.move(i, Settling, Cause{Code: CodeHooksPassed}, held)
		d.observeSettling(i)
		return
	}
	cause := Cause{Code: CodeHooksPassed}
	if t := d.at(i).failedTicket(at); t != nil {
		cause = hookFailed(t)
	}
	d.move(i, Leaving, cause, held)
}

// endedHeld is that the machine of a held instance ended.
func (d *deciding) endedHeld(i int) {
	if d.at(i).State == HeldIn {
		d.lose(i)
		return
	}
	d.move(i, Leaving, Cause{Code: CodeEndedHeld, Words: d.at(i).Machine.Why})
}

// hookFailed is the cause that a failed ticket is.
func hookFailed(t *Ticket) Cause {
	if t.State == TicketExpired {
		return Cause{Code: CodeHookFailed, About: t.Hook, Words: "nobody answered in time"}
	}
	return Cause{Code: CodeHookFailed, About: t.Hook, Words: t.Note}
}

// failedTicket is the first ticket at the point that failed, nil when none did.
func (i *Instance) failedTicket(at HookPoint) *Ticket {
	for k := range i.Tickets {
		if t := &i.Tickets[k]; t.At == at && t.State != TicketOpen && t.Counts == Fail && !t.Dropped {
			return t
		}
	}
	return nil
}

// failLaunch sends an instance away whose launch hook failed. Who answers for it is the
// rollout that brings its version, or else its place.
func (d *deciding) failLaunch(i int, t Ticket) {
	if d.group.Frozen != "" || d.at(i).Pinned {
		return
	}
	cause := hookFailed(&t)
	if d.at(i).Purpose == ForBalance { // nobody misses it, so its place does not wait: the zone does
		d.setBack(d.at(i))
	}
	d.stumble(i, Cause{Code: cause.Code, Words: strings.TrimSuffix(t.Hook+": "+cause.Words, ": ")})
	d.retire(i, cause)
	d.failed(i, cause)
}

// expireTickets closes the open tickets whose time is over or whose hook is none any more.
func (d *deciding) expireTickets(i int) {
	for _, t := range d.at(i).Tickets {
		switch {
		case t.State != TicketOpen:
		case d.group.Hook(t.Hook) == nil:
			d.drop(i, t, "the hook was taken away")
		case d.group.Frozen != "":
		case d.unanswerable(t):
			t.Deadline = d.answerable(t)
			t.Bound = later(t.Bound, t.Deadline)
			d.change(i, func(in *Instance) { in.put(t) })
			e := d.at(i).ticketEntry(t)
			e.Kind, e.Cause = "ticket.extended", Because("the group is looked after again, and time to answer it must be")
			d.entry(e)
			d.lookAt(t.Deadline)
		case !d.now.Before(t.Deadline):
			t = t.closed(d.now, TicketExpired, "", "")
			d.change(i, func(in *Instance) { in.put(t) })
			d.entry(d.at(i).ticketEntry(t))
		default:
			d.lookAt(t.Deadline)
		}
	}
}

// AnswerAgain is how much time there is at least to answer a ticket once its group is watched again, or
// the hook's whole deadline where that is shorter: a group that goes from one service to another gives
// nobody much more.
const AnswerAgain = 30 * time.Second

// answerable is until when an open ticket of one of the group's hooks can be answered at least.
func (d *deciding) answerable(t Ticket) time.Time {
	return d.group.Watched.Add(min(AnswerAgain, d.group.Hook(t.Hook).Deadline))
}

// unanswerable reports whether the deadline of an open ticket ran, or all but ran, while nobody could
// answer.
func (d *deciding) unanswerable(t Ticket) bool {
	return d.group.Watched.After(t.Opened) && t.Deadline.Before(d.answerable(t))
}

// drop closes a ticket that nobody need answer any more.
func (d *deciding) drop(i int, t Ticket, why string) {
	t = t.closed(d.now, TicketExpired, why, "")
	t.Dropped = true
	d.change(i, func(in *Instance) { in.put(t) })
	d.entry(d.at(i).ticketEntry(t))
}

// openTickets opens those that are next, and reports whether any is open.
func (d *deciding) openTickets(i int, at HookPoint) (open bool) {
	for k := range d.group.Hooks {
		h := &d.group.Hooks[k]
		if h.At != at {
			continue
		}
		if t := d.at(i).Ticket(h.Name); t != nil && t.At == at {
			open = open || t.State == TicketOpen
			continue
		}
		if open && !d.group.HooksAtOnce {
			return true
		}
		t := Ticket{Hook: h.Name, At: at, Launch: d.at(i).Launch, State: TicketOpen, Opened: d.now, Deadline: d.now.Add(h.Deadline), Bound: d.now.Add(h.MaxDeadline), Counts: h.Otherwise}
		d.change(i, func(in *Instance) { in.put(t) })
		d.entry(d.at(i).ticketEntry(t))
		d.lookAt(t.Deadline)
		open = true
	}
	return open
}

// dropOpen closes the tickets that an instance had where it is no more.
func (d *deciding) dropOpen(i int) {
	in := d.at(i)
	for _, t := range in.Tickets {
		if t.State == TicketOpen && t.At != in.State.point() {
			d.drop(i, t, "the instance is on its way out")
		}
	}
}

// heldAt reports whether a hook held the instance at the point; it may have been moved there since.
func (i *Instance) heldAt(hook string, at HookPoint) bool {
	t := i.Ticket(hook)
	return t != nil && t.At == at
}

// leftHooks ends what hooks had to do with an instance that goes past them.
func (d *deciding) leftHooks(i int) {
	d.dropOpen(i)
	in := d.at(i)
	if (in.State != Leaving && in.State != Lost) || in.Up.IsZero() {
		return
	}
	var past []string
	for k := range d.group.Hooks {
		if h := &d.group.Hooks[k]; h.At == AtRetire && !d.at(i).heldAt(h.Name, AtRetire) {
			past = append(past, h.Name)
		}
	}
	if len(past) > 0 {
		d.entry(Entry{Kind: "ticket.skipped", Instance: in.ID, Version: in.Version, Zone: in.Zone, Cause: Cause{Code: CodeSkipped, About: strings.Join(past, ", ")}})
	}
}
