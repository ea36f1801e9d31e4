package fleet

import (
	"fmt"
	"regexp"
	"strconv"
	"time"

	"unitas/internal/fleet/words"
)

// Hours are hours of the day at some place: "22:00-05:00 Europe/Paris"; without a place they
// are in UTC.
type Hours string

var hoursPattern = regexp.MustCompile(`^([01][0-9]|2[0-3]):([0-5][0-9])-([01][0-9]|2[0-3]):([0-5][0-9])(?: ([A-Za-z0-9_+/-]{1,60}))?$`)

// Place is where they are hours of the day, "UTC" unless it says so. It returns an error for
// what is no span of hours.
func (h Hours) Place() (string, error) {
	m := hoursPattern.FindStringSubmatch(string(h))
	if m == nil || m[1]+m[2] == m[3]+m[4] {
		return "", fmt.Errorf("%q are no hours; give a span such as 22:00-05:00, and a time zone such as Europe/Paris after it", words.Plain(string(h), 80))
	}
	if m[5] == "" {
		return "UTC", nil
	}
	return m[5], nil
}

// span is from when on and until when they are, in minutes of the day; ok is false for what is no span.
func (h Hours) span() (from, to int, ok bool) {
	m := hoursPattern.FindStringSubmatch(string(h))
	if m == nil {
		return 0, 0, false
	}
	n := make([]int, 4)
	for k := range n {
		n[k], _ = strconv.Atoi(m[k+1])
	}
	return 60*n[0] + n[1], 60*n[2] + n[3], true
}

// Opens reports whether a time is within the hours at the place, and if not when they begin next. The
// clock on the wall decides: hours that it leaves out on the day when summer time begins are none on that
// day, and those that it shows twice are both.
func (h Hours) Opens(now time.Time, at *time.Location) (open bool, next time.Time) {
	from, to, ok := h.span()
	if !ok {
		return true, time.Time{}
	}
	if at == nil {
		at = time.UTC
	}
	within := func(t time.Time) bool {
		local := t.In(at)
		minute := 60*local.Hour() + local.Minute()
		if from < to {
			return from <= minute && minute < to
		}
		return minute >= from || minute < to
	}
	if within(now) {
		return true, time.Time{}
	}
	local := now.In(at)
	for day := 0; day <= 2; day++ {
		begins := time.Date(local.Year(), local.Month(), local.Day()+day, from/60, from%60, 0, 0, at)
		early, late := begins.Add(-clockShift), begins.Add(clockShift)
		if _, before := early.Zone(); sameOffset(before, late) {
			if begins.After(now) {
				return false, begins
			}
			continue
		}
		// Near a change of the clock it is looked at minute by minute.
		for t := early; t.Before(late); t = t.Add(time.Minute) {
			if t.After(now) && within(t) {
				return false, t
			}
		}
	}
	return false, local.AddDate(0, 0, 1)
}

// clockShift is more than clocks are set by at once for summer time.
const clockShift = 3 * time.Hour

func sameOffset(offset int, t time.Time) bool {
	_, is := t.Zone()
	return is == offset
}
