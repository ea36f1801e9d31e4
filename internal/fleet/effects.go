package fleet

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet/health"
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
	atOnce, all := foresee(now, after)
	removed := map[string]bool{} // at once, of those that serve
	for id := range atOnce.left {
		if old := was[id]; old != nil && before.Group.Serves(old) {
			removed[id] = true
		}
	}
	out.Effects = tellSteps(&after.Group, atOnce, all)
	if len(out.Effects) == 0 {
		out.Effects = []string{"no instance is launched or stopped"}
	}
	var cautions []string
	if n := len(removed); n*3 > serving {
		cautions = append(cautions, fmt.Sprintf("%d of the %d that serve are drained and stopped at once, more than one in three", n, serving))
	}
	said, lost := poolEffects(before, after, pools, removed)
	out.Effects = append(out.Effects, said...)
	out.Caution = strings.Join(append(cautions, lost...), "; ")
	return out
}

// step is a launch or an end, by what it is of.
type step struct {
	launched bool
	version  Version
	zone     string
}

func (s step) String() string {
	if s.launched {
		return "launched, on " + s.version.String()
	}
	return "drained and stopped, from " + s.version.String()
}

// foreseen is what some decisions do.
type foreseen struct {
	counts map[step]int
	left   map[string]bool
}

// of counts the steps of a kind in all zones.
func (f foreseen) of(launched bool, v Version) (n int) {
	for s, k := range f.counts {
		if s.launched == launched && s.version == v {
			n += k
		}
	}
	return n
}

// tellSteps tells what moves between zones, and what else is launched and stopped: in all, and
// what of it at once.
func tellSteps(g *Group, first, all foreseen) (out []string) {
	versions := map[Version]bool{}
	for s := range all.counts {
		versions[s.version] = true
	}
	for _, v := range slices.SortedFunc(maps.Keys(versions), func(a, b Version) int { return strings.Compare(a.String(), b.String()) }) {
		moved, text := tellMoves(g, v, first, all)
		for _, launched := range []bool{false, true} {
			n := all.of(launched, v) - moved
			if n <= 0 {
				continue
			}
			now := min(first.of(launched, v), n)
			text := words.Are(n, "instance") + " " + step{launched: launched, version: v}.String()
			if now < n {
				text += fmt.Sprintf(" (%s now)", map[bool]string{true: "none", false: strconv.Itoa(now)}[now == 0])
			}
			out = append(out, text)
		}
		if moved > 0 {
			out = append(out, text)
		}
	}
	return out
}

// tellMoves tells how many instances of a version are launched in other zones than as many are
// stopped in.
func tellMoves(g *Group, v Version, first, all foreseen) (moved int, text string) {
	come, leave := 0, 0
	var to []string
	zones := slices.Clone(g.Zones)
	for s := range all.counts {
		if !slices.Contains(zones, s.zone) {
			zones = append(zones, s.zone)
		}
	}
	for _, zone := range zones {
		switch more := all.counts[step{true, v, zone}] - all.counts[step{false, v, zone}]; {
		case more > 0:
			come += more
			to = append(to, zone)
		case more < 0:
			leave -= more
		}
	}
	if moved = min(come, leave); moved == 0 {
		return 0, ""
	}
	text = fmt.Sprintf("%s %s to %s", words.Count(moved, "instance"), map[bool]string{true: "moves", false: "move"}[moved == 1], strings.Join(to, " and "))
	// What else is launched or stopped comes first.
	launches := max(first.of(true, v)-(all.of(true, v)-moved), 0)
	ends := max(first.of(false, v)-(all.of(false, v)-moved), 0)
	if launches+ends == 0 {
		return moved, text + " after that"
	}
	atOnce, begins := max(launches, ends), map[bool]string{true: "launched", false: "drained and stopped"}[launches > 0]
	if atOnce < moved {
		text += fmt.Sprintf(", %s at a time", map[bool]string{true: "one", false: strconv.Itoa(atOnce)}[atOnce == 1])
	}
	return moved, text + "; first, " + words.Are(atOnce, "instance") + " " + begins
}

// foreseeDepth is how many decisions are looked ahead.
const foreseeDepth = 64

// foresee tells what is decided first, and in all if every machine comes up and every
// request is done at once. A rollout's own steps are not looked ahead.
func foresee(now time.Time, v View) (first, all foreseen) {
	first, all = foreseen{map[step]int{}, map[string]bool{}}, foreseen{map[step]int{}, map[string]bool{}}
	v.Instances, v.Ledger = slices.Clone(v.Instances), nil
	place := make(map[string]int, len(v.Instances))
	for i := range v.Instances {
		place[v.Instances[i].ID] = i
	}
	for depth := range foreseeDepth {
		d := Decide(now, v)
		for _, in := range d.Changed {
			i, known := place[in.ID]
			if !known {
				i = len(v.Instances)
				place[in.ID] = i
				v.Instances = append(v.Instances, Instance{})
			}
			old := v.Instances[i]
			v.Instances[i] = *in
			var what step
			switch {
			case in.State == Ordered && old.State != Ordered:
				what = step{true, in.Version, in.Zone}
			case (in.State == Draining || in.State == Leaving) && (old.State.Counts() || old.State == Parked):
				what = step{false, in.Version, in.Zone}
				all.left[in.ID] = true
				if depth == 0 {
					first.left[in.ID] = true
				}
			}
			if what.zone != "" {
				all.counts[what]++
				if depth == 0 {
					first.counts[what]++
				}
			}
		}
		if d.Group != nil {
			v.Group = *d.Group
		}
		// What was under way already may have to be done before anything is decided.
		if underWay := v.comesTrue(now); (len(d.Changed) == 0 && !underWay) || v.Rollout != nil {
			break
		}
	}
	return first, all
}

// comesTrue lets what is under way be done: machines come up well, and those on their
// way out are gone. It reports whether anything was.
func (v *View) comesTrue(now time.Time) (some bool) {
	for i := range v.Instances {
		in := &v.Instances[i]
		switch {
		case in.State.point() != "":
			for _, h := range v.Group.Hooks {
				if h.At == in.State.point() {
					in.put(Ticket{Hook: h.Name, At: h.At, State: TicketPassed, Counts: Pass})
				}
			}
			in.Machine.State = MachineRunning
		case in.State.ComingUp():
			in.Machine.State, in.Reports = MachineRunning, nil
			for _, check := range v.Group.AllChecks() {
				in.Reports = append(in.Reports, health.Report{Check: check, Verdict: health.Healthy, Since: now})
			}
		case in.State == Draining:
			in.Traffic = Traffic{Closed: true}
		case in.State == Leaving || in.State == Lost:
			in.Machine.State = MachineCleared
		default:
			continue
		}
		some = true
	}
	return some
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
