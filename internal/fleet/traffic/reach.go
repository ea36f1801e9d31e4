package traffic

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Reached is how far a region is: how long a connection there takes to be made, 0 when that is
// not known.
type Reached struct {
	Region string
	Took   time.Duration
}

// Nearest orders regions by how long connections take. One of which nothing is known comes last.
// Two that differ by less than a fifth stay as they were, so that noise moves no traffic.
func Nearest(regions, before []Reached) []Reached {
	order := slices.Clone(regions)
	place := func(region string) int {
		if i := slices.IndexFunc(before, func(r Reached) bool { return r.Region == region }); i >= 0 {
			return i
		}
		return len(before)
	}
	slices.SortFunc(order, func(a, b Reached) int {
		return cmp.Or(cmp.Compare(place(a.Region), place(b.Region)), cmp.Compare(a.Region, b.Region))
	})
	for swapped := true; swapped; {
		swapped = false
		for i := 1; i < len(order); i++ {
			a, b := order[i-1], order[i]
			if b.Took > 0 && (a.Took == 0 || float64(b.Took) < 0.8*float64(a.Took)) {
				order[i-1], order[i], swapped = b, a, true
			}
		}
	}
	return order
}

// Region is what a pool has in one region.
type Region struct {
	Name      string
	Open, All int // targets
}

// Reach tells how many of the regions, the nearest first, share the requests: as few as have
// one among them with enough percent healthy. When none has, all do. why tells of a spill.
func Reach(regions []Region, enough int) (n int, why string) {
	for i, r := range regions {
		if r.Open > 0 && r.Open*100 >= r.All*enough {
			switch {
			case i == 0:
				return 1, ""
			case regions[0].All == 0:
				return i + 1, fmt.Sprintf("%s has no targets, so %s has the requests", regions[0].Name, r.Name)
			}
			return i + 1, fmt.Sprintf("%s: %d of %d healthy and %d %% wanted, so %s shares", regions[0].Name, regions[0].Open, regions[0].All, enough, r.Name)
		}
	}
	if len(regions) == 0 {
		return 0, ""
	}
	return len(regions), fmt.Sprintf("no region has %d %% healthy, so all share", enough)
}
