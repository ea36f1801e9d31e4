// Package gate compares what new instances do with what old ones do, by a test that is
// valid whenever one looks.
//
// Two streams of yes and no (a request failed, or was slow) are held against each other:
// new may say yes up to a margin more often than old. The evidence against that is a
// product of likelihood ratios, one factor for each block of outcomes, whose numerator was
// estimated from the blocks before: an E-variable (Turner, Ly, Grünwald, "Generic
// E-variables for exact sequential k-sample tests that allow for optional stopping", 2021;
// with a margin: Turner, Grünwald, "Exact anytime-valid confidence intervals for
// contingency tables and beyond", 2022). One bad block may make the next bets bad, so the
// evidence is a mixture of such products that begin anew at each block, the one that begins at
// block n with the weight 1/n(n+1): what one loses at first sinks no other. Half of it bets by
// all that was seen, the other half by what was seen lately. A mixture is an E-variable as well. While new is no worse than it may be, the chance that the evidence ever
// reaches 1/α is at most α, however often it is looked at (Ville, 1939).
package gate

import (
	"math"
	"time"
)

// Count is how many outcomes there were, and how many of them were bad.
type Count struct {
	N   int64 `json:"n"`
	Bad int64 `json:"bad"`
}

// Share is the share of bad ones, 0 to 1; 0 when there were none at all.
func (c Count) Share() float64 {
	if c.N == 0 {
		return 0
	}
	return float64(c.Bad) / float64(c.N)
}

func (c Count) add(o Count) Count { return Count{c.N + o.N, c.Bad + o.Bad} }

// Comparison is the evidence so far that new is worse than old by more than a margin. The
// zero value has seen nothing.
type Comparison struct {
	New Count `json:"new"`
	Old Count `json:"old"`
	// LogE is the natural logarithm of the evidence, of as many blocks as Blocks; LogBegun is that of the
	// part of it that has begun to bet.
	LogE     float64 `json:"log_e"`
	Blocks   int     `json:"blocks,omitempty"`
	LogBegun float64 `json:"log_begun,omitempty"`
	// Lately is the same of who bets by what was seen lately alone.
	Lately *Lately `json:"lately,omitempty"`
	// Line is what the answers of the present wave are held against: slower ones are bad. 0
	// when they are held against nothing of that kind, or it is not known yet.
	Line time.Duration `json:"line"`
	// Trace is how it came to be so, oldest first: at most [MostTraced] points.
	Trace []Point `json:"trace,omitempty"`
}

// Stretch is how long the samples of one instance are one outcome: they follow from each other for as long
// as a burst of load lasts, and so do not count one by one.
const Stretch = 5 * time.Minute

// Outcome makes one outcome of the samples of an instance in a stretch: bad when more than half of them
// are. Of fewer than so many it is none.
func (c Count) Outcome(least int64) Count {
	switch {
	case c.N < max(least, 1):
		return Count{}
	case 2*c.Bad > c.N:
		return Count{N: 1, Bad: 1}
	}
	return Count{N: 1}
}

// Point is what had been seen at a moment.
type Point struct {
	At   time.Time `json:"at"`
	New  float64   `json:"new"` // share of bad ones since the point before, 0 to 1
	Old  float64   `json:"old"`
	LogE float64   `json:"log_e"`
	// Seen are the counts until then.
	SeenNew Count `json:"seen_new"`
	SeenOld Count `json:"seen_old"`
}

// MostTraced is how many points are kept; of more every second one goes.
const MostTraced = 120

// Traced is the comparison with one more point of its trace, where anything was seen since
// the last. Points lie at least as far apart as the trace is full.
func (c Comparison) Traced(at time.Time) Comparison {
	var last Point
	if n := len(c.Trace); n > 0 {
		last = c.Trace[n-1]
	}
	if c.New == last.SeenNew && c.Old == last.SeenOld {
		return c
	}
	since := func(is, was Count) float64 { return Count{is.N - was.N, is.Bad - was.Bad}.Share() }
	kept := c.Trace
	if len(kept) >= MostTraced {
		half := make([]Point, 0, MostTraced)
		for k := 0; k < len(kept); k += 2 { // the first stays
			half = append(half, kept[k])
		}
		kept = half
	}
	c.Trace = append(kept[:len(kept):len(kept)], Point{At: at, New: since(c.New, last.SeenNew), Old: since(c.Old, last.SeenOld), LogE: c.LogE, SeenNew: c.New, SeenOld: c.Old})
	return c
}

// prior is the weight, in outcomes, with which each estimate begins on either side (0.18 is
// what Turner et al. found to lose least against an oracle).
const prior = 0.18

