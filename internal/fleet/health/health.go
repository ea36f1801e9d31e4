// Package health turns the answers of a check into a verdict.
//
// One bad answer is an accident; several in a row are a fault. A [Counter]
// owns that one idea: it keeps the length of the present run of equal answers
// and says when the run is long enough to change its mind.
package health

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet/words"
)

// Verdict is what a check says of one instance.
type Verdict string

// The three verdicts. Unknown means that there were not enough answers yet.
const (
	Unknown   Verdict = "unknown"
	Healthy   Verdict = "healthy"
	Unhealthy Verdict = "unhealthy"
)

// Kind is the protocol that a check speaks.
type Kind string

// The kinds of check that are built.
const (
	HTTP  Kind = "http"
	HTTPS Kind = "https"
	TCP   Kind = "tcp"
	GRPC  Kind = "grpc" // the gRPC health protocol
)

// Check says how an instance is asked whether it is well.
type Check struct {
	Name string
	Kind Kind
	// Port on the instance, 1 to 65535.
	Port int
	// Path is requested by an http or https check and begins with "/". A redirect
	// is not followed.
	Path string
	// Host is the host header that such a check sends; "" for the address.
	Host string
	// Statuses that are good, such as "200-299,404"; "" for 200 to 299.
	Statuses string
	// Text must be in the first MiB of the body; "" asks for none.
	Text string
	// Service is what a grpc check asks after; "" for the whole server.
	Service string
	// Verify is set when an https check wants a certificate that this machine
	// trusts for the host.
	Verify bool
	// Interval between two questions to one instance, at least 100 ms.
	Interval time.Duration
	// Timeout for the whole answer, body included; at most Interval.
	Timeout time.Duration
	// Passes is how many good answers in a row make an instance healthy, 1 to 20.
	Passes int
	// Fails is how many bad answers in a row make an instance unhealthy, 1 to 20.
	Fails int
}

// Patience is about how long the check takes to find a sudden fault: from one
// answer to the last of as many bad ones as it needs.
func (c Check) Patience() time.Duration {
	return time.Duration(max(c.Fails, 1)) * c.Interval
}

// Advise tells what of the check is allowed and will hurt.
func (c Check) Advise() []string {
	if c.Timeout >= c.Interval {
		return []string{fmt.Sprintf("The timeout of %s is not shorter than the interval of %s: an instance that answers late is asked at a slower pace than the others.",
			words.Span(c.Timeout), words.Span(c.Interval))}
	}
	return nil
}

// GoodStatus reports whether a status is one of the check's.
func (c Check) GoodStatus(status int) bool {
	ranges, err := ParseStatuses(c.Statuses)
	if err != nil {
		return false
	}
	for _, r := range ranges {
		if status >= r[0] && status <= r[1] {
			return true
		}
	}
	return false
}

// ParseStatuses reads ranges of statuses, such as "200-299,404"; "" is 200 to 299.
func ParseStatuses(text string) (ranges [][2]int, err error) {
	if text == "" {
		return [][2]int{{200, 299}}, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		low, high, ranged := strings.Cut(strings.TrimSpace(part), "-")
		if !ranged {
			high = low
		}
		a, errA := strconv.Atoi(low)
		b, errB := strconv.Atoi(high)
		if errA != nil || errB != nil || a < 100 || b > 599 || a > b {
			return nil, fmt.Errorf("%q is not a range of statuses from 100 to 599, such as 200-299", strings.TrimSpace(part))
		}
		ranges = append(ranges, [2]int{a, b})
	}
	return ranges, nil
}

// Answer is one answer, or the lack of one, to one question of a check.
type Answer struct {
	At   time.Time
	Took time.Duration
	Good bool
	// Why says in words what came back: "200", "503", "connection refused".
	Why string
	// Late is set when whoever asked was itself too slow to judge the answer. It
	// counts for nothing.
	Late bool
}

// Report is the verdict of one check on one instance.
type Report struct {
	Check   string
	Verdict Verdict
	// Since is when the verdict became what it is.
	Since time.Time
	// Why names the answers that the verdict rests on.
	Why string
}

// Counter counts the answers of one check for one instance. The zero value
// is not useful; see [NewCounter].
type Counter struct {
	passes, fails int
	verdict       Verdict
	run           []Answer // the present run of equal answers, no longer than needed
}

// NewCounter counts towards the passes and fails of c, beginning from the
// verdict start (Unknown for an instance never asked before).
func NewCounter(c Check, start Verdict) *Counter {
	if start == "" {
		start = Unknown
	}
	return &Counter{passes: max(c.Passes, 1), fails: max(c.Fails, 1), verdict: start}
}

// Verdict is what the answers so far amount to.
func (c *Counter) Verdict() Verdict { return c.verdict }

// Add counts one answer and reports whether it changed the verdict. One that was
// judged late does not count, nor does it end a run.
func (c *Counter) Add(a Answer) (changed bool) {
	if a.Late {
		return false
	}
	if len(c.run) > 0 && c.run[0].Good != a.Good {
		c.run = c.run[:0]
	}
	needed, next := c.fails, Unhealthy
	if a.Good {
		needed, next = c.passes, Healthy
	}
	if len(c.run) < needed {
		c.run = append(c.run, a)
	} else {
		copy(c.run, c.run[1:])
		c.run[len(c.run)-1] = a
	}
	if c.verdict == next || len(c.run) < needed {
		return false
	}
	c.verdict = next
	return true
}

// Evidence names the run of answers that the verdict rests on, newest last:
// "failed 3 of 3: 503 in 12 ms, connection refused, connection refused".
func (c *Counter) Evidence() string {
	if len(c.run) == 0 {
		return "not asked yet"
	}
	word, needed := "failed", c.fails
	if c.run[0].Good {
		word, needed = "passed", c.passes
	}
	parts := make([]string, len(c.run))
	for i, a := range c.run {
		parts[i] = a.String()
	}
	return fmt.Sprintf("%s %d of %d: %s", word, len(c.run), needed, strings.Join(parts, ", "))
}

// Progress says how far the answers are from a verdict: "1 of 3 passes; the last
// answer: 200 in 4 ms", or what the verdict rests on.
func (c *Counter) Progress() string {
	if len(c.run) == 0 {
		return "not asked yet"
	}
	last := c.run[len(c.run)-1]
	switch {
	case last.Good && c.verdict != Healthy:
		return fmt.Sprintf("%d of %d passes; the last answer: %s", len(c.run), c.passes, last)
	case !last.Good && c.verdict != Unhealthy:
		return fmt.Sprintf("%d of %d fails; the last answer: %s", len(c.run), c.fails, last)
	}
	return c.Evidence()
}

// String says what came back and how long it took.
func (a Answer) String() string {
	if a.Took < time.Millisecond {
		return a.Why
	}
	return fmt.Sprintf("%s in %d ms", a.Why, a.Took.Milliseconds())
}
