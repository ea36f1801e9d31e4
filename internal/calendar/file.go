package calendar

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"unitas/internal/fleet/scaling"
	"unitas/internal/fleet/words"
)

// The properties of events by which files say what a calendar sets.
const (
	propertyMin  = "X-UNITAS-MIN"
	propertyMax  = "X-UNITAS-MAX"
	propertySize = "X-UNITAS-SIZE"
)

// LongestFile bounds a file that is brought in, in bytes; MostEvents how many events it has.
const (
	LongestFile = 256 << 10
	MostEvents  = scaling.MostRules
)

// Read makes a calendar rule of each event of an iCalendar file. What an event does not say
// itself (by X-UNITAS-MIN, -MAX and -SIZE) is as in usual.
func Read(file []byte, usual scaling.Rule) ([]scaling.Rule, error) {
	if len(file) > LongestFile {
		return nil, fmt.Errorf("the file has %d bytes; give at most %d", len(file), LongestFile)
	}
	cal, err := ics.ParseCalendar(bytes.NewReader(file))
	if err != nil {
		return nil, fmt.Errorf("the file is no iCalendar file: %s", words.Plain(err.Error(), 200))
	}
	events := cal.Events()
	switch {
	case len(events) == 0:
		return nil, fmt.Errorf("the file has no events")
	case len(events) > MostEvents:
		return nil, fmt.Errorf("the file has %d events; a group has %d rules at most", len(events), MostEvents)
	}
	var rules []scaling.Rule
	taken := map[string]bool{}
	for n, e := range events {
		r, err := ofEvent(e, usual)
		if err != nil {
			return nil, fmt.Errorf("event %d (%s): %w", n+1, words.Plain(text(e, ics.ComponentPropertySummary), 60), err)
		}
		for k := 2; taken[r.Name]; k++ {
			r.Name = strings.TrimRight(r.Name[:min(len(r.Name), 36)], "-") + "-" + strconv.Itoa(k)
		}
		taken[r.Name] = true
		rules = append(rules, r)
	}
	return rules, nil
}

func text(e *ics.VEvent, p ics.ComponentProperty) string {
	if v := e.GetProperty(p); v != nil {
		return v.Value
	}
	return ""
}

// dates are the properties of dates beside a recurrence.
var dates = []ics.ComponentProperty{ics.ComponentPropertyExdate, ics.ComponentPropertyRdate}

var notOfName = regexp.MustCompile(`[^a-z0-9]+`)

func ofEvent(e *ics.VEvent, r scaling.Rule) (scaling.Rule, error) {
	r.Kind = scaling.Calendar
	r.Name = strings.Trim(notOfName.ReplaceAllString(strings.ToLower(text(e, ics.ComponentPropertySummary)), "-"), "-")
	r.Name = strings.TrimRight(r.Name[:min(len(r.Name), 40)], "-")
	if r.Name == "" || r.Name[0] < 'a' {
		r.Name = strings.TrimRight("event-"+r.Name, "-")
	}
	for p, to := range map[string]**int{propertyMin: &r.Min, propertyMax: &r.Max, propertySize: &r.Size} {
		if v := text(e, ics.ComponentProperty(p)); v != "" {
			n, err := strconv.Atoi(v)
			if err != nil {
				return r, fmt.Errorf("%s is %q; give a number", p, words.Plain(v, 40))
			}
			*to = &n
		}
	}
	start := e.GetProperty(ics.ComponentPropertyDtStart)
	if start == nil {
		return r, fmt.Errorf("it has no DTSTART")
	}
	place, wall, day, err := when(start)
	if err != nil {
		return r, err
	}
	r.TimeZone = place
	if r.Duration, err = lasts(e, wall, day); err != nil {
		return r, err
	}
	r.When = wall.Format("2006-01-02 15:04:05")
	if recurs := text(e, ics.ComponentPropertyRrule); recurs != "" {
		r.When = "DTSTART:" + wall.Format("20060102T150405") + " RRULE:" + recurs
		for _, p := range dates {
			for _, given := range e.GetProperties(p) {
				for _, one := range strings.Split(given.Value, ",") {
					r.When += " " + string(p) + ":" + one
				}
			}
		}
	}
	if _, err := Parse(r.When, r.TimeZone); err != nil {
		return r, err
	}
	if f := r.Check(); f != nil {
		return r, f
	}
	return r, nil
}

