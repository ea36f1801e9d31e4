package say_test

import (
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
)

func TestTickets(t *testing.T) {
	usual := fleet.Usual{Median: 11 * time.Second, Slow: 20 * time.Second}
	t0 := fleet.Ticket{Hook: "warm-cache", State: fleet.TicketOpen, Opened: noon, Deadline: noon.Add(time.Minute), Counts: fleet.Fail}
	ended := func(state fleet.TicketState, change func(*fleet.Ticket)) fleet.Ticket {
		one := t0
		one.State, one.Closed = state, noon.Add(3*time.Second)
		change(&one)
		return one
	}
	for want, one := range map[string]fleet.Ticket{
		"held for 14 s, usually 11 s (95 % within 20 s); 46 s left to answer, then fail counts": t0,
		"passed after 3 s by ada: looked at it":                                                 ended(fleet.TicketPassed, func(t *fleet.Ticket) { t.By, t.Note = "ada", "looked at it" }),
		"failed after 3 s":                                                                      ended(fleet.TicketFailed, func(*fleet.Ticket) {}),
		"nobody answered in 3 s, so fail counts":                                                ended(fleet.TicketExpired, func(*fleet.Ticket) {}),
		"not answered in 3 s: the hook was taken away": ended(fleet.TicketExpired, func(t *fleet.Ticket) {
			t.Dropped, t.Note = true, "the hook was taken away"
		}),
	} {
		if got := say.Ticket(noon.Add(14*time.Second), one, usual); got != want {
			t.Errorf("got  %s\nwant %s", got, want)
		}
	}
	if got := say.Ticket(noon.Add(2*time.Minute), t0, fleet.Usual{}); got != "held for 2 m; its time is over, and fail counts" {
		t.Errorf("got %s", got)
	}
}

// TestTicketLines are those of the journal.
func TestTicketLines(t *testing.T) {
	of := func(kind, was string, cause fleet.Cause, numbers ...fleet.Number) string {
		return say.Line("timetable", fleet.Entry{Kind: "ticket." + kind, Instance: "timetable-003", Was: was, Cause: cause, Numbers: numbers})
	}
	hook := fleet.Cause{About: "warm-cache"}
	for got, want := range map[string]string{
		of("opened", "fail", hook, number("deadline_seconds", 120)):                                 "The hook warm-cache holds timetable-003; the deadline is in 2 m.",
		of("passed", "pass", hook, number("held_seconds", 3)):                                       "The hook warm-cache is answered for timetable-003 after 3 s: pass.",
		of("expired", "fail", hook, number("held_seconds", 120)):                                    "Nobody answered the hook warm-cache for timetable-003 after 2 m, so fail counts.",
		of("expired", "fail", fleet.Cause{Code: fleet.CodeDropped, About: "warm-cache"}):            "The hook warm-cache holds timetable-003 no more.",
		of("extended", "", hook, number("by_seconds", 60), number("deadline_seconds", 90)):          "The hook warm-cache may hold timetable-003 for 1 m more, so until 1 m 30 s from now.",
		of("skipped", "", fleet.Cause{Code: fleet.CodeSkipped, About: "save-logs, leave-register"}): "timetable-003 went past the retire hooks: save-logs, leave-register.",
	} {
		if got != want {
			t.Errorf("got  %s\nwant %s", got, want)
		}
	}
}
