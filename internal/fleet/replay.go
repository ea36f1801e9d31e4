package fleet

import (
	"time"

	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
)

// Recorded is what was measured at one time, by rule.
type Recorded struct {
	At     time.Time
	Points map[string]metric.Point
}

// Replayed is what rules would have done with what was measured.
type Replayed struct {
	// Sizes are those of each moment, once the rules had decided.
	Sizes []int
	// Changes are what was decided, with its moment.
	Changes []ReplayedChange
	// Gaps are the moments at which some rule had no value.
	Gaps int
}

// ReplayedChange is one entry of the journal that would have been.
type ReplayedChange struct {
	At time.Time
	Entry
}

// ReplayRules runs the rules of a group over what was measured, from the size that it had
// then. What is step apart and no closer counts until the next. What an instance would have
// borne follows from what all that served bore together; what a full processor hid stays
// hidden. What is launched serves at once.
func ReplayRules(g Group, recorded []Recorded, step time.Duration, times func(rule string, at time.Time) scaling.Times) Replayed {
	r := replaying{points: map[string][]metric.Point{}, times: times}
	g.RuleStates, g.Bound, g.Frozen, g.Deleting = nil, nil, "", false
	for _, m := range recorded {
		if r.gap(&g, m) {
			r.out.Gaps++
		}
		for at := m.At; at.Equal(m.At) || at.Before(m.At.Add(step)); at = at.Add(metric.Every) {
			g = r.decide(g, m, at)
		}
		r.out.Sizes = append(r.out.Sizes, g.Size)
	}
	return r.out
}

type replaying struct {
	points map[string][]metric.Point
	times  func(rule string, at time.Time) scaling.Times
	out    Replayed
}

// gap reports whether some rule has no value.
func (r *replaying) gap(g *Group, m Recorded) bool {
	for k := range g.Rules {
		rule := &g.Rules[k]
		if p, some := m.Points[rule.Name]; rule.Kind != scaling.Calendar && !rule.Off && (!some || !p.Known()) {
			return true
		}
	}
	return false
}

// decide is the group once its rules had decided.
func (r *replaying) decide(g Group, m Recorded, at time.Time) Group {
	sizing := Sizing{Points: r.points, Times: map[string]scaling.Times{}}
	for k := range g.Rules {
		rule := &g.Rules[k]
		if rule.Kind == scaling.Calendar {
			sizing.Times[rule.Name] = r.times(rule.Name, at)
			continue
		}
		if p, some := m.Points[rule.Name]; some {
			p.At = at
			r.points[rule.Name] = keepBack(append(r.points[rule.Name], as(p, rule, g.Size)), rule.LooksBack())
		}
	}
	d := begin(at, View{Group: g, Sizing: sizing})
	d.supposed = true
	d.scale()
	for _, e := range d.journal.entries() {
		r.out.Changes = append(r.out.Changes, ReplayedChange{at, e})
	}
	return d.group
}

// as is a point as it would have been with another number of instances.
func as(p metric.Point, r *scaling.Rule, size int) metric.Point {
	if r.Aggregate != metric.Total && p.Known() && size > 0 {
		p.Value = p.Value * float64(p.Serving) / float64(size)
	}
	p.Of, p.Serving = size, size
	return p
}

// keepBack drops what is older than rules look back.
func keepBack(points []metric.Point, back time.Duration) []metric.Point {
	old, now := 0, points[len(points)-1].At
	for now.Sub(points[old].At) > back {
		old++
	}
	return points[old:]
}
