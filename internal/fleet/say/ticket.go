package say

import (
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
)

// Ticket tells of one ticket: for how long it has held its instance and what happens next,
// or how it ended.
func Ticket(now time.Time, t fleet.Ticket, usual fleet.Usual) string {
	if t.State == fleet.TicketOpen {
		text := "held for " + words.Span(now.Sub(t.Opened)) + usually(usual)
		if left := t.Deadline.Sub(now); left > 0 {
			return fmt.Sprintf("%s; %s left to answer, then %s counts", text, words.Span(left), t.Counts)
		}
		return fmt.Sprintf("%s; its time is over, and %s counts", text, t.Counts)
	}
	held := words.Span(t.Closed.Sub(t.Opened))
	switch {
	case t.Dropped:
		return fmt.Sprintf("not answered in %s: %s", held, t.Note)
	case t.State == fleet.TicketExpired:
		return fmt.Sprintf("nobody answered in %s, so %s counts", held, t.Counts)
	}
	text := fmt.Sprintf("%s after %s", t.State, held)
	if t.By != "" {
		text += " by " + t.By
	}
	return reason(text, t.Note)
}

func usually(u fleet.Usual) string {
	if u.Median == 0 {
		return ""
	}
	return fmt.Sprintf(", usually %s (95 %% within %s)", words.Span(u.Median), words.Span(u.Slow))
}
