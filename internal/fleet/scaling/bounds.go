package scaling

import "time"

// Times are when a calendar rule begins: the last time until now, and the next one. Zero
// where there is none.
type Times struct{ Last, Next time.Time }

// Bounds are those inside which the size is, and what set them.
type Bounds struct {
	Min int `json:"min"`
	Max int `json:"max"`
	// LeastBy and MostBy are the calendars that set Min and Max, "" for the group itself.
	LeastBy string `json:"least_by,omitempty"`
	MostBy  string `json:"most_by,omitempty"`
	// By are the calendars whose spans last now, and Until when the first of them ends.
	By    []string  `json:"by,omitempty"`
	Until time.Time `json:"until,omitzero"`
}

// Lasts reports whether a span of the calendar lasts at a time, and until when.
func (r *Rule) Lasts(now time.Time, t Times) (until time.Time, yes bool) {
	if r.Kind != Calendar || r.Off || r.Duration == 0 || t.Last.IsZero() {
		return time.Time{}, false
	}
	until = t.Last.Add(r.Duration)
	return until, !now.Before(t.Last) && now.Before(until)
}

// NotAhead is the state as of a time: what a calendar did by a clock that was ahead, and is set back by
// now, is no time that it has acted on. ahead reports whether there was any.
func (s State) NotAhead(now time.Time) (_ State, ahead bool) {
	if ahead = s.Occurred.After(now.Add(time.Minute)); ahead {
		s.Occurred = now
	}
	return s, ahead
}

// Begins reports whether a time of the calendar has come that was not acted on yet: of a span
// that lasts, or of one from then on that lies after the rule was set.
func (r *Rule) Begins(now time.Time, state State, t Times) bool {
	if r.Kind != Calendar || r.Off || t.Last.IsZero() || now.Before(t.Last) || !t.Last.After(state.Occurred) {
		return false
	}
	if r.Duration > 0 {
		_, lasts := r.Lasts(now, t)
		return lasts
	}
	return !t.Last.Before(r.Since)
}

// BoundsNow are the bounds at a time: those that people set, but for what the spans say that
// last. Of several the highest min and the highest max count; a min above the max lifts it.
func BoundsNow(now time.Time, least, most int, rules []Rule, times map[string]Times) Bounds {
	b := Bounds{Min: least, Max: most}
	setMin, setMax := false, false
	for k := range rules {
		r := &rules[k]
		until, lasts := r.Lasts(now, times[r.Name])
		if !lasts {
			continue
		}
		if r.Min != nil && (!setMin || *r.Min > b.Min) {
			b.Min, setMin, b.LeastBy = *r.Min, true, r.Name
		}
		if r.Max != nil && (!setMax || *r.Max > b.Max) {
			b.Max, setMax, b.MostBy = *r.Max, true, r.Name
		}
		b.By = append(b.By, r.Name)
		if b.Until.IsZero() || until.Before(b.Until) {
			b.Until = until
		}
	}
	switch {
	case b.Min <= b.Max:
	case setMax && !setMin:
		b.Min, b.LeastBy = b.Max, b.MostBy
	default:
		b.Max, b.MostBy = b.Min, b.LeastBy
	}
	return b
}

// Clamp is the size nearest to n within the bounds.
func (b Bounds) Clamp(n int) int { return max(b.Min, min(n, b.Max)) }

// Binds is the calendar for which a size of n cannot be, "" when none is against it.
func (b Bounds) Binds(n int) string {
	switch {
	case n < b.Min:
		return b.LeastBy
	case n > b.Max:
		return b.MostBy
	}
	return ""
}

// Same reports whether two bounds are the same to whoever sets a size.
func (b Bounds) Same(o Bounds) bool { return b.Min == o.Min && b.Max == o.Max }
