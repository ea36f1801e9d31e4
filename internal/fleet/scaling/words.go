package scaling

import (
	"fmt"
	"strings"

	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/words"
)

// String says all of a rule in one line.
func (r *Rule) String() string {
	text := string(r.Kind) + " "
	switch r.Kind {
	case Trip:
		lines := make([]string, len(r.Thresholds))
		for k, l := range r.Thresholds {
			lines[k] = l.String()
		}
		text += r.Measure() + " " + strings.Join(lines, ", ") + ", cooldown " + words.Span(r.Cooldown)
	case Steady:
		text += fmt.Sprintf("%s at %s, band %s %%, calm %s, shrink-rate %s %% a minute", r.Measure(), r.Metric.Say(r.KeepAt), metric.Short(r.Band), words.Span(r.Calm), metric.Short(r.ShrinkRate))
		if r.Cooldown > 0 {
			text += ", cooldown " + words.Span(r.Cooldown)
		}
		if r.GrowOnly {
			text += ", grow-only"
		}
		if r.Forecast {
			text += ", with a forecast"
		}
	case Calendar:
		text += fmt.Sprintf("%s in %s: %s", r.When, r.TimeZone, r.Sets())
	}
	if r.Off {
		text += ", off"
	}
	return text
}

// Measure is what a rule goes by: "cpu, average".
func (r *Rule) Measure() string {
	if r.Aggregate == "" || r.Aggregate == metric.Average {
		return string(r.Metric)
	}
	return string(r.Metric) + " " + string(r.Aggregate)
}

// Sets is what a calendar sets, and for how long: "min 4, max 12 for 10 h".
func (r *Rule) Sets() string {
	var parts []string
	for _, set := range []struct {
		what string
		n    *int
	}{{"min", r.Min}, {"max", r.Max}, {"size", r.Size}} {
		if set.n != nil {
			parts = append(parts, fmt.Sprintf("%s %d", set.what, *set.n))
		}
	}
	if r.Duration == 0 {
		return strings.Join(parts, ", ") + " from then on"
	}
	return strings.Join(parts, ", ") + " for " + words.Span(r.Duration)
}
