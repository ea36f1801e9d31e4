package fleet

import (
	"fmt"
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
	for what, n := range all.counts {
		text := words.Are(n, "instance") + " " + what
		if first := atOnce.counts[what]; first < n {
			text += fmt.Sprintf(" (%s now)", map[bool]string{true: "none", false: strconv.Itoa(first)}[first == 0])
		}
		out.Effects = append(out.Effects, text)
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

// foreseen is what some decisions do.
type foreseen struct {
	counts map[string]int // of launches and ends, by what they are
	left   map[string]bool
}

// foreseeDepth is how many decisions are looked ahead.
const foreseeDepth = 64

// foresee tells what is decided first, and in all if every machine comes up and every
// request is done at once. A rollout's own steps are not looked ahead.
func foresee(now time.Time, v View) (first, all foreseen) {
	first, all = foreseen{map[string]int{}, map[string]bool{}}, foreseen{map[string]int{}, map[string]bool{}}
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
			what := ""
			switch {
			case in.State == Ordered && old.State != Ordered:
				what = "launched, on " + in.Version.String()
			case (in.State == Draining || in.State == Leaving) && (old.State.Counts() || old.State == Parked):
				what = "drained and stopped, from " + in.Version.String()
				all.left[in.ID] = true
				if depth == 0 {
					first.left[in.ID] = true
				}
			}
			if what != "" {
				all.counts[what]++
				if depth == 0 {
					first.counts[what]++
				}
			}
		}
		if d.Group != nil {
			v.Group = *d.Group
		}
		if len(d.Changed) == 0 || v.Rollout != nil {
			break
		}
		v.comesTrue(now)
	}
	return first, all
}

// comesTrue lets what is under way be done: machines come up well, and those on their
// way out are gone.
func (v *View) comesTrue(now time.Time) {
	for i := range v.Instances {
		switch in := &v.Instances[i]; {
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
		}
	}
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
