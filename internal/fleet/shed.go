package fleet

import (
	"container/heap"

	"unitas/internal/fleet/placement"
)

// leaver is an instance that may be sent away, and how soon it goes: by rank, and in
// one rank by age.
type leaver struct {
	rank, age, i int
}

// leavers are a heap of them, who goes first on top.
type leavers []leaver

func (l leavers) Len() int      { return len(l) }
func (l leavers) Swap(a, b int) { l[a], l[b] = l[b], l[a] }
func (l leavers) Less(a, b int) bool {
	if l[a].rank != l[b].rank {
		return l[a].rank < l[b].rank
	}
	return l[a].age < l[b].age
}
func (l *leavers) Push(x any) { *l = append(*l, x.(leaver)) }
func (l *leavers) Pop() any {
	old := *l
	last := old[len(old)-1]
	*l = old[:len(old)-1]
	return last
}

// shed sends up to n of the eligible instances away while at least floor go on
// serving. Those that serve nobody go first, wherever they are; then the fullest
// zone gives, in it the ill, the outdated, the oldest, and of zones that are as full
// the one whose turn has the better reason.
func (d *deciding) shed(n, floor int, because Cause, eligible func(*Instance) bool) {
	if n <= 0 {
		return
	}
	if d.turned { // one of those that serve is missing for it: that is enough at a time
		floor = max(floor, d.group.Size)
	}
	zones := d.zones(Version{})
	serving := d.tally(d.group.Template).serving
	lasting := serving + d.unsettled() // those that may serve again are missed as those that do
	lines := d.leavers(len(zones), serving > floor, eligible)
	top := func(k int) int { return lines[k][0].rank }
	may := func(k int) bool { // the first of a zone
		if len(lines[k]) == 0 {
			return false
		}
		switch in := d.at(lines[k][0].i); {
		case d.group.Serves(in):
			return serving > floor
		case d.mayAgain(in):
			return lasting > floor
		}
		return true
	}
	for range n {
		z := placement.Fullest(zones, func(k int) bool { return may(k) && top(k) <= rankIdle }, nil)
		turn := false
		if z < 0 && serving > floor {
			z = d.turnToGo(lines)
			turn = z >= 0
		}
		if z < 0 {
			z = placement.Fullest(zones, may, top)
		}
		if z < 0 {
			return
		}
		next := heap.Pop(&lines[z]).(leaver)
		in := d.at(next.i)
		cause := because
		cause.Words = d.chosen(next.rank)
		if turn {
			cause.Words = ChosenTurn
		}
		numbers := Numbers{count("serving", serving), count("zone_count", zones[z].Count)}
		zones[z].Count--
		if d.group.Serves(in) {
			serving--
			lasting--
		} else if d.mayAgain(in) {
			lasting--
		}
		if d.ro == nil {
			d.countNeedless(next.i)
		}
		d.retire(next.i, cause, numbers...)
	}
}

// mayAgain reports whether an instance of what is replaced serves nobody only since the rollout goes on:
// it was well when that was told to, so it may be again, and goes only as others serve.
func (d *deciding) mayAgain(in *Instance) bool {
	if !d.ro.advances() || in.Version == d.ro.To || in.Served.IsZero() || d.group.Serves(in) {
		return false
	}
	r := newestIllness(in)
	return r != nil && r.Since.After(d.ro.Resumed)
}

// unsettled is how many those are.
func (d *deciding) unsettled() (n int) {
	if !d.ro.advances() {
		return 0
	}
	for _, i := range d.unsteady {
		if d.mayAgain(d.at(i)) {
			n++
		}
	}
	return n
}

// turnToGo is the zone whose turn it is by the order of the rollout, -1 where that leaves it
// to the balance of zones.
func (d *deciding) turnToGo(lines []leavers) int {
	if !d.replaces() {
		return -1
	}
	first := -1
	for k := range lines {
		switch {
		case len(lines[k]) == 0:
		case d.ro.Order == ZoneByZone && first < 0, d.ro.Order == OldestFirst && (first < 0 || lines[k][0].serial(d) < lines[first][0].serial(d)):
			first = k
		}
	}
	return first
}

// replaces reports whether a rollout is on its way and replaces something now: its order says who goes then.
func (d *deciding) replaces() bool {
	return d.ro.advances() && !d.outOfHours() && !d.ro.AwaitsHealing(&d.group)
}

func (l leaver) serial(d *deciding) int { return d.at(l.i).Serial }

// leavers are the eligible instances of each zone. Unless one that serves may go, these
// are among those that do more than serve.
func (d *deciding) leavers(zones int, anyOfThem bool, eligible func(*Instance) bool) []leavers {
	lines, byOrder := make([]leavers, zones), d.replaces()
	look := func(i int) {
		if in := d.at(i); in.State.Counts() && !in.Pinned && eligible(in) {
			age := in.Serial
			if d.group.Shed == ShedNewest && !(byOrder && d.ro.Order == OldestFirst) {
				age = -age
			}
			k := d.zoneIndex(in.Zone)
			lines[k] = append(lines[k], leaver{d.shedRank(in), age, i})
		}
	}
	if anyOfThem {
		for k := range lines {
			lines[k] = make(leavers, 0, d.len()/zones+1)
		}
		for i := range d.len() {
			look(i)
		}
	} else {
		for _, i := range d.unsteady {
			look(i)
		}
	}
	for k := range lines {
		heap.Init(&lines[k])
	}
	return lines
}

// The ranks of those that may go. Up to rankIdle they serve nobody.
const (
	rankFresh = iota
	rankIdle
	rankIll
	rankPast
	rankOther
)

// servesNobody reports whether an instance does no good now: it is ill, or has
// not served yet. One that served and settles again is not fresh.
func (d *deciding) servesNobody(in *Instance) bool {
	return !d.group.Serves(in) && (in.Served.IsZero() || in.State == Serving)
}

// shedRank puts those that serve nobody first, then the ill, and then goes by the
// group's order. While healing is stopped what comes up gives way to what is ill:
// the fault is likelier outside, and those that served may again.
func (d *deciding) shedRank(in *Instance) int {
	switch idle := d.servesNobody(in); {
	case idle && in.State == Serving && (!d.group.HealStopped.IsZero() || d.mayAgain(in)):
		return rankIdle
	case idle:
		return rankFresh
	case d.group.needsHealing(in):
		return rankIll
	case in.Version != d.group.Template && (d.group.Shed == ShedOutdated || d.group.Shed == ""):
		return rankPast
	}
	return rankOther
}

// chosen says why one of the rank went and no other.
func (d *deciding) chosen(rank int) string {
	switch {
	case rank <= rankIdle:
		return ChosenIdle
	case rank == rankIll:
		return ChosenIll
	case rank == rankPast:
		return ChosenPast
	case d.group.Shed == ShedNewest:
		return ChosenNewest
	}
	return ChosenOldest
}