// when is the place of a time of an event, and what the clock there shows.
func when(p *ics.IANAProperty) (place string, wall time.Time, day bool, err error) {
	place = "UTC"
	if zone := p.ICalParameters["TZID"]; len(zone) > 0 {
		place = zone[0]
		if _, err := time.LoadLocation(place); err != nil {
			return "", wall, false, fmt.Errorf("%q is no time zone that is known here", words.Plain(place, 80))
		}
	}
	for _, layout := range []string{"20060102T150405Z", "20060102T150405", "20060102"} {
		if at, err := time.Parse(layout, p.Value); err == nil {
			return place, at, layout == "20060102", nil
		}
	}
	return "", wall, false, fmt.Errorf("%q is no time", words.Plain(p.Value, 60))
}

// lasts is how long an event lasts: until its end, for its duration, for the day, or from then
// on.
func lasts(e *ics.VEvent, from time.Time, day bool) (time.Duration, error) {
	if end := e.GetProperty(ics.ComponentPropertyDtEnd); end != nil {
		_, until, _, err := when(end)
		return until.Sub(from), err
	}
	if d := text(e, ics.ComponentPropertyDuration); d != "" {
		m := duration.FindStringSubmatch(d)
		if m == nil {
			return 0, fmt.Errorf("%q is no duration", words.Plain(d, 60))
		}
		var sum time.Duration
		for k, unit := range []time.Duration{7 * 24 * time.Hour, 24 * time.Hour, time.Hour, time.Minute, time.Second} {
			n, _ := strconv.Atoi(m[k+1])
			sum += time.Duration(n) * unit
		}
		return sum, nil
	}
	if day {
		return 24 * time.Hour, nil
	}
	return 0, nil
}

var duration = regexp.MustCompile(`^\+?P(?:([0-9]{1,4})W)?(?:([0-9]{1,4})D)?(?:T(?:([0-9]{1,4})H)?(?:([0-9]{1,4})M)?(?:([0-9]{1,5})S)?)?$`)

// Write writes the calendar rules of a group as an iCalendar file. What is a crontab line has
// no recurrence there: its next times are written, as many as are given.
func Write(to io.Writer, group string, rules []scaling.Rule, now time.Time, times int) error {
	cal := ics.NewCalendarFor("Unitas")
	cal.SetXWRCalName(group)
	for k := range rules {
		r := &rules[k]
		if r.Kind != scaling.Calendar {
			continue
		}
		c, err := Parse(r.When, r.TimeZone)
		if err != nil {
			return err
		}
		if isRecurrence.MatchString(r.When) {
			e := event(cal, group, r, r.Name)
			start := ""
			for _, line := range strings.Fields(r.When) {
				name, value, some := strings.Cut(line, ":")
				switch {
				case !some:
					e.AddProperty(ics.ComponentPropertyRrule, line)
				case strings.EqualFold(name, "RRULE"):
					e.AddProperty(ics.ComponentPropertyRrule, value)
				case strings.EqualFold(name, "DTSTART"):
					start = c.toWall(value)
				case slices.Contains(dates, ics.ComponentProperty(strings.ToUpper(name))):
					e.AddProperty(ics.ComponentProperty(strings.ToUpper(name)), c.toWall(value), inPlace(r.TimeZone)...)
				}
			}
			if start == "" {
				start = c.next(Anchor.Add(-time.Second)).Format("20060102T150405")
			}
			e.SetProperty(ics.ComponentPropertyDtStart, start, inPlace(r.TimeZone)...)
			lasting(e, r)
			continue
		}
		all := c.Next(now, times)
		if last := c.Until(now); len(all) == 0 && !last.IsZero() {
			all = []time.Time{last}
		}
		for n, at := range all {
			e := event(cal, group, r, fmt.Sprintf("%s-%d", r.Name, n+1))
			e.SetProperty(ics.ComponentPropertyDtStart, at.In(c.place).Format("20060102T150405"), inPlace(r.TimeZone)...)
			lasting(e, r)
		}
	}
	return cal.SerializeTo(to)
}

func inPlace(in string) []ics.PropertyParameter {
	return []ics.PropertyParameter{&ics.KeyValues{Key: "TZID", Value: []string{in}}}
}

func lasting(e *ics.VEvent, r *scaling.Rule) {
	if r.Duration > 0 {
		e.SetProperty(ics.ComponentPropertyDuration, fmt.Sprintf("PT%dS", int(r.Duration.Seconds())))
	}
}

func event(cal *ics.Calendar, group string, r *scaling.Rule, id string) *ics.VEvent {
	e := cal.AddEvent(id + "@" + group)
	e.SetSummary(r.Name)
	e.SetDescription(r.Sets())
	for p, n := range map[string]*int{propertyMin: r.Min, propertyMax: r.Max, propertySize: r.Size} {
		if n != nil {
			e.SetProperty(ics.ComponentProperty(p), strconv.Itoa(*n))
		}
	}
	return e
}
