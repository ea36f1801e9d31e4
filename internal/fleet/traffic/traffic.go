// Package traffic decides how the requests of a pool are shared: between the
// groups that are in it, and between the instances of each.
package traffic

import (
	"fmt"
	"slices"
	"time"
)

// Algorithm says which target gets the next request.
type Algorithm string

// The ways: the next in turn, or the one with the fewest requests in flight for
// its weight. The zero value is RoundRobin.
const (
	RoundRobin Algorithm = "round-robin"
	LeastBusy  Algorithm = "least-busy"
)

// WhenNoneHealthy says what happens when no target is healthy.
type WhenNoneHealthy string

// The ways: a clear answer at once, or those that are not healthy are tried. The
// zero value is Refuse.
const (
	Refuse WhenNoneHealthy = "refuse"
	TryAll WhenNoneHealthy = "try-all"
)

// DefaultWeight is that of what has no weight of its own.
const DefaultWeight = 100

// Share is how one group shares in the requests of a pool.
type Share struct {
	Group string `json:"group"`
	// Weight is its part against the other groups, 0 to 1000.
	Weight int `json:"weight"`
	// Reserve is set for one that gets requests only when too few of the others
	// are healthy.
	Reserve bool `json:"reserve"`
}

// Sharing are how a pool shares its requests.
type Sharing struct {
	Algorithm       Algorithm
	WhenNoneHealthy WhenNoneHealthy
	// SlowStart is how long a fresh target takes to come to its full share.
	SlowStart time.Duration
	// Shares are of groups that do not share as their targets do. With none, every
	// target of every group has the same part; with any, groups share by weight
	// whatever their sizes.
	Shares []Share
	// Enough is the share in percent of the sizes of the groups that are no
	// reserve that must be healthy; below it the reserve takes over.
	Enough int
	// Weights are of single instances against the others of their group.
	Weights map[string]int
	Targets
}

// Group is one group of the pool as it is now.
type Group struct {
	Name    string
	Size    int
	Targets []Target
}

// Target is one instance.
type Target struct {
	Instance string
	Open     bool // gets requests
}

// Validate reports settings that cannot be.
func (s *Sharing) Validate() (field string, err error) {
	seen := map[string]bool{}
	weighed := len(s.Shares) == 0
	for i, share := range s.Shares {
		if seen[share.Group] {
			return fmt.Sprintf("shares/%d/group", i), fmt.Errorf("the group %s is named twice", share.Group)
		}
		seen[share.Group] = true
		weighed = weighed || share.Weight > 0
	}
	if !weighed {
		return "shares", fmt.Errorf("every group has the weight 0, so nobody would get requests; give one of them a weight of at least 1")
	}
	return s.Targets.validate()
}

// Share is how the group shares; groups that are not named have the usual weight.
func (s *Sharing) Share(group string) Share {
	if i := slices.IndexFunc(s.Shares, func(share Share) bool { return share.Group == group }); i >= 0 {
		return s.Shares[i]
	}
	return Share{Group: group, Weight: DefaultWeight}
}

// TakenOver reports whether the reserve has the requests, and why: the healthy
// share of the others is below Enough and that of the reserve is not. With too
// few of both everybody has a part.
func (s *Sharing) TakenOver(groups []Group) (byReserve, byAll bool, why string) {
	var open, size, reserveOpen, reserveSize int
	for _, g := range groups {
		n := 0
		for _, t := range g.Targets {
			if t.Open {
				n++
			}
		}
		if s.Share(g.Name).Reserve {
			reserveOpen, reserveSize = reserveOpen+n, reserveSize+g.Size
		} else {
			open, size = open+n, size+g.Size
		}
	}
	enough := func(open, size int) bool { return open > 0 && open*100 >= size*s.Enough }
	if reserveOpen == 0 || enough(open, size) {
		return false, false, ""
	}
	why = fmt.Sprintf("%d of %d are healthy and %d %% are wanted", open, size, s.Enough)
	return enough(reserveOpen, reserveSize) || open == 0, !enough(reserveOpen, reserveSize) && open > 0, why
}

// Weigh returns the weight of every instance that may get requests, by instance.
// Only their ratios mean something.
func (s *Sharing) Weigh(groups []Group) map[string]float64 {
	byReserve, byAll, _ := s.TakenOver(groups)
	weights := map[string]float64{}
	for _, g := range groups {
		share := s.Share(g.Name)
		if !byAll && share.Reserve != byReserve {
			continue
		}
		var sum float64
		for _, t := range g.Targets {
			if t.Open {
				sum += float64(s.weight(t.Instance))
			}
		}
		for _, t := range g.Targets {
			w := float64(s.weight(t.Instance))
			if len(s.Shares) > 0 && sum > 0 { // the group's part, by the parts of those that take requests
				w *= float64(share.Weight) / sum
			}
			weights[t.Instance] = w
		}
	}
	return weights
}

func (s *Sharing) weight(instance string) int {
	if w, ok := s.Weights[instance]; ok {
		return w
	}
	return DefaultWeight
}
