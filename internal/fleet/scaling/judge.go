package scaling

import (
	"cmp"
	"math"
	"time"

	"unitas/internal/fleet/metric"
)

// Situation is the group that rules are judged for.
type Situation struct {
	Now            time.Time
	Size, Min, Max int
	// Foreseen is what the group will have to bear soon, by rule; see [Rule.Foresee].
	Foreseen map[string]float64
}

// State is what the service keeps of a rule.
type State struct {
	Name string `json:"name"`
	// Acted is when it last changed the size, and Shrank when it last made it smaller.
	Acted  time.Time `json:"acted,omitzero"`
	Shrank time.Time `json:"shrank,omitzero"`
	// Occurred is the last time of a calendar that was acted on. Before is the size under all spans, and one,
	// while one lasts and some set another; 0 when none did.
	Occurred time.Time `json:"occurred,omitzero"`
	Before   int       `json:"before,omitempty"`
	// Sets is set while it is this span whose size counts, or once it bounded the size, and LetGo once somebody set another size since it began.
	Sets  bool `json:"sets,omitempty"`
	LetGo bool `json:"let_go,omitempty"`
}

// Why is on what a verdict rests.
type Why string

// What a rule may think.
const (
	Quiet    Why = "quiet"    // no threshold is passed, or the value is near enough
	NoData   Why = "no-data"  // no fresh samples
	Gaps     Why = "gaps"     // a lower need has gaps: nothing shrinks on it
	Lasting  Why = "lasting"  // past a threshold, not for long enough
	Tripped  Why = "tripped"  // past a threshold for long enough
	Off      Why = "off"      // far enough off the target
	Calming  Why = "calming"  // a lower need has not lasted
	Foreseen Why = "foreseen" // the same hour of the week needed more
)

// Verdict is what one rule thinks.
type Verdict struct {
	Rule string
	Why  Why
	// Want is the size it asks for, as large as now when it asks for nothing; before the
	// bounds of the group.
	Want int
	// Need is how many a steady rule finds are needed, whatever it asks for now. AtLeast tells that
	// more may be, since what was measured is as much as there can be.
	Need    int
	AtLeast bool
	// Agrees tells that it has nothing against a smaller group; Floor is how small.
	Agrees bool
	Floor  int
	// Point is the metric now.
	Point metric.Point
	// Line is that which is passed: its index; -1 for none.
	Line int
	// Past is for how long the line is passed, or a lower need lasts.
	Past time.Duration
	// Until is when it has cooled down; zero when it has.
	Until time.Time
	// Foreseen is what the group will have to bear.
	Foreseen float64
}

// Judge is what a trip or steady rule thinks of the points of its metric, oldest first.
func (r *Rule) Judge(s Situation, state State, points []metric.Point) Verdict {
	v := Verdict{Rule: r.Name, Why: Quiet, Want: s.Size, Need: s.Size, Line: -1}
	last := len(points) - 1
	for last >= 0 && !points[last].Known() {
		last--
	}
	if last >= 0 {
		v.Point = points[last]
	}
	if last < 0 || v.Point.At.Before(s.Now.Add(-StaleAfter)) {
		v.Why = NoData
		return v
	}
	gap := last < len(points)-1 // it is not known now, and was shortly before
	points = points[:last+1]
	if until := state.Acted.Add(r.Cooldown); !state.Acted.IsZero() && s.Now.Before(until) {
		v.Until = until
	}
	if r.Kind == Trip {
		r.judgeLines(s, state, points, &v)
	} else {
		r.judgeSteady(s, state, points, &v)
	}
	if gap {
		v.Agrees = false
		if v.Want < s.Size {
			v.Want, v.Why = s.Size, Gaps
		}
	}
	return v
}

// StaleAfter is how old the newest sample of a metric may be.
const StaleAfter = 3 * metric.Every

// judgeLines looks for the line that asks for most. The time past a line begins anew when the
// rule acts.
func (r *Rule) judgeLines(s Situation, state State, points []metric.Point, v *Verdict) {
	up, down, lowers := -1, -1, false
	for k, l := range r.Thresholds {
		lowers = lowers || l.Below
		past, whole := l.past(s.Now, state.Acted, points)
		if past <= 0 {
			continue
		}
		if past < l.For {
			if v.Line < 0 {
				v.Why, v.Line, v.Past = Lasting, k, past
			}
			continue
		}
		want := l.want(s.Size)
		switch {
		case !l.Below && (up < 0 || want > r.Thresholds[up].want(s.Size)):
			up = k
		case l.Below && !whole:
			v.Why, v.Line, v.Past = Gaps, k, past
		case l.Below && (down < 0 || want < r.Thresholds[down].want(s.Size)):
			down = k
		}
	}
	v.Agrees = !lowers // it never asks for fewer, and cannot agree
	if k := cmp.Or(up+1, down+1) - 1; k >= 0 {
		v.Why, v.Line, v.Want = Tripped, k, r.Thresholds[k].want(s.Size)
		v.Past, _ = r.Thresholds[k].past(s.Now, state.Acted, points)
		v.Agrees = v.Want < s.Size
	}
	for _, l := range r.Thresholds {
		if !l.Below && l.passed(v.Point) {
			v.Agrees = false
		}
	}
	v.Floor = v.Want
	if !lowers {
		v.Floor = 0
	}
}

