package scaling

import (
	"fmt"
	"math"
	"time"

	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/words"
)

// Flaw is a setting of a rule that cannot be.
type Flaw struct {
	Field string // as in JSON; "" for the rule as a whole
	Text  string
}

func (f *Flaw) Error() string { return f.Text }

func fault(field, format string, args ...any) *Flaw {
	return &Flaw{field, fmt.Sprintf(format, args...)}
}

// Complete fills in what is usual where nothing is said.
func (r *Rule) Complete() {
	switch r.Kind {
	case Trip:
		or(&r.Cooldown, UsualCooldown)
	case Steady:
		or(&r.Band, UsualBand)
		or(&r.Calm, UsualCalm)
		or(&r.ShrinkRate, UsualPace)
	case Calendar:
		or(&r.TimeZone, "UTC")
	}
	if r.Kind != Calendar {
		or(&r.Aggregate, metric.Average)
	}
}

func or[T comparable](to *T, usual T) {
	var zero T
	if *to == zero {
		*to = usual
	}
}

// Check reports settings that cannot be, whatever the group.
func (r *Rule) Check() *Flaw {
	if !words.IsName(r.Name) {
		return fault("name", "%q is not a name: %s", words.Plain(r.Name, 80), words.NamingRule)
	}
	switch r.Kind {
	case Trip, Steady:
		if err := r.Metric.Check(); err != nil {
			return fault("metric", "%s", err)
		}
		if err := r.Aggregate.Check(); err != nil {
			return fault("aggregate", "%s", err)
		}
		if r.Cooldown < 0 || r.Cooldown > 24*time.Hour {
			return fault("cooldown", "cooldown is %s; give 0s to 24h", r.Cooldown)
		}
		if r.Kind == Trip {
			return r.checkLines()
		}
		return r.checkSteady()
	case Calendar:
		return r.checkCalendar()
	}
	return fault("kind", "%q is no kind of rule; give trip, steady or calendar", words.Plain(string(r.Kind), 40))
}

func (r *Rule) checkLines() *Flaw {
	if len(r.Thresholds) == 0 || len(r.Thresholds) > MostLines {
		return fault("thresholds", "there are %d thresholds; give 1 to %d, such as: above 70 for 2m: +1", len(r.Thresholds), MostLines)
	}
	for k, l := range r.Thresholds {
		if err := l.check(); err != nil {
			return fault(fmt.Sprintf("thresholds/%d", k), "%s", err)
		}
	}
	for _, up := range r.Thresholds {
		for k, down := range r.Thresholds {
			if !up.Below && down.Below && down.At >= up.At {
				return fault(fmt.Sprintf("thresholds/%d", k), "the group would shrink below %s and grow above %s at once; the lower threshold must be under the upper one", metric.Short(down.At), metric.Short(up.At))
			}
		}
	}
	return nil
}

func (r *Rule) checkSteady() *Flaw {
	switch {
	case !(r.KeepAt > 0) || math.IsInf(r.KeepAt, 0) || r.KeepAt > 1e15:
		return fault("keep_at", "keep-at is %s; give a value over 0", metric.Short(r.KeepAt))
	case (r.Metric == metric.CPU || r.Metric == metric.Memory) && r.KeepAt > 100 && r.Aggregate != metric.Total:
		return fault("keep_at", "keep-at is %s %%; %s is in percent of what an instance has, so give 1 to 100", metric.Short(r.KeepAt), r.Metric)
	case r.Band < 1 || r.Band > 50:
		return fault("band", "band is %s %%; give 1 to 50", metric.Short(r.Band))
	case r.Calm < 2*metric.Every || r.Calm > LongestFor:
		return fault("calm", "calm is %s, which is too short to be measured in or too long; give %s to %s", r.Calm, 2*metric.Every, shortest(LongestFor))
	case r.ShrinkRate < 1 || r.ShrinkRate > 100:
		return fault("shrink_rate", "shrink-rate is %s %% a minute; give 1 to 100", metric.Short(r.ShrinkRate))
	}
	return nil
}

func (r *Rule) checkCalendar() *Flaw {
	switch {
	case r.When == "":
		return fault("when", "say when: a recurrence such as FREQ=DAILY;BYHOUR=7, a crontab line such as 30 7 * * 1-5, a time, or now")
	case r.Duration < 0 || (r.Duration > 0 && r.Duration < time.Minute) || r.Duration > LongestSpan:
		return fault("duration", "it lasts %s; give 1m to %s, or nothing for from then on", r.Duration, shortest(LongestSpan))
	case r.Min == nil && r.Max == nil && r.Size == nil:
		return fault("min", "say what is set: min, max, size, or several of them")
	case r.Min != nil && r.Max != nil && *r.Min > *r.Max:
		return fault("min", "min is %d and max is %d; min must not be over max", *r.Min, *r.Max)
	case r.Size != nil && r.Min != nil && *r.Size < *r.Min:
		return fault("size", "size is %d and min is %d; size must not be under min", *r.Size, *r.Min)
	case r.Size != nil && r.Max != nil && *r.Size > *r.Max:
		return fault("size", "size is %d and max is %d; size must not be over max", *r.Size, *r.Max)
	}
	for field, n := range map[string]*int{"min": r.Min, "max": r.Max, "size": r.Size} {
		if n != nil && (*n < 0 || *n > 10_000) {
			return fault(field, "%s is %d; give 0 to 10000", field, *n)
		}
	}
	return nil
}

// LooksBack is how far back the metric must be known for the rule to be judged.
func (r *Rule) LooksBack() time.Duration {
	longest := r.Calm
	for _, l := range r.Thresholds {
		longest = max(longest, l.For)
	}
	return longest + 4*metric.Every
}
