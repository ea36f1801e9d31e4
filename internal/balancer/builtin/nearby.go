package builtin

import (
	"context"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"unitas/internal/caught"
	"unitas/internal/fleet/traffic"
)

// nearby is how a listener prefers regions: in which order, the nearest first.
type nearby struct {
	order  []traffic.Reached
	enough int
	key    string
}

func newNearby(order []traffic.Reached, enough int) *nearby {
	names := make([]string, len(order))
	for i, r := range order {
		names[i] = r.Region
	}
	return &nearby{order: order, enough: enough, key: strings.Join(names, "\x00") + "\x00" + strconv.Itoa(enough)}
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
func (l *lane) within(n *nearby, now time.Time) (*lane, string) {
	if n == nil || len(n.order) == 0 {
		return l, ""
	}
	if have, ok := l.near.Load(n.key); ok && now.Before(have.(*nearLane).at) {
		return have.(*nearLane).lane, have.(*nearLane).why
	}
	made := l.reach(n, now)
	made.at = now.Add(lookNear)
	l.near.Store(n.key, made)
	return made.lane, made.why
}

func (l *lane) reach(n *nearby, now time.Time) *nearLane {
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
		if t.isOpen() && !t.isAside(now) {
			r.Open++
		}
	}
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

// measured are the regions of targets, each by the median of how long the last connections to its
// targets took.
func measured(targets []*target, took func(*target) time.Duration) (all []traffic.Reached) {
	byRegion := map[string][]time.Duration{}
	for _, t := range targets {
		known := byRegion[t.region]
		if d := took(t); d > 0 {
			known = append(known, d)
		}
		byRegion[t.region] = known
	}
	for region, known := range byRegion {
		r := traffic.Reached{Region: region}
		if len(known) > 0 {
			slices.Sort(known)
			r.Took = known[len(known)/2]
		}
		all = append(all, r)
	}
	return all
}

// order works out which regions are nearest.
func (d *door) order(targets []*target) {
	s := d.now.Load()
	var order []traffic.Reached
	switch s.RegionOrder {
	case traffic.InOrder:
		for _, name := range s.Regions {
			order = append(order, traffic.Reached{Region: name})
		}
	case traffic.Measured:
		if was := d.nearby.Load(); was != nil {
			order = was.order
		}
		if order = traffic.Nearest(measured(targets, func(t *target) time.Duration { return t.upstream.Load().wire.Took() }), order); len(order) == 0 {
			return
		}
	default:
		d.nearby.Store(nil)
		return
	}
	d.nearby.Store(newNearby(order, s.Enough))
}

// measure connects to a target of each region, and orders the regions anew by how long that
// takes. Regions that get no requests are known by this alone.
func (d *door) measure(ctx context.Context) {
	s := d.now.Load()
	if s.RegionOrder != traffic.Measured || !d.measuring.CompareAndSwap(false, true) {
		return
	}
	defer d.measuring.Store(false)
	var targets []*target
	byRegion := map[string][]*target{}
	for _, h := range s.pools {
		if p := h.pool.Load(); p != nil {
			targets = append(targets, p.lane.Load().targets...)
		}
	}
	for _, t := range targets {
		if t.isOpen() {
			byRegion[t.region] = append(byRegion[t.region], t)
		}
	}
	var all sync.WaitGroup
	for _, of := range byRegion {
		t := of[rand.IntN(len(of))]
		all.Go(caught.Func("measuring regions", func() {
			if c, err := t.upstream.Load().dial(ctx); err == nil {
				c.Close()
			}
		}))
	}
	all.Wait()
	d.order(targets)
}
