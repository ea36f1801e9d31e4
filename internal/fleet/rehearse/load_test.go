package rehearse

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/say"
	"unitas/internal/fleet/scaling"
)

// What plans that are sized by rules have besides: a load that is shared by what serves, so that sizing,
// rollouts and faults feed back, and a calendar.

// keepAt is what the rule of a plan keeps the load of an instance near.
const keepAt = 60.0

// rules gives the group of a plan some.
func (p *plan) rules(g *fleet.Group) {
	even := scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: []metric.Name{metric.CPU, metric.Requests}[p.r.IntN(2)], KeepAt: keepAt}
	if p.r.IntN(3) == 0 {
		even.Aggregate = metric.Total
	}
	g.Rules, g.Min = append(g.Rules, even), 1
	if p.r.IntN(4) == 0 { // what is idle is made one size
		g.Rules = append(g.Rules, scaling.Rule{Name: "idle", Kind: scaling.Trip, Metric: even.Metric, Thresholds: []scaling.Line{
			{At: 20, Below: true, For: 2 * time.Minute, Step: scaling.Step(fmt.Sprintf("=%d", 1+p.r.IntN(4)))}}})
	}
	if p.r.IntN(2) == 0 {
		g.Rules = append(g.Rules, aSpan(p.r, "span", time.Minute+p.upTo(4*time.Minute)))
	}
	for k := range g.Rules {
		g.Rules[k].Complete()
	}
	p.load = float64(g.Size) * keepAt * p.r.Float64() * 1.5
}

// aSpan draws a calendar that bounds or sets a size for a time.
func aSpan(r *rand.Rand, name string, lasts time.Duration) scaling.Rule {
	span, n := scaling.Rule{Name: name, Kind: scaling.Calendar, When: "* * * * *", Duration: lasts}, 1+r.IntN(9)
	switch r.IntN(4) {
	case 0:
		span.Min = &n
	case 1:
		span.Max = &n
	default:
		span.Size = &n
	}
	return span
}

// bears begins with the load, and has the calendar's time come.
func (p *plan) bears() {
	bears(p.w, func(time.Time) float64 { return p.load })
	p.w.View.Sizing.Times = map[string]scaling.Times{}
	if p.w.View.Group.Rule("span") == nil {
		return
	}
	at := epoch.Add(p.upTo(15 * time.Minute))
	p.w.View.Sizing.Times["span"] = scaling.Times{Next: at}
	p.w.At(at, func() { p.w.View.Sizing.Times["span"] = scaling.Times{Last: p.w.Clock()} })
}

// sizes notes another size, and expects no rule on a metric to shrink a group of which fewer answer than its size.
func (k *watch) sizes(before fleet.View, d fleet.Decision) {
	if d.Group == nil || d.Group.Size == before.Group.Size {
		return
	}
	k.p.changes++
	k.p.largest = max(k.p.largest, d.Group.Size)
	acts := 0 // a calendar may have made it smaller first
	for _, e := range d.Entries {
		if e.Kind == "group.resized" {
			acts++
			if e.Cause.About == "idle" && e.Numbers.Int("to") > e.Numbers.Int("from") {
				k.fail("sizing: what is idle is made larger: from %d to %d", e.Numbers.Int("from"), e.Numbers.Int("to"))
			}
		}
	}
	if d.Group.Size > before.Group.Size || (d.Group.SizedBy != "even" && d.Group.SizedBy != "idle") || acts > 1 {
		return
	}
	answering := map[string]bool{} // who serves since this decision, or did until it
	for _, all := range [][]fleet.Instance{before.Instances, k.p.w.View.Instances} {
		for i := range all {
			if in := &all[i]; in.State == fleet.Serving && (k.opens(in) || before.Group.Serves(in)) { // that one does not may not be known yet
				answering[in.ID] = true
			}
		}
	}
	for _, in := range d.Changed { // or for that moment alone
		if !in.Served.IsZero() && in.Since.Equal(k.p.w.Clock()) && (in.State == fleet.Draining || in.State == fleet.Leaving) {
			answering[in.ID] = true
		}
	}
	answer := len(answering)
	if b := before.Group.Bounds(k.p.w.Clock(), before.Sizing); answer < before.Group.Size && before.Group.Size <= b.Max {
		k.fail("sizing: from %d to %d while %d answer", before.Group.Size, d.Group.Size, answer)
	}
}

// mustFitLoad expects as many as the load needs, by now that it has been the same for long.
func (p *plan) mustFitLoad() {
	g := &p.w.View.Group
	_, serving := fleet.NewLedger(&p.w.View).Count(fleet.Version{})
	if p.load == 0 || p.w.View.Rollout != nil || serving < g.Size || g.Rule("idle") != nil || p.t.Failed() { // what is bad never fits, and what is idle is another size
		return
	}
	need := int(math.Ceil(p.load / keepAt))
	least := min(max(int(math.Ceil(p.load/(keepAt*1.1))), g.Min), g.Max)
	most := max(min(int(math.Ceil(p.load/(keepAt*0.9)))+1, g.Max), g.Min)
	if g.Size < least || g.Size > most {
		verdicts, _ := p.w.View.Judge(p.w.Clock())
		p.k.fail("sizing: the load of %g needs %d, and the size is %d between %d and %d: %s", p.load, need, g.Size, g.Min, g.Max, say.Thinks(p.w.Clock(), &p.w.View, verdicts[0]))
	}
}
