// Package calendar tells when recurring times come, by the clock of a place.
//
// A time of the day that the clock of the place skips, as summer time begins, comes as late as
// the clock is ahead then; one that it shows twice, as summer time ends, comes at the first.
// So what is daily happens once a day on both days.
package calendar

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
	"github.com/teambition/rrule-go"

	"unitas/internal/fleet/scaling"
	"unitas/internal/fleet/words"
)

// Calendar is a series of times.
type Calendar struct {
	place *time.Location
	next  func(after time.Time) time.Time // by the clock on the wall, as if that were UTC
	prior func(until time.Time) time.Time
}

// Anchor is what recurrences are counted from that do not say it: a Monday.
var Anchor = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)

// Horizon is how far a calendar is looked ahead, and back.
const Horizon = 5 * 366 * 24 * time.Hour

// LongestWhen bounds the text of a calendar, in bytes.
const LongestWhen = 4096

var crontab = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)

var isRecurrence = regexp.MustCompile(`(?i)(^|\s|:)FREQ=|^DTSTART`)

// Parse reads times as people write them: an iCalendar recurrence (FREQ=WEEKLY;BYDAY=MO, with
// a DTSTART and EXDATE before or after it, on lines of their own), a crontab line
// (30 7 * * 1-5), or one time (2026-12-24 18:00, or RFC 3339). in is an IANA time zone.
func Parse(when, in string) (*Calendar, error) {
	place, err := time.LoadLocation(in)
	if err != nil || in == "" || in == "Local" {
		return nil, fmt.Errorf("%q is no time zone that is known here; give one such as Europe/Paris or UTC", words.Plain(in, 80))
	}
	when = strings.TrimSpace(when)
	if len(when) > LongestWhen {
		return nil, fmt.Errorf("it has %d bytes; give at most %d", len(when), LongestWhen)
	}
	c := &Calendar{place: place}
	if at, ok := moment(when, place); ok {
		c.next = func(after time.Time) time.Time { return first(at.After(after), at) }
		c.prior = func(until time.Time) time.Time { return first(!at.After(until), at) }
		return c, nil
	}
	if isRecurrence.MatchString(when) {
		return c, c.recurs(when)
	}
	if strings.HasPrefix(when, "@") || strings.Contains(when, "TZ=") {
		return nil, unreadable(when)
	}
	s, err := crontab.Parse(when)
	if err != nil {
		return nil, unreadable(when)
	}
	c.next, c.prior = s.Next, func(until time.Time) time.Time { return priorOf(s.Next, until) }
	if c.next(Anchor).IsZero() {
		return nil, fmt.Errorf("%q never comes", words.Plain(when, 120))
	}
	return c, nil
}

func unreadable(when string) error {
	return fmt.Errorf("%q is no time; give a recurrence such as FREQ=WEEKLY;BYDAY=MO;BYHOUR=7, a crontab line such as 30 7 * * 1-5, a time such as 2026-12-24 18:00, or now", words.Plain(when, 120))
}

func first(yes bool, at time.Time) time.Time {
	if yes {
		return at
	}
	return time.Time{}
}

// moment reads one time, as the clock on the wall of the place shows it.
func moment(when string, place *time.Location) (time.Time, bool) {
	if at, err := time.Parse(time.RFC3339, when); err == nil {
		return onWall(at.In(place)), true
	}
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02T15:04:05"} {
		if at, err := time.Parse(layout, when); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}

// recurs reads an iCalendar recurrence.
func (c *Calendar) recurs(when string) error {
	var lines []string
	anchored := false
	for _, line := range strings.Fields(c.toWall(when)) {
		name, _, _ := strings.Cut(line, ":")
		name, _, _ = strings.Cut(strings.ToUpper(name), ";")
		switch {
		case strings.HasPrefix(strings.ToUpper(line), "FREQ=") || !strings.Contains(line, ":"):
			line = "RRULE:" + line
		case name == "DTSTART":
			anchored = true
		}
		lines = append(lines, line)
	}
	if !anchored {
		lines = append([]string{"DTSTART:" + Anchor.Format("20060102T150405")}, lines...)
	}
	set, err := rrule.StrSliceToRRuleSet(lines)
	if err != nil {
		return fmt.Errorf("%q is no recurrence: %s", words.Plain(when, 120), unclear(err))
	}
	if r := set.GetRRule(); r != nil && (r.OrigOptions.Freq > rrule.HOURLY || len(r.OrigOptions.Byminute) > 1 || len(r.OrigOptions.Bysecond) > 1) {
		return fmt.Errorf("%q comes too often; give a recurrence of once an hour at most, or a crontab line", words.Plain(when, 120))
	}
	r := &recurrence{start: onWall(set.GetDTStart()), not: map[time.Time]bool{}}
	for _, at := range set.GetExDate() {
		r.not[onWall(at)] = true
	}
	for _, at := range set.GetRDate() {
		r.also = append(r.also, onWall(at))
	}
	if rule := set.GetRRule(); rule != nil {
		r.rule = &rule.OrigOptions
		r.rule.Until = wallOrZero(r.rule.Until)
		if r.rule.Count > mostCounted {
			return fmt.Errorf("%q counts to %d; give %d at most, or an UNTIL", words.Plain(when, 120), r.rule.Count, mostCounted)
		}
	}
	c.next, c.prior = r.next, r.prior
	if from := r.start.Add(-time.Second); c.next(from).IsZero() {
		return fmt.Errorf("%q never comes", words.Plain(when, 120))
	}
	return nil
}

var inUTC = regexp.MustCompile(`[0-9]{8}T[0-9]{6}Z`)

