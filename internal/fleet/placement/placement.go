// Package placement answers one question in its two directions: which zone
// gets the next instance, and which zone gives one up.
package placement

import (
	"math"
	"slices"
)

// Spread says how the zones of a group are filled.
type Spread string

// The ways: evenly, so that zones stay within one instance of each other; the
// first zone that takes machines; the cheapest, and evenly among equal prices.
// The zero value is Even.
const (
	Even     Spread = "even"
	InOrder  Spread = "in-order"
	Cheapest Spread = "cheapest"
)

// Zone is one zone of a group with the instances that count there.
type Zone struct {
	Name  string
	Count int
	// Rank puts zones before others whatever their counts; the lowest is filled
	// first.
	Rank int
	// Open is false while launches in the zone back off after a failure.
	Open bool
}

// Rank sets the ranks of zones, given in the group's order, by the spread.
// Zones without a price are the dearest.
func Rank(zones []Zone, spread Spread, prices map[string]float64) {
	switch spread {
	case InOrder:
		for i := range zones {
			zones[i].Rank = i
		}
	case Cheapest:
		price := func(z Zone) float64 {
			if p, ok := prices[z.Name]; ok {
				return p
			}
			return math.Inf(1)
		}
		var levels []float64
		for _, z := range zones {
			levels = append(levels, price(z))
		}
		slices.Sort(levels)
		levels = slices.Compact(levels)
		for i, z := range zones {
			zones[i].Rank, _ = slices.BinarySearch(levels, price(z))
		}
	}
}

// Outside is the rank of what is in no zone of the group any more.
const Outside = math.MaxInt

// Next returns the index of the zone that gets the next instance: the
// emptiest open one of the lowest rank, the first of them in the group's order.
// It returns -1 when no zone is open.
func Next(zones []Zone) int {
	best := -1
	for i, z := range zones {
		if z.Open && (best < 0 || z.Rank < zones[best].Rank || (z.Rank == zones[best].Rank && z.Count < zones[best].Count)) {
			best = i
		}
	}
	return best
}

// Fullest returns the index of the zone that should give up an instance first
// among those for which has reports true: the fullest of the highest rank, of those
// the one for which turn is least (nil: all alike), and of those the last in the
// group's order (so that shrinking undoes growing). It returns -1 when has is false
// for all.
func Fullest(zones []Zone, has func(i int) bool, turn func(i int) int) int {
	best := -1
	for i, z := range zones {
		switch {
		case !has(i):
		case best < 0, z.Rank > zones[best].Rank, z.Rank == zones[best].Rank && z.Count > zones[best].Count:
			best = i
		case z.Rank == zones[best].Rank && z.Count == zones[best].Count && (turn == nil || turn(i) <= turn(best)):
			best = i
		}
	}
	return best
}

// Helps reports whether the zones are nearer to how they should be filled once
// one instance of the zone from is in the zone to instead.
func Helps(zones []Zone, from, to int) bool {
	a, b := zones[from], zones[to]
	return b.Rank < a.Rank || (a.Rank == b.Rank && a.Count-b.Count >= 2)
}
