package fleet

import (
	"testing"
	"time"
)

// TestHoursGoByTheClockOnTheWall, also on the days on which it is set.
func TestHoursGoByTheClockOnTheWall(t *testing.T) {
	paris, err := time.LoadLocation("Europe/Paris")
	if err != nil {
		t.Fatal(err)
	}
	at := func(text string) time.Time {
		t.Helper()
		when, err := time.Parse("2006-01-02 15:04", text)
		if err != nil {
			t.Fatal(err)
		}
		return when
	}
	for _, c := range []struct {
		hours Hours
		now   string // in UTC, as what comes next is; "" for open
		next  string
	}{
		{"22:00-05:00 Europe/Paris", "2026-05-04 21:00", ""},
		{"22:00-05:00 Europe/Paris", "2026-05-04 02:59", ""},
		{"22:00-05:00 Europe/Paris", "2026-05-04 03:00", "2026-05-04 20:00"},
		{"02:00-03:00 Europe/Paris", "2026-05-04 12:00", "2026-05-05 00:00"},
		// On 2026-03-29 the clock goes from 02:00 to 03:00, at 01:00 UTC.
		{"02:00-03:00 Europe/Paris", "2026-03-29 12:00", "2026-03-30 00:00"},
		{"02:00-03:00 Europe/Paris", "2026-03-29 00:30", "2026-03-30 00:00"},
		{"02:30-04:00 Europe/Paris", "2026-03-29 00:30", "2026-03-29 01:00"},
		{"02:30-04:00 Europe/Paris", "2026-03-29 01:59", ""},
		{"22:00-02:30 Europe/Paris", "2026-03-29 01:00", "2026-03-29 20:00"},
		// On 2026-10-25 it goes from 03:00 back to 02:00, at 01:00 UTC: 02:30 comes twice.
		{"02:30-02:45 Europe/Paris", "2026-10-25 00:00", "2026-10-25 00:30"},
		{"02:30-02:45 Europe/Paris", "2026-10-25 00:50", "2026-10-25 01:30"},
		{"02:30-02:45 Europe/Paris", "2026-10-25 01:40", ""},
		{"02:30-02:45 Europe/Paris", "2026-10-25 01:50", "2026-10-26 01:30"},
	} {
		open, next := c.hours.Opens(at(c.now), paris)
		if open != (c.next == "") || (!open && !next.Equal(at(c.next))) {
			t.Errorf("%s at %s: open %t, next %s, and should be %q", c.hours, c.now, open, next.UTC().Format("2006-01-02 15:04"), c.next)
		}
	}
}
