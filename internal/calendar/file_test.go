package calendar

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet/scaling"
)

const holidays = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Saltmere Line//Sailings//EN\r\n" +
	"BEGIN:VEVENT\r\nUID:1\r\nSUMMARY:Morning boats\r\nDTSTART;TZID=Europe/Paris:20260105T060000\r\nDTEND;TZID=Europe/Paris:20260105T093000\r\nRRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR\r\nEXDATE;TZID=Europe/Paris:20260106T060000\r\nX-UNITAS-MIN:6\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:2\r\nSUMMARY:Regatta!\r\nDTSTART;VALUE=DATE:20260704\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:3\r\nSUMMARY:Regatta!\r\nDTSTART:20260801T120000Z\r\nDURATION:PT1H30M\r\nX-UNITAS-SIZE:9\r\nX-UNITAS-MAX:12\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"

func TestFilesAreReadAndWritten(t *testing.T) {
	eight := 8
	rules, err := Read([]byte(holidays), scaling.Rule{Min: &eight})
	if err != nil {
		t.Fatal(err)
	}
	said := func(rules []scaling.Rule) (all []string) {
		for k := range rules {
			all = append(all, rules[k].Name+" "+rules[k].String())
		}
		return all
	}
	want := []string{
		"morning-boats calendar DTSTART:20260105T060000 RRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR EXDATE:20260106T060000 in Europe/Paris: min 6 for 3 h 30 m",
		"regatta calendar 2026-07-04 00:00:00 in UTC: min 8 for 24 h",
		"regatta-2 calendar 2026-08-01 12:00:00 in UTC: min 8, max 12, size 9 for 1 h 30 m",
	}
	for k, w := range want {
		if got := said(rules); len(got) != 3 || got[k] != w {
			t.Fatalf("event %d is %q, and should be %q", k+1, got, w)
		}
	}
	cron := scaling.Rule{Name: "nights", Kind: scaling.Calendar, When: "0 22 * * *", TimeZone: "Europe/Paris", Max: &eight}
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	var file bytes.Buffer
	if err := Write(&file, "timetable", append(rules, cron), now, 3); err != nil {
		t.Fatal(err)
	}
	again, err := Read(file.Bytes(), scaling.Rule{})
	if err != nil {
		t.Fatalf("%v\n%s", err, file.String())
	}
	if len(again) != 6 || again[0].String() != rules[0].String() || again[2].String() != rules[2].String() {
		t.Fatalf("what was written is read as %q\n%s", said(again), file.String())
	}
	if got := again[4].String(); got != "calendar 2026-05-02 22:00:00 in Europe/Paris: max 8 from then on" {
		t.Errorf("the second night is %q", got)
	}
}

func TestFilesThatCannotBe(t *testing.T) {
	for says, change := range map[string][2]string{
		"is no iCalendar file":      {"BEGIN:VCALENDAR", "BEGIN"},
		"no time zone":              {"DTSTART;TZID=Europe/Paris", "DTSTART;TZID=Europe/Saltmere"},
		"X-UNITAS-MIN is":           {"X-UNITAS-MIN:6", "X-UNITAS-MIN:six"},
		"it has no DTSTART":         {"DTSTART;VALUE=DATE:20260704\r\n", ""},
		"say what is set":           {"X-UNITAS-MIN:6\r\n", ""},
		"is no recurrence":          {"FREQ=WEEKLY", "FREQ=SOMETIMES"},
		"is no duration":            {"PT1H30M", "an hour"},
		"event 1 (Morning boats): ": {"20260105T060000\r\nDTEND", "soon\r\nDTEND"},
	} {
		usual := scaling.Rule{}
		if nine := 9; says != "say what is set" {
			usual.Min = &nine
		}
		_, err := Read([]byte(strings.Replace(holidays, change[0], change[1], 1)), usual)
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, and should say %q", err, says)
		}
	}
	if _, err := Read(bytes.Repeat([]byte("x"), LongestFile+1), scaling.Rule{}); err == nil || !strings.Contains(err.Error(), "give at most") {
		t.Errorf("a file without end: %v", err)
	}
	if _, err := Read([]byte("BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n"), scaling.Rule{}); err == nil || !strings.Contains(err.Error(), "has no events") {
		t.Errorf("a file without events: %v", err)
	}
}

// TestTimesOfGreenwich: what a file gives in UTC within an event of a place (an UNTIL has to be
// so) is when it is, and not what the clock of the place shows.
func TestTimesOfGreenwich(t *testing.T) {
	event := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Saltmere Line//Sailings//EN\r\nBEGIN:VEVENT\r\nUID:1\r\nSUMMARY:Night boat\r\n" +
		"DTSTART;TZID=Europe/Paris:20260701T230000\r\nDURATION:PT1H\r\nRRULE:FREQ=DAILY;UNTIL=20260704T210000Z\r\nEXDATE:20260702T210000Z\r\nRDATE;TZID=Europe/Paris:20260710T120000\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
	four := 4
	rules, err := Read([]byte(event), scaling.Rule{Min: &four})
	if err != nil {
		t.Fatal(err)
	}
	var file bytes.Buffer
	if err := Write(&file, "timetable", rules, time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC), 3); err != nil {
		t.Fatal(err)
	}
	again, err := Read(file.Bytes(), scaling.Rule{})
	if err != nil {
		t.Fatalf("%v\n%s", err, file.String())
	}
	for _, r := range append(rules, again...) {
		c, err := Parse(r.When, r.TimeZone)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, at := range c.Next(time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC), 10) {
			got = append(got, at.Format("0102T1504"))
		}
		if said := strings.Join(got, " "); said != "0701T2100 0703T2100 0704T2100 0710T1000" {
			t.Errorf("%s comes at %s", r.When, said)
		}
	}
}
