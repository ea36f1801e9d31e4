package gate

import (
	"fmt"
	"math"
	"time"
)

// Kind is what a gate compares.
type Kind string

// The kinds: the share of requests that failed (answered 500 or more, or not at all); the
// share of those that took longer than 95 of 100 answers of the old version did in the five
// minutes before the wave.
const (
	Errors  Kind = "errors"
	Latency Kind = "latency"
	Healthy Kind = "healthy" // the share of new instances that are well; compares nothing
	Serving Kind = "serving" // how many instances of the group serve; compares nothing
	Metric  Kind = "metric"  // the share of samples of a metric that are past a threshold
)

// Compares reports whether a gate of the kind compares what new and old answer.
func (k Kind) Compares() bool { return k == Errors || k == Latency || k == Metric }

// UsualMargin is by how much new may be worse unless somebody says otherwise: half a point
// of errors; twice as many slow ones as the old version has; ten points of samples.
func (k Kind) UsualMargin() float64 {
	switch k {
	case Latency:
		return 0.05
	case Metric:
		return 0.1
	}
	return 0.005
}

// Then is what happens when a gate breaks, or is undecided when its soak is over.
type Then string

// What may happen: the rollout is held; it goes back; it goes on; the soak lasts longer.
const (
	Hold   Then = "hold"
	Revert Then = "revert"
	GoOn   Then = "go-on"
	Extend Then = "extend"
)

// Alpha is in how many of all rollouts of a version that is no worse than it may be any of
// its gates may break.
const Alpha = 0.01

// Gate is a condition that must hold during a rollout, and what was seen of it when the
// rollout last changed.
type Gate struct {
	Kind Kind `json:"kind"`
	// Margin is by how much the share of new may be higher than that of old, 0 to 0.5.
	Margin float64 `json:"margin"`
	// Warm is how long the answers of an instance are left out after it began to serve, up
	// to an hour.
	Warm time.Duration `json:"warm"`
	// OnBroken is [Hold] or [Revert].
	OnBroken Then `json:"broken"`
	// MinRequests is how many outcomes of new a wave must have had at the end of its soak, 0 to a
	// million. Undecided is what happens when there were fewer: [GoOn], [Hold] or [Extend],
	// for as long again as the soak, up to [LongestExtension] and then held.
	MinRequests int64 `json:"least"`
	OnUndecided Then  `json:"undecided"`
	// Floor is what a gate that compares nothing breaks below: percent of the new
	// instances, or how many serve.
	Floor float64 `json:"floor,omitempty"`

	// Metric is what a gate on a metric looks at, and At the line: samples above it are bad,
	// with Below those below it.
	Metric string  `json:"metric,omitempty"`
	At     float64 `json:"at,omitempty"`
	Below  bool    `json:"below,omitempty"`

	// Value is what it looks at now, of so many that were judged; in no record.
	Value  float64 `json:"-"`
	Judged int     `json:"-"`
	// Eased is how much less than the floor is enough now, as what was lost before is not the rollout's; in
	// no record.
	Eased float64 `json:"-"`

	// Served is of a gate on how many serve what they were at most since it began or was told to proceed,
	// and one; 0 before it looked.
	Served int `json:"served,omitempty"`

	Seen Comparison `json:"seen"`
	// Before is how many outcomes of new there were before the present wave.
	Before int64 `json:"before"`
}

// LongestExtension is how much longer a soak lasts at most for want of outcomes.
const LongestExtension = 10 * time.Minute

// Usual is the gate that rollouts have unless somebody says otherwise.
func Usual() Gate {
	return Gate{Kind: Errors, Margin: Errors.UsualMargin(), OnBroken: Revert, OnUndecided: GoOn}
}

// Validate reports the first setting that is out of its range, by the name of its field.
func (g Gate) Validate() (field string, err error) {
	switch {
	case !g.Kind.Compares() && g.Kind != Healthy && g.Kind != Serving:
		return "kind", fmt.Errorf("%q is no kind of gate; there are errors, latency, healthy, serving and metric", g.Kind)
	case g.Kind == Metric && g.Metric == "":
		return "metric", fmt.Errorf("say which metric; give one such as cpu or scrape:NAME")
	case g.Kind == Metric && (math.IsNaN(g.At) || math.IsInf(g.At, 0)):
		return "above", fmt.Errorf("the threshold is no number")
	case g.Kind != Metric && (g.Metric != "" || g.At != 0 || g.Below):
		return "metric", fmt.Errorf("a gate on %s looks at no metric; leave it out", g.Kind)
	case g.Kind == Healthy && !(g.Floor > 0 && g.Floor <= 100):
		return "floor", fmt.Errorf("the floor is %g %%; give over 0 to 100 percent of the new instances", g.Floor)
	case g.Kind == Serving && !(g.Floor >= 1 && g.Floor <= 10_000):
		return "floor", fmt.Errorf("the floor is %g; give how many must serve, 1 to 10000", g.Floor)
	case math.IsNaN(g.Margin) || g.Margin < 0 || g.Margin > 0.5:
		return "margin_percent", fmt.Errorf("the margin is %g points; give 0 to 50", g.Margin*100)
	case g.Warm < 0 || g.Warm > time.Hour:
		return "warm_seconds", fmt.Errorf("warm is %s; give 0s to 1h", g.Warm)
	case g.OnBroken != Hold && g.OnBroken != Revert:
		return "on_broken", fmt.Errorf("%q is not what a broken gate may do; give hold or revert", g.OnBroken)
	case g.MinRequests < 0 || g.MinRequests > 1_000_000:
		return "min_requests", fmt.Errorf("min-requests is %d; give 0 to 1000000 requests", g.MinRequests)
	case g.OnUndecided != GoOn && g.OnUndecided != Hold && g.OnUndecided != Extend:
		return "on_undecided", fmt.Errorf("%q is not what an undecided gate may do; give go-on, hold or extend", g.OnUndecided)
	}
	return "", nil
}

// Past reports whether a sample of its metric is a bad one.
func (g Gate) Past(v float64) bool {
	if g.Below {
		return v < g.At
	}
	return v > g.At
}

// State is what a gate says.
type State string

// The states: nothing speaks against new; too little was seen; new is worse.
const (
	Good      State = "good"
	Undecided State = "undecided"
	Broken    State = "broken"
)

// State is that of the gate, one of so many in its rollout, by what it has seen.
func (g Gate) State(of int) State {
	switch {
	case !g.Kind.Compares() && g.Judged == 0:
		return Undecided
	case !g.Kind.Compares():
		if g.Value < g.Floor-g.Eased {
			return Broken
		}
		return Good
	case g.Seen.Breaks(Alpha / float64(max(of, 1))):
		return Broken
	case g.Seen.New.N == 0, g.Seen.Old.N == 0, g.Seen.New.N-g.Before < g.MinRequests:
		return Undecided
	}
	return Good
}

// Alarming reports whether there is nothing to compare with and more than half of what new answers is
// bad: nothing goes on by itself then.
func (g Gate) Alarming() bool {
	return g.Kind.Compares() && g.Seen.Old.N == 0 && g.Seen.New.N >= alarmed && 2*g.Seen.New.Bad > g.Seen.New.N
}

// alarmed is how many outcomes that takes.
const alarmed = 50

// Few is of how many new instances a gate on a metric only holds: too few to tell what is the version's
// from what is the instance's.
const Few = 2

// UsualFloor is what a gate that compares nothing breaks below unless somebody says
// otherwise: all new instances are to be well; for how many serve there is none.
func (k Kind) UsualFloor() float64 {
	if k == Healthy {
		return 100
	}
	return 0
}
