// Package metric has the measures of instances: their names, and how those of many
// instances are one value.
package metric

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Every is how often instances are measured.
const Every = 15 * time.Second

// Name is what is measured: one of the names below, scrape:NAME from the instance's own
// page of metrics, or push:NAME that somebody sends.
type Name string

// What is measured of every instance, without its doing.
const (
	CPU        Name = "cpu"         // percent of the processors that its template gives it
	Memory     Name = "memory"      // percent of the memory that its template gives it
	NetworkIn  Name = "network-in"  // bytes a second that it was sent
	NetworkOut Name = "network-out" // bytes a second that it sent
	Requests   Name = "requests"    // requests a second through the balancer
	Latency    Name = "latency"     // milliseconds that 95 of 100 of its answers took at most
)

// Measured are those of every instance.
var Measured = []Name{CPU, Memory, NetworkIn, NetworkOut, Requests, Latency}

var given = regexp.MustCompile(`^(scrape|push):[a-zA-Z_:][a-zA-Z0-9_:]{0,79}$`)

// Check returns an error for what is no name of a metric.
func (n Name) Check() error {
	if slices.Contains(Measured, n) || given.MatchString(string(n)) {
		return nil
	}
	return fmt.Errorf("%q is no metric; give cpu, memory, network-in, network-out, requests, latency, scrape:NAME or push:NAME", clip(string(n)))
}

func clip(s string) string {
	if len(s) > 80 {
		s = s[:80]
	}
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, s)
}

// Scraped is the name on the instance's page, and whether it is from there.
func (n Name) Scraped() (name string, yes bool) { return strings.CutPrefix(string(n), "scrape:") }

// Pushed is the name under which it is sent, and whether it is sent.
func (n Name) Pushed() (name string, yes bool) { return strings.CutPrefix(string(n), "push:") }

// Unit is what follows a value: " %", " ms", "/s"; "" for what is not known.
func (n Name) Unit() string {
	switch n {
	case CPU, Memory:
		return " %"
	case NetworkIn, NetworkOut:
		return " B/s"
	case Requests:
		return "/s"
	case Latency:
		return " ms"
	}
	return ""
}

// Say is a value with its unit, to three places.
func (n Name) Say(v float64) string { return Short(v) + n.Unit() }

// Short is a number to three places.
func Short(v float64) string {
	switch size := math.Abs(v); {
	case math.IsNaN(v):
		return "-"
	case size >= 100 || v == math.Trunc(v):
		return strconv.FormatFloat(v, 'f', 0, 64)
	case size >= 10:
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	return strconv.FormatFloat(v, 'g', 3, 64)
}

// Over says how the values of many instances are one: average, maximum, total, or a
// percentile such as p95. The zero value is Average.
type Over string

// The ways that are no percentile.
const (
	Average Over = "average"
	Maximum Over = "maximum"
	Total   Over = "total"
)

var percentile = regexp.MustCompile(`^p([1-9][0-9]?)$`)

// Check returns an error for what is no such way.
func (o Over) Check() error {
	switch o {
	case "", Average, Maximum, Total:
		return nil
	}
	if percentile.MatchString(string(o)) {
		return nil
	}
	return fmt.Errorf("%q is no way to make one value of many; give average, maximum, total, or a percentile from p1 to p99", clip(string(o)))
}

// Of makes one value of many, NaN of none. The percentile is the smallest value that so many
// of 100 do not exceed (nearest rank). values is put in order.
func (o Over) Of(values []float64) float64 {
	if len(values) == 0 {
		return math.NaN()
	}
	switch o {
	case Maximum:
		return slices.Max(values)
	case Average, "", Total:
		sum := 0.0
		for _, v := range values {
			sum += v
		}
		if o == Total {
			return sum
		}
		return sum / float64(len(values))
	}
	slices.Sort(values)
	p, _ := strconv.Atoi(strings.TrimPrefix(string(o), "p"))
	return values[max(int(math.Ceil(float64(p)/100*float64(len(values))))-1, 0)]
}

// OfServing makes one value of those that were measured of so many that serve. A total is of all that
// serve: those that are not measured bear as much as the others, on average.
func (o Over) OfServing(values []float64, serving int) float64 {
	v := o.Of(values)
	if n := len(values); o == Total && serving > n {
		v *= float64(serving) / float64(n)
	}
	return v
}

// Hides reports whether a value is so near to the most that there can be that more may be hidden: a full
// processor says only how much is borne at least.
func (n Name) Hides(v float64) bool { return n == CPU && v >= nearlyFull }

const nearlyFull = 97 // percent

// Point is what a metric of a group was at a time.
type Point struct {
	At    time.Time
	Value float64 // of those that were measured; NaN when nobody was
	// Of is how many were measured, Serving how many served: those that settle still are
	// not measured. Missing are those that should have been measured and were not.
	Of, Serving, Missing int
}

// Known reports whether it has a value.
func (p Point) Known() bool { return !math.IsNaN(p.Value) && !math.IsInf(p.Value, 0) }

// Load is what all that served bore together, for a value that is that of one instance on
// average; a total is that already.
func (p Point) Load(o Over) float64 {
	if o == Total {
		return p.Value
	}
	return p.Value * float64(p.Serving)
}
