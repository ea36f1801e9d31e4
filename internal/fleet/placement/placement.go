// Package placement answers one question in its two directions: which zone
// gets the next instance, and which zone gives one up, so that the zones of a
// group stay within one instance of each other.
package placement

// Zone is one zone of a group with the instances that count there.
type Zone struct {
	Name  string
	Count int
	// Open is false while launches in the zone back off after a failure.
	Open bool
}

// Next returns the index of the zone that gets the next instance: the
// emptiest open one, the first of them in the group's order. It returns -1
// when no zone is open.
func Next(zones []Zone) int {
	best := -1
	for i, z := range zones {
		if z.Open && (best < 0 || z.Count < zones[best].Count) {
			best = i
		}
	}
	return best
}

// Fullest returns the index of the zone that should give up an instance first
// among those for which has reports true: the fullest, the last of them in
// the group's order (so that shrinking undoes growing). It returns -1 when
// has is false for all.
func Fullest(zones []Zone, has func(i int) bool) int {
	best := -1
	for i, z := range zones {
		if has(i) && (best < 0 || z.Count >= zones[best].Count) {
			best = i
		}
	}
	return best
}