// Add takes in the outcomes of one block, which arrived between two looks. margin is by how
// much the share of bad ones may be higher in new than in old, 0 to 1. Blocks are bet on by
// what was seen before them, so their order matters and an empty one changes nothing.
func (c Comparison) Add(fresh, old Count, margin float64) Comparison {
	if fresh.N+old.N == 0 {
		return c
	}
	lately := Lately{New: weighed(c.New), Old: weighed(c.Old), LogBegun: c.LogBegun} // of what was kept without it
	if c.Lately != nil {
		lately = *c.Lately
	}
	if c.New.N > 0 && c.Old.N > 0 {
		c.Blocks++
		c.LogBegun = c.begin(c.LogBegun, bet(weighed(c.New), weighed(c.Old), fresh, old, margin))
		lately.LogBegun = c.begin(lately.LogBegun, bet(lately.New, lately.Old, fresh, old, margin))
		begun := logSum(c.LogBegun, lately.LogBegun) - math.Ln2
		c.LogE = logSum(begun, -math.Log(float64(c.Blocks)+1)) // what has yet to begin has bet nothing
	}
	c.New, c.Old = c.New.add(fresh), c.Old.add(old)
	lately.New, lately.Old = lately.New.then(fresh), lately.Old.then(old)
	c.Lately = &lately
	return c
}

// begin is the evidence that has begun to bet after a block with the logarithm of its likelihood ratio: one
// more product begins at it.
func (c Comparison) begin(begun, ratio float64) float64 {
	n := float64(c.Blocks)
	begins := -math.Log(n * (n + 1))
	switch {
	case c.Blocks > 1:
		begins = logSum(begins, begun)
	case c.LogE != 0: // it was kept before there were several
		begins = c.LogE
	}
	return begins + ratio
}

// Lately is who bets by what was seen lately: the weight of a block halves with each [halfLife] of further
// ones, so that one bad second is soon forgotten on whichever side it was.
type Lately struct {
	New      Weighed `json:"new"`
	Old      Weighed `json:"old"`
	LogBegun float64 `json:"log_begun"`
}

const halfLife = 6 // blocks

// Weighed are counts that weigh less with time.
type Weighed struct {
	N   float64 `json:"n"`
	Bad float64 `json:"bad"`
}

func weighed(c Count) Weighed { return Weighed{float64(c.N), float64(c.Bad)} }

// then is the same one block later.
func (w Weighed) then(c Count) Weighed {
	less := math.Exp2(-1.0 / halfLife)
	return Weighed{less*w.N + float64(c.N), less*w.Bad + float64(c.Bad)}
}

// logSum is the logarithm of the sum of two numbers of which the logarithms are given.
func logSum(a, b float64) float64 {
	a, b = max(a, b), min(a, b)
	return a + math.Log1p(math.Exp(b-a))
}

// bet is the logarithm of a block's likelihood ratio.
func bet(seenNew, seenOld Weighed, fresh, old Count, margin float64) float64 {
	a, b := estimate(seenNew), estimate(seenOld)
	if a <= b+margin { // new looks no worse than it may be: nothing is bet
		return 0
	}
	q := nearest(a, b, float64(fresh.N), float64(old.N), margin)
	return logRatio(fresh, a, q+margin) + logRatio(old, b, q)
}

func estimate(w Weighed) float64 { return (w.Bad + prior) / (w.N + 2*prior) }

// logRatio is how much likelier outcomes are with the share p than with q.
func logRatio(c Count, p, q float64) float64 {
	var sum float64
	if c.Bad > 0 {
		sum += float64(c.Bad) * math.Log(p/q)
	}
	if good := c.N - c.Bad; good > 0 {
		sum += float64(good) * math.Log((1-p)/(1-q))
	}
	return sum
}

// nearest is the share q of old for which (q+margin, q) is nearest to (a, b): it minimises
// the Kullback-Leibler divergence, weighted by the outcomes of the block, which is convex.
func nearest(a, b, n, m, margin float64) float64 {
	const tiny = 1e-12
	low, high := tiny, 1-margin-tiny
	far := func(q float64) float64 { return n*divergence(a, q+margin) + m*divergence(b, q) }
	golden := (math.Sqrt(5) - 1) / 2
	x, y := high-golden*(high-low), low+golden*(high-low)
	fx, fy := far(x), far(y)
	for range 60 {
		if fx < fy {
			high, y, fy = y, x, fx
			x = high - golden*(high-low)
			fx = far(x)
		} else {
			low, x, fx = x, y, fy
			y = low + golden*(high-low)
			fy = far(y)
		}
	}
	return (low + high) / 2
}

// divergence is KL(p ‖ q) of two shares.
func divergence(p, q float64) float64 {
	return p*math.Log(p/q) + (1-p)*math.Log((1-p)/(1-q))
}

// Breaks reports whether the evidence is such that new is wrongly called worse in at most
// the share alpha of cases.
func (c Comparison) Breaks(alpha float64) bool { return c.LogE >= math.Log(1/alpha) }

// mostShown caps the evidence that is told.
const mostShown = 1e9

// Evidence is how strongly the numbers speak against new: 340 is "at most 1 in 340 by
// chance". It is 1e9 at most.
func (c Comparison) Evidence() float64 { return math.Min(math.Exp(math.Min(c.LogE, 50)), mostShown) }