// toWall has what is given in UTC as the clock of the place shows it.
func (c *Calendar) toWall(when string) string {
	return inUTC.ReplaceAllStringFunc(when, func(text string) string {
		at, err := time.Parse("20060102T150405Z", text)
		if err != nil {
			return text
		}
		return at.In(c.place).Format("20060102T150405")
	})
}

// mostCounted is how far a recurrence may count.
const mostCounted = 10_000

func wallOrZero(at time.Time) time.Time {
	if at.IsZero() {
		return at
	}
	return onWall(at)
}

// recurrence is an iCalendar recurrence, by the clock on the wall.
type recurrence struct {
	start time.Time
	rule  *rrule.ROption // nil when there are only dates
	also  []time.Time
	not   map[time.Time]bool
}

// windows are in how wide ones a time is looked for, the narrow ones first.
var windows = []time.Duration{50 * time.Hour, 40 * 24 * time.Hour, 400 * 24 * time.Hour, Horizon}

func (r *recurrence) next(after time.Time) (best time.Time) {
	for _, wide := range windows {
		for _, at := range r.between(after, after.Add(wide)) {
			if at.After(after) && (best.IsZero() || at.Before(best)) {
				best = at
			}
		}
		if !best.IsZero() {
			return best
		}
	}
	return best
}

func (r *recurrence) prior(until time.Time) (best time.Time) {
	for _, wide := range windows {
		for _, at := range r.between(until.Add(-wide), until) {
			if !at.After(until) && at.After(best) {
				best = at
			}
		}
		if !best.IsZero() {
			return best
		}
	}
	return best
}

// between are the times in a window, in no order. What it costs follows the window, however
// long ago the recurrence began: that is moved up by whole intervals.
func (r *recurrence) between(from, to time.Time) []time.Time {
	var all []time.Time
	for _, at := range r.also {
		if !at.Before(from) && !at.After(to) && !r.not[at] {
			all = append(all, at)
		}
	}
	if r.rule == nil {
		if len(r.also) == 0 && !r.start.Before(from) && !r.start.After(to) {
			all = append(all, r.start)
		}
		return all
	}
	o := *r.rule
	o.Dtstart = r.start
	if step := stride(o); step > 0 && o.Count == 0 && from.After(r.start) {
		o.Dtstart = r.start.Add(from.Sub(r.start) / step * step)
	}
	if o.Until.IsZero() || o.Until.After(to) {
		o.Until = to
	}
	if o.Until.Before(o.Dtstart) {
		return all
	}
	rule, err := rrule.NewRRule(o)
	if err != nil {
		return all
	}
	next := rule.Iterator()
	for {
		at, some := next()
		if !some || at.After(to) {
			return all
		}
		if !at.Before(from) && !r.not[at] {
			all = append(all, at)
		}
	}
}

// stride is after how long a recurrence is as it was; 0 where that is not always as long.
func stride(o rrule.ROption) time.Duration {
	every := time.Duration(max(o.Interval, 1))
	switch o.Freq {
	case rrule.HOURLY:
		return every * time.Hour
	case rrule.DAILY:
		return every * 24 * time.Hour
	case rrule.WEEKLY:
		return every * 7 * 24 * time.Hour
	}
	return 0
}

// onWall is what the clock of its place shows, as if that were UTC.
func onWall(at time.Time) time.Time {
	return time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), at.Second(), 0, time.UTC)
}

// priorOf finds the last time until one, where only the next can be asked for.
func priorOf(next func(time.Time) time.Time, until time.Time) (last time.Time) {
	for _, back := range []time.Duration{2 * time.Hour, 49 * time.Hour, 32 * 24 * time.Hour, 367 * 24 * time.Hour, Horizon} {
		for at := next(until.Add(-back)); !at.IsZero() && !at.After(until); at = next(at) {
			last = at
		}
		if !last.IsZero() {
			return last
		}
	}
	return last
}

// instant is when the clock of the place shows a time: the first of two, and one that it skips
// as late as it is ahead then.
func (c *Calendar) instant(wall time.Time) time.Time {
	at := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, c.place)
	for _, back := range []time.Duration{time.Hour, 30 * time.Minute} { // was it shown before already?
		if earlier := at.Add(-back); onWall(earlier.In(c.place)).Equal(wall) {
			return earlier
		}
	}
	if shown := onWall(at); shown.Before(wall) { // it was skipped
		return at.Add(wall.Sub(shown))
	}
	return at
}

// around is by how much a wall may differ from where it is looked for: no clock is set by
// more at once.
const around = 3 * time.Hour

// After is the first time after one; zero when none comes within the horizon.
func (c *Calendar) After(t time.Time) time.Time {
	wall := onWall(t.In(c.place)).Add(-around)
	for range 2000 {
		wall = c.next(wall)
		if wall.IsZero() || wall.Sub(t) > Horizon {
			return time.Time{}
		}
		if at := c.instant(wall); at.After(t) {
			return at.UTC()
		}
	}
	return time.Time{}
}

// Until is the last time that is not after one; zero when there was none within the horizon.
func (c *Calendar) Until(t time.Time) time.Time {
	wall := onWall(t.In(c.place)).Add(around)
	for range 2000 {
		wall = c.prior(wall)
		if wall.IsZero() || t.Sub(wall) > Horizon {
			return time.Time{}
		}
		if at := c.instant(wall); !at.After(t) {
			return at.UTC()
		}
		wall = wall.Add(-time.Second)
	}
	return time.Time{}
}

// Times are the last time until now and the next one.
func (c *Calendar) Times(now time.Time) scaling.Times {
	return scaling.Times{Last: c.Until(now), Next: c.After(now)}
}

// Next are the next n times after one, as far as there are so many.
func (c *Calendar) Next(t time.Time, n int) []time.Time {
	var all []time.Time
	for range n {
		if t = c.After(t); t.IsZero() {
			break
		}
		all = append(all, t)
	}
	return all
}
