package fleet

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/words"
)

// Outlook is what a change brings about, looked at before it is made.
type Outlook struct {
	// Effects are what is decided first, and what each pool will have then.
	Effects []string
	// Caution says why a person should be asked before, or "": the change takes more
	// than one in three of what serves, or all targets of a pool.
	Caution string
}

// Effects tells what is decided first when the group becomes that of the view after:
// which instances are launched and sent away, and what the pools, which are those of
// both, will have.
func Effects(now time.Time, before, after View, pools []PoolAround) Outlook {
	var out Outlook
	if after.Group.Frozen != "" {
		out.Effects = []string{"nothing now: the group is frozen"}
		return out
	}
	was := map[string]*Instance{}
	serving := 0
	for i := range before.Instances {
		in := &before.Instances[i]
		was[in.ID] = in
		if before.Group.Serves(in) {
			serving++
		}
	}
	after.Group.Checks = checksOf(after.Group.Pools, pools)
	counts := map[string]int{}
	removed := map[string]bool{} // of those that serve
	for _, in := range Decide(now, after).Changed {
		old := was[in.ID]
		if old != nil && old.State == in.State {
			continue
		}
		switch in.State {
		case Ordered:
			counts["launched, on "+in.Version.String()]++
		case Draining, Leaving:
			counts["drained and stopped, from "+in.Version.String()]++
			if old != nil && before.Group.Serves(old) {
				removed[in.ID] = true
			}
		}
	}
	for what, n := range counts {
		out.Effects = append(out.Effects, words.Are(n, "instance")+" "+what)
	}
	if len(out.Effects) == 0 {
		out.Effects = []string{"no instance is launched or stopped"}
	}
	slices.Sort(out.Effects)
	var cautions []string
	if n := len(removed); n*3 > serving {
		cautions = append(cautions, fmt.Sprintf("%d of the %d that serve are drained and stopped at once, more than one in three", n, serving))
	}
	said, lost := poolEffects(before, after, pools, removed)
	out.Effects = append(out.Effects, said...)
	out.Caution = strings.Join(append(cautions, lost...), "; ")
	return out
}

func checksOf(names []string, pools []PoolAround) []string {
	var checks []string
	for _, p := range pools {
		if slices.Contains(names, p.Name) && !slices.Contains(checks, p.Check.Name) {
			checks = append(checks, p.Check.Name)
		}
	}
	return checks
}

// poolEffects tells what each pool will have, where that is another than before.
func poolEffects(before, after View, pools []PoolAround, removed map[string]bool) (said, lost []string) {
	for _, p := range pools {
		had, stays := 0, 0
		for i := range before.Instances {
			in := &before.Instances[i]
			if !in.TakesRequests(p.Check.Name) {
				continue
			}
			had++
			if !removed[in.ID] {
				stays++
			}
		}
		switch was, will := slices.Contains(before.Group.Pools, p.Name), slices.Contains(after.Group.Pools, p.Name); {
		case !was && !will:
		case !was:
			said = append(said, fmt.Sprintf("the pool %s sends requests to each of its instances once %s finds it healthy (%s, about %s), and new ones serve nobody before",
				p.Name, p.Check.Name, words.Count(p.Check.Passes, "pass"), words.Span(time.Duration(p.Check.Passes)*p.Check.Interval)))
		case !will && had == 0:
			said = append(said, fmt.Sprintf("the pool %s, which sends it no requests, is left", p.Name))
		case !will:
			said = append(said, fmt.Sprintf("the pool %s loses its %s of this group", p.Name, words.Count(had, "target")))
			lost = append(lost, fmt.Sprintf("the pool %s sends no more requests to this group, which has %s there", p.Name, words.Count(had, "target")))
		case stays != had:
			said = append(said, fmt.Sprintf("the pool %s keeps %d of its %s of this group", p.Name, stays, words.Count(had, "target")))
		case !slices.Equal(before.Group.Pools, after.Group.Pools):
			said = append(said, fmt.Sprintf("the pool %s keeps its %s of this group", p.Name, words.Count(had, "target")))
		}
	}
	return said, lost
}
