package fleet

import (
	"fmt"
	"slices"
	"time"
)

// Effects tells in words what is decided first for the view: which instances
// are launched and which are sent away. It is how a change is looked at before
// it is made.
func Effects(now time.Time, v View) []string {
	if v.Group.Frozen != "" {
		return []string{"nothing now: the group is frozen"}
	}
	counts := map[string]int{}
	for _, in := range Decide(now, v).Changed {
		switch in.State {
		case Ordered:
			counts["launched, on "+in.Version.String()]++
		case Draining, Leaving:
			counts["drained and stopped, from "+in.Version.String()]++
		}
	}
	var effects []string
	for what, n := range counts {
		verb := "are"
		if n == 1 {
			verb = "is"
		}
		effects = append(effects, fmt.Sprintf("%s %s %s", count(n, "instance"), verb, what))
	}
	if len(effects) == 0 {
		return []string{"no instance is launched or stopped"}
	}
	slices.Sort(effects)
	return effects
}
