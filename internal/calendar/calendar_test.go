package calendar

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	m, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// TestSummerTime: what is daily comes once a day on the day on which the clock skips the time
// and on that on which it shows it twice, whichever way it is written.
func TestSummerTime(t *testing.T) {
	for _, when := range []string{"FREQ=DAILY;BYHOUR=2;BYMINUTE=30", "30 2 * * *", "DTSTART:20250101T023000\nRRULE:FREQ=DAILY"} {
		c, err := Parse(when, "Europe/Paris")
		if err != nil {
			t.Fatal(err)
		}
		for from, want := range map[string][]string{
			// Spring: 02:00 is 03:00, and there is no 02:30.
			"2026-03-28T00:00:00Z": {"2026-03-28T02:30:00+01:00", "2026-03-29T03:30:00+02:00", "2026-03-30T02:30:00+02:00"},
			// Autumn: 03:00 is 02:00 again, and there are two 02:30.
			"2026-10-24T00:00:00Z": {"2026-10-24T02:30:00+02:00", "2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"},
		} {
			got := c.Next(at(t, from), 3)
			for k, w := range want {
				if len(got) < 3 || !got[k].Equal(at(t, w)) {
					t.Fatalf("%s from %s: %v, and should be %v", when, from, got, want)
				}
				if last := c.Until(got[k]); !last.Equal(got[k]) {
					t.Errorf("%s: the last until %s is %s", when, got[k], last)
				}
				if last := c.Until(got[k].Add(12 * time.Hour)); !last.Equal(got[k]) {
					t.Errorf("%s: the last until twelve hours after %s is %s", when, got[k], last)
				}
			}
		}
	}
}

func TestTimesAreFound(t *testing.T) {
	for _, c := range []struct{ when, in, now, last, next string }{
		{"30 7 * * 1-5", "Europe/Paris", "2026-11-28T12:00:00Z", "2026-11-27T06:30:00Z", "2026-11-30T06:30:00Z"},
		{"FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=7;BYMINUTE=30", "Europe/Paris", "2026-11-28T12:00:00Z", "2026-11-27T06:30:00Z", "2026-11-30T06:30:00Z"},
		{"2026-12-24 18:00", "Europe/Paris", "2026-11-28T12:00:00Z", "", "2026-12-24T17:00:00Z"},
		{"2026-12-24T18:00:00Z", "Europe/Paris", "2026-12-25T12:00:00Z", "2026-12-24T18:00:00Z", ""},
		{"0 0 29 2 *", "UTC", "2026-11-28T12:00:00Z", "2024-02-29T00:00:00Z", "2028-02-29T00:00:00Z"},
		{"FREQ=WEEKLY;INTERVAL=2;BYDAY=MO;BYHOUR=9", "UTC", "2026-11-28T12:00:00Z", "2026-11-16T09:00:00Z", "2026-11-30T09:00:00Z"},
		{"DTSTART:20261101T080000 RRULE:FREQ=DAILY;COUNT=3", "UTC", "2026-11-28T12:00:00Z", "2026-11-03T08:00:00Z", ""},
		{"DTSTART:20261127T080000 RRULE:FREQ=DAILY EXDATE:20261129T080000", "UTC", "2026-11-28T12:00:00Z", "2026-11-28T08:00:00Z", "2026-11-30T08:00:00Z"},
		{"0 12 * * *", "Pacific/Apia", "2026-11-28T00:00:00Z", "2026-11-27T23:00:00Z", "2026-11-28T23:00:00Z"},
		{"*/15 * * * *", "Asia/Kathmandu", "2026-11-28T00:01:00Z", "2026-11-28T00:00:00Z", "2026-11-28T00:15:00Z"},
	} {
		cal, err := Parse(c.when, c.in)
		if err != nil {
			t.Errorf("%s: %v", c.when, err)
			continue
		}
		times := cal.Times(at(t, c.now))
		for what, pair := range map[string][2]string{"last": {show(times.Last), c.last}, "next": {show(times.Next), c.next}} {
			if pair[0] != pair[1] {
				t.Errorf("%s in %s at %s: %s is %q, and should be %q", c.when, c.in, c.now, what, pair[0], pair[1])
			}
		}
	}
}

func show(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.Format(time.RFC3339)
}

func TestWhatIsNoTime(t *testing.T) {
	for when, says := range map[string]string{
		"":                             "is no time; give a recurrence",
		"tomorrow":                     "is no time",
		"60 7 * * *":                   "is no time",
		"@every 1s":                    "is no time",
		"TZ=Asia/Tokyo 0 7 * * *":      "is no time",
		"FREQ=SECONDLY":                "comes too often",
		"FREQ=MINUTELY":                "comes too often",
		"FREQ=NEVER":                   "is no recurrence: \"NEVER\" is no frequency; write YEARLY",
		"FREQ=DAILY;BYHOUR=99":         "is no recurrence: a number in it is out of its range",
		"FREQ=DAILY;BYHOUR=seven":      "is no recurrence: \"seven\" is no number",
		"FREQ=WEEKLY;BYDAY=XX":         "is no recurrence: \"XX\" is no day; write MO",
		"FREQ=DAILY;UNTIL=2026":        "is no recurrence: \"2026\" is no time; write one such as 20261224T180000",
		"FREQ=DAILY;TIDE=high":         "is no recurrence: a recurrence has no \"TIDE\"",
		"0 0 30 2 *":                   "never comes",
		strings.Repeat("FREQ=X ", 900): "bytes; give at most 4096",
	} {
		if _, err := Parse(when, "UTC"); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.40q: %v, and should say %q", when, err, says)
		}
	}
	for _, in := range []string{"", "Local", "Europe/Saltmere", "../../etc/passwd"} {
		if _, err := Parse("0 7 * * *", in); err == nil || !strings.Contains(err.Error(), "is no time zone that is known here") {
			t.Errorf("the place %q: %v", in, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, when := range []string{"30 7 * * 1-5", "FREQ=WEEKLY;BYDAY=MO;BYHOUR=7", "2026-12-24 18:00", "DTSTART:20261127T080000 RRULE:FREQ=DAILY EXDATE:20261129T080000"} {
		f.Add(when)
	}
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, when string) {
		watch := time.AfterFunc(3*time.Second, func() { panic(fmt.Sprintf("%q takes for ever", when)) })
		defer watch.Stop()
		c, err := Parse(when, "Europe/Paris")
		if err != nil {
			return
		}
		if times := c.Times(now); times.Last.After(now) || (!times.Next.IsZero() && !times.Next.After(now)) {
			t.Fatalf("%q at %s: %+v", when, now, times)
		}
	})
}
