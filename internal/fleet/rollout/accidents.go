package rollout

import "math"

// Accidents are how often a machine fails to come up without its version being to blame: one in fifty.
// A wave is held once so many failed that as many would be accidents in fewer than one wave of a thousand.
const (
	Accidents   = 0.02
	heldWrongly = 0.001
	// FewestToHold is how many failures hold a wave at the least.
	FewestToHold = 3
)

// Holds is how many failed machines hold a wave of which so many were launched: the fewest, and at least
// [FewestToHold], of which the binomial tail is below one in a thousand.
func Holds(launched int) int {
	n := float64(max(launched, 0))
	// The chance of exactly k, from 0 on: p(k+1) = p(k) (n-k)/(k+1) q, with q the odds of an accident.
	q := Accidents / (1 - Accidents)
	p, tail := math.Pow(1-Accidents, n), 1.0
	for k := 0; k < launched; k++ {
		if k >= FewestToHold && tail < heldWrongly {
			return k
		}
		tail -= p
		p *= (n - float64(k)) / float64(k+1) * q
	}
	return max(launched, FewestToHold)
}
