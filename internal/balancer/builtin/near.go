package builtin

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/fleet/traffic"
)

// near is how a listener prefers regions: in which order, the nearest first.
type near struct {
	order  []balancer.Reached
	enough int
	key    string
}

func newNear(order []balancer.Reached, enough int) *near {
	names := make([]string, len(order))
	for i, r := range order {
		names[i] = r.Region
	}
	return &near{order: order, enough: enough, key: strings.Join(names, "\x00") + "\x00" + strconv.Itoa(enough)}
}

// nearLane are the targets of a lane that share a listener's requests, as the targets were when
// somebody last looked; at is when that is too long ago.
type nearLane struct {
	lane *lane
	why  string
	at   time.Time
}

// lookNear is for how long a look at which regions are healthy holds. Whatever closes a target
// makes another lane as well, so this is only for what came between.
const lookNear = 200 * time.Millisecond

// within is the lane of the regions that share the requests, and why there are more than one.
func (l *lane) within(n *near, now time.Time) (*lane, string) {
	if n == nil || len(n.order) == 0 {
		return l, ""
	}
	if have, ok := l.near.Load(n.key); ok && now.Before(have.(*nearLane).at) {
		return have.(*nearLane).lane, have.(*nearLane).why
	}
	made := l.reach(n)
	made.at = now.Add(lookNear)
	l.near.Store(n.key, made)
	return made.lane, made.why
}

func (l *lane) reach(n *near) *nearLane {
	regions := make([]traffic.Region, 0, len(n.order)+1)
	of := func(name string) *traffic.Region {
		for i := range regions {
			if regions[i].Name == name {
				return &regions[i]
			}
		}
		regions = append(regions, traffic.Region{Name: name})
		return &regions[len(regions)-1]
	}
	for _, r := range n.order {
		of(r.Region)
	}
	for _, t := range l.targets {
		r := of(t.region) // one that nobody named is the farthest
		r.All++
		if t.isOpen() {
			r.Open++
		}
	}
	regions = slices.DeleteFunc(regions, func(r traffic.Region) bool { return r.All == 0 })
	reach, why := traffic.Reach(regions, n.enough)
	if reach == len(regions) {
		return &nearLane{lane: l, why: why}
	}
	some := &lane{leastBusy: l.leastBusy, tryAll: l.tryAll, known: l.known, slow: l.slow, even: true, spoken: l.spoken}
	for _, t := range l.targets {
		if slices.ContainsFunc(regions[:reach], func(r traffic.Region) bool { return r.Name == t.region }) {
			some.targets = append(some.targets, t)
		}
	}
	some.ready()
	return &nearLane{lane: some, why: why}
}

// measured orders regions by how long connections to their targets take to be made: the median
// of the targets' last. One of which nothing is known comes last, by name. Two that differ by
// less than a fifth stay as they were, so that noise moves no traffic.
func measured(targets []*target, took func(*target) time.Duration, before []balancer.Reached) []balancer.Reached {
	byRegion := map[string][]time.Duration{}
	for _, t := range targets {
		if d := took(t); d > 0 {
			byRegion[t.region] = append(byRegion[t.region], d)
		} else if byRegion[t.region] == nil {
			byRegion[t.region] = []time.Duration{}
		}
	}
	order := make([]balancer.Reached, 0, len(byRegion))
	for region, all := range byRegion {
		r := balancer.Reached{Region: region}
		if len(all) > 0 {
			slices.Sort(all)
			r.Took = all[len(all)/2]
		}
		order = append(order, r)
	}
	place := func(region string) int {
		if i := slices.IndexFunc(before, func(r balancer.Reached) bool { return r.Region == region }); i >= 0 {
			return i
		}
		return len(before)
	}
	slices.SortFunc(order, func(a, b balancer.Reached) int {
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
