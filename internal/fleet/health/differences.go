package health

import (
	"cmp"
	"strconv"

	"unitas/internal/fleet/words"
)

// Differences are the settings that are different in b, in words: what each is now, and
// what it was.
func (c Check) Differences(b Check) words.Differences {
	var all words.Differences
	all.Note("kind", string(c.Kind), string(b.Kind))
	all.Note("port", strconv.Itoa(c.Port), strconv.Itoa(b.Port))
	all.Note("path", c.Path, b.Path)
	all.Note("host", c.Host, b.Host)
	all.Note("good statuses", cmp.Or(c.Statuses, "200-299"), cmp.Or(b.Statuses, "200-299"))
	all.Note("text", strconv.Quote(c.Text), strconv.Quote(b.Text))
	all.Note("service", c.Service, b.Service)
	all.Note("certificate", verified[c.Verify], verified[b.Verify])
	all.Note("interval", words.Span(c.Interval), words.Span(b.Interval))
	all.Note("timeout", words.Span(c.Timeout), words.Span(b.Timeout))
	all.Note("passes", strconv.Itoa(c.Passes), strconv.Itoa(b.Passes))
	all.Note("fails", strconv.Itoa(c.Fails), strconv.Itoa(b.Fails))
	return all
}

var verified = map[bool]string{true: "verified", false: "any"}
