package calendar

import (
	"regexp"

	"unitas/internal/fleet/words"
)

// wrongs are what the library says of a recurrence that it cannot read, and what that is in words.
var wrongs = []struct {
	says  *regexp.Regexp
	words string // with $1 for what was written
}{
	{regexp.MustCompile(`undefined weekday: (.*)`), `"$1" is no day; write MO, TU, WE, TH, FR, SA or SU`},
	{regexp.MustCompile(`undefined frequency: (.*)`), `"$1" is no frequency; write YEARLY, MONTHLY, WEEKLY, DAILY or HOURLY`},
	{regexp.MustCompile(`strconv\.Atoi: parsing "(.*)":`), `"$1" is no number`},
	{regexp.MustCompile(`parsing time "(.*?)"`), `"$1" is no time; write one such as 20261224T180000`},
	{regexp.MustCompile(`unknown RRULE property: (.*)`), `a recurrence has no "$1"`},
	{regexp.MustCompile(`NewRRule failed`), `a number in it is out of its range, such as an hour of 25`},
}

// unclear says in words what is wrong with a recurrence.
func unclear(err error) string {
	text := err.Error()
	for _, w := range wrongs {
		if at := w.says.FindStringSubmatchIndex(text); at != nil {
			return words.Plain(string(w.says.ExpandString(nil, w.words, text, at)), 200)
		}
	}
	return "it cannot be read; give one such as FREQ=WEEKLY;BYDAY=MO;BYHOUR=7 (RFC 5545)"
}