// want is the size that the line asks for: one above never makes a group smaller, one below never larger,
// whatever number its step goes to.
func (l Line) want(size int) int {
	if l.Below {
		return min(l.Step.From(size), size)
	}
	return max(l.Step.From(size), size)
}

func (l Line) passed(p metric.Point) bool {
	if !p.Known() {
		return false
	}
	if l.Below {
		return p.Value < l.At
	}
	return p.Value > l.At
}

// past is for how long up to now the line has been passed without a gap, since a time; and
// whether all that should have been measured was.
func (l Line) past(now, since time.Time, points []metric.Point) (past time.Duration, whole bool) {
	whole = true
	begun := time.Time{}
	next := now
	for k := len(points) - 1; k >= 0; k-- {
		p := points[k]
		if p.At.Before(since) || !l.passed(p) || next.Sub(p.At) > StaleAfter {
			break
		}
		begun, next = p.At, p.At
		if now.Sub(begun) <= l.For+metric.Every {
			whole = whole && p.Missing == 0
		}
	}
	if begun.IsZero() {
		return 0, false
	}
	return now.Sub(begun), whole
}

// judgeSteady grows at once to what the load of now needs, and shrinks to what was needed at
// most while it was calm.
func (r *Rule) judgeSteady(s Situation, state State, points []metric.Point, v *Verdict) {
	load := v.Point.Load(r.Aggregate)
	v.Need, v.AtLeast = r.needs(load), r.hides(v.Point)
	v.Floor = v.Need
	off := load / (r.KeepAt * float64(max(s.Size, 1)))
	if s.Size == 0 && load > 0 {
		off = math.Inf(1)
	}
	foreseen, known := s.Foreseen[r.Name]
	if known {
		v.Foreseen = foreseen
		v.Floor = max(v.Floor, r.needs(foreseen))
	}
	switch {
	case off > 1+r.Band/100:
		if v.Need > s.Size {
			v.Why, v.Want = Off, v.Need
		}
	case known && r.needs(foreseen) > s.Size:
		v.Why, v.Want = Foreseen, r.needs(foreseen)
	case off < 1-r.Band/100:
		r.judgeLower(s, state, points, v)
	}
}

// hides reports whether a point may hide how much there is to bear: an instance is full.
func (r *Rule) hides(p metric.Point) bool {
	each := p.Value
	if r.Aggregate == metric.Total {
		each /= float64(max(p.Serving, 1))
	}
	return r.Metric.Hides(each)
}

// needs is how many instances a load needs.
func (r *Rule) needs(load float64) int {
	n := math.Ceil(load/r.KeepAt - 1e-9)
	if math.IsNaN(n) || n < 0 {
		return 0
	}
	return int(min(n, 1e6))
}

// judgeLower has the group shrink once the lower need has lasted.
func (r *Rule) judgeLower(s Situation, state State, points []metric.Point, v *Verdict) {
	if v.AtLeast { // that fewer are needed is not known
		v.Floor = s.Size
		return
	}
	most, whole, begun, next := v.Floor, true, s.Now, s.Now
	for k := len(points) - 1; k >= 0 && s.Now.Sub(begun) < r.Calm; k-- {
		p := points[k]
		if next.Sub(p.At) > StaleAfter || !p.Known() {
			whole = whole && p.Known()
			break
		}
		need := r.needs(p.Load(r.Aggregate))
		if need >= s.Size || r.hides(p) {
			break
		}
		most = max(most, need)
		whole = whole && p.Missing == 0
		begun, next = p.At, p.At
	}
	v.Past = s.Now.Sub(begun)
	v.Floor = most
	switch {
	case most >= s.Size || r.GrowOnly:
		v.Agrees = r.GrowOnly && most < s.Size
	case !whole:
		v.Why = Gaps
	case v.Past < r.Calm:
		v.Why = Calming
	default:
		v.Why, v.Agrees = Off, true
		v.Want = max(most, s.Size-max(1, int(float64(s.Size)*r.ShrinkRate/100)))
		if again := state.Shrank.Add(time.Minute); s.Now.Before(again) && again.After(v.Until) {
			v.Until = again
		}
	}
}

// Agreed is what all rules together come to.
type Agreed struct {
	// Want is the size, within the bounds; By is the rule that it is of, "" when it stays.
	Want int
	By   string
	// Against is the rule for which a smaller need of others does not count, or which waits.
	Against string
}

// Together is what rules come to that go by metrics: the one that asks for most wins when
// growing; shrinking needs all to agree.
func Together(s Situation, verdicts []Verdict) Agreed {
	out := Agreed{Want: s.Size}
	for _, v := range verdicts {
		if want := min(v.Want, s.Max); want > out.Want && v.Until.IsZero() {
			out.Want, out.By = want, v.Rule
		}
	}
	if out.By != "" || len(verdicts) == 0 {
		return out
	}
	most := Verdict{Want: -1}
	for _, v := range verdicts {
		if v.Want < s.Size && v.Agrees && v.Until.IsZero() && v.Want > most.Want {
			most = v
		}
	}
	if most.Rule == "" {
		return out
	}
	floor := max(most.Want, s.Min)
	for _, v := range verdicts {
		if !v.Agrees || (v.Want < s.Size && !v.Until.IsZero()) {
			out.Against = v.Rule
			return out
		}
		floor = max(floor, v.Floor)
	}
	if floor < s.Size {
		out.Want, out.By = floor, most.Rule
	}
	return out
}
