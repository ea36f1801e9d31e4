package rehearse

import (
	"fmt"
	"time"

	"unitas/internal/fleet"
)

// Answering is how somebody answers a ticket; After is negative when he never does.
type Answering struct {
	After time.Duration
	Fails bool
}

// askAbout has the tickets that a decision opened answered.
func (w *World) askAbout(in *fleet.Instance) {
	if w.Answers == nil {
		return
	}
	for _, t := range in.Tickets {
		key := fmt.Sprintf("%s/%d/%s", in.ID, in.Launch, t.Hook)
		if t.State != fleet.TicketOpen || w.asked[key] {
			continue
		}
		w.asked[key] = true
		a := w.Answers(*in, t)
		if a.After < 0 {
			continue
		}
		id, launch, hook, answer := in.ID, in.Launch, t.Hook, fleet.Pass
		if a.Fails {
			answer = fleet.Fail
		}
		w.In(a.After, func() { _ = w.AnswerTicket(id, launch, hook, answer, "") })
	}
}

// AnswerTicket has somebody answer a ticket, when that may be.
func (w *World) AnswerTicket(id string, launch int, hook string, a fleet.Answer, note string) error {
	in := w.Instance(id)
	if in == nil {
		return fmt.Errorf("%s is gone", id)
	}
	next, e, changed, err := w.View.Group.AnswerTicket(w.Clock(), *in, hook, launch, a, note, "")
	if err == nil && changed {
		w.edit(id, func(in *fleet.Instance) { *in = next })
		w.note(e)
	}
	return err
}

// ExtendTicket has somebody move a deadline, when that may be.
func (w *World) ExtendTicket(id, hook string, by time.Duration) error {
	in := w.Instance(id)
	if in == nil {
		return fmt.Errorf("%s is gone", id)
	}
	next, e, err := w.View.Group.ExtendTicket(w.Clock(), *in, hook, by, "")
	if err == nil {
		w.edit(id, func(in *fleet.Instance) { *in = next })
		w.note(e)
	}
	return err
}
