package traffic

import "fmt"

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
			if i == 0 {
				return 1, ""
			}
			return i + 1, fmt.Sprintf("%s: %d of %d healthy and %d %% wanted, so %s shares", regions[0].Name, regions[0].Open, regions[0].All, enough, r.Name)
		}
	}
	if len(regions) == 0 {
		return 0, ""
	}
	return len(regions), fmt.Sprintf("no region has %d %% healthy, so all share", enough)
}
