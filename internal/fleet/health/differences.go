package health

import (
	"cmp"
	"fmt"
	"strconv"

	"unitas/internal/fleet/words"
)

// Differences are the settings that are different in b, in words: what each is now, and
// what it was.
func (c Check) Differences(b Check) []string {
	var all []string
	differs := func(what, was, now string) {
		if was != now {
			all = append(all, fmt.Sprintf("%s %s, was %s", what, cmp.Or(now, "none"), cmp.Or(was, "none")))
		}
	}
	differs("kind", string(c.Kind), string(b.Kind))
	differs("port", strconv.Itoa(c.Port), strconv.Itoa(b.Port))
	differs("path", c.Path, b.Path)
	differs("host", c.Host, b.Host)
	differs("good statuses", cmp.Or(c.Statuses, "200-299"), cmp.Or(b.Statuses, "200-299"))
	differs("text", strconv.Quote(c.Text), strconv.Quote(b.Text))
	differs("service", c.Service, b.Service)
	differs("certificate", verified[c.Verify], verified[b.Verify])
	differs("interval", words.Span(c.Interval), words.Span(b.Interval))
	differs("timeout", words.Span(c.Timeout), words.Span(b.Timeout))
	differs("passes", strconv.Itoa(c.Passes), strconv.Itoa(b.Passes))
	differs("fails", strconv.Itoa(c.Fails), strconv.Itoa(b.Fails))
	return all
}

var verified = map[bool]string{true: "verified", false: "any"}
