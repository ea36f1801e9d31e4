package fleet

import (
	"fmt"
	"math"
	"slices"
	"time"

	"unitas/internal/fleet/placement"
)

// tally is how many instances there are, in the words of a rollout: new ones
// run the version that is being moved to, old ones any other.
type tally struct {
	counted, serving int
	newCounted       int
	newServing       int
	oldPinned        int
}

func (t tally) old() int { return t.counted - t.newCounted }

func (d *deciding) tally(to Version) tally {
	var t tally
	for i := range d.ins {
		in := &d.ins[i]
		if !in.Counts() {
			continue
		}
		serves, isNew := d.group.Serves(in), in.Version == to
		t.counted++
		if serves {
			t.serving++
		}
		switch {
		case isNew:
			t.newCounted++
			if serves {
				t.newServing++
			}
		case in.Pinned:
			t.oldPinned++
		}
	}
	return t
}

// reconcile removes what is too much and orders what is missing.
func (d *deciding) reconcile() {
	size := d.group.Size
	if d.group.Deleting {
		d.shed(d.tally(d.group.Template).counted, -1, "the group is being deleted", anyone)
		for i := range d.ins {
			if d.ins[i].State == Parked && !d.ins[i].Pinned {
				d.retire(i, "the group is being deleted", nil)
			}
		}
		return
	}
	if d.group.Alone {
		if d.group.NextSerial == 0 {
			d.order(1, d.group.Template, "a person launched it")
		}
		return
	}
	if d.ro == nil {
		d.keepSize()
		return
	}
	switch d.ro.State {
	case Moving, Soaking:
		d.replace(d.ro.To, d.ro.From, d.ro.Waves[d.ro.Wave].Of(size))
	case Reverting:
		d.replace(d.ro.From, d.ro.To, size)
	case Held:
		d.keep()
	}
}

// keepSize brings the group to its size, and for the time of a replacement up to
// above more.
func (d *deciding) keepSize() {
	size := d.group.Size
	extra := min(max(len(d.due), d.balancing()), d.group.Above)
	t := d.tally(d.group.Template)
	because := fmt.Sprintf("the group has %d and its size is %d", t.counted, size)
	d.shed(t.counted-size-extra-d.returning(), size, because, anyone)
	t = d.tally(d.group.Template)
	if k := len(d.due); k > 0 && t.counted >= size {
		in := &d.ins[d.due[0]]
		because = fmt.Sprintf("%s is to be replaced: %s %s", in.ID, d.group.Heal, in.Report(d.group.Heal.Check()).Why)
	}
	d.order(d.afford(size+extra-t.counted), d.group.Template, because)
	d.balance()
}

// returning is how many come back to serve: while they may, none goes for them.
func (d *deciding) returning() int {
	n := 0
	for i := range d.ins {
		if in := &d.ins[i]; in.State == Settling && !in.Served.IsZero() && d.now.Before(d.deadline(in)) {
			n++
		}
	}
	return n
}

// balance begins to move one instance to a zone that should have it, once the
// group is whole: a new one is launched there, and once it serves keepSize sheds
// one where there are too many.
func (d *deciding) balance() {
	size := d.group.Size
	if d.group.Above == 0 || len(d.due) > 0 {
		return
	}
	if t := d.tally(d.group.Template); t.counted != size || t.serving != size {
		return
	}
	zones := d.zones(Version{})
	to := placement.Next(zones)
	from := d.giver(zones)
	if to < 0 || from < 0 || !placement.Helps(zones, from, to) {
		for _, s := range d.group.Setbacks { // one that opens again may help
			d.lookAt(s.Until)
		}
		return
	}
	because := fmt.Sprintf("to balance the zones: %s has %d and %s has %d", zones[from].Name, zones[from].Count, zones[to].Name, zones[to].Count)
	switch {
	case from == len(d.group.Zones):
		because = fmt.Sprintf("to move out of zones that are not the group's any more, where it has %d", zones[from].Count)
	case zones[from].Rank != zones[to].Rank:
		because = fmt.Sprintf("to move from %s, which has %d, to %s, which comes first (%s)", zones[from].Name, zones[from].Count, zones[to].Name, d.group.Spread)
	}
	d.launch(zones[to].Name, d.group.Template, because, zones[to].Count+1)
}

// giver is the zone that would give up a serving instance first, or -1.
func (d *deciding) giver(zones []placement.Zone) int {
	has := make([]bool, len(zones))
	for i := range d.ins {
		if in := &d.ins[i]; d.group.Serves(in) && !in.Pinned && !in.Renew {
			has[d.zoneIndex(in.Zone)] = true
		}
	}
	return placement.Fullest(zones, func(k int) bool { return has[k] })
}

// balancing is 1 while an instance comes up for balance alone: without it there
// are enough, and with it another zone can give one up.
func (d *deciding) balancing() int {
	zones := d.zones(Version{})
	standing, coming := 0, -1
	for i := range d.ins {
		in := &d.ins[i]
		switch {
		case !in.Counts():
		case in.State.ComingUp():
			zones[d.zoneIndex(in.Zone)].Count--
			coming = i
		default:
			standing++
		}
	}
	if coming < 0 || standing < d.group.Size {
		return 0
	}
	if from := d.giver(zones); from >= 0 && placement.Helps(zones, from, d.zoneIndex(d.ins[coming].Zone)) {
		return 1
	}
	return 0
}

// replace works towards want instances on the version to: old ones go as far
// as enough others serve, new ones come as far as there is room.
func (d *deciding) replace(to, from Version, want int) {
	size, above, floor := d.group.Size, d.ro.Above, d.group.Size-d.ro.Below
	isOld := func(in *Instance) bool { return in.Version != to }
	isNew := func(in *Instance) bool { return in.Version == to }

	t := d.tally(to)
	want = d.reach(t, want)
	d.shed(t.old()-(size-want), floor, fmt.Sprintf("replaced by %s", to), isOld)
	d.shed(t.newCounted-size, floor, fmt.Sprintf("the size is %d", size), isNew)
	t = d.tally(to)
	d.shed(t.counted-size-above, floor, fmt.Sprintf("the group has %d and may have %d", t.counted, size+above), anyone)

	t = d.tally(to)
	room := size + above - t.counted
	coming := min(want-t.newCounted, room)
	because := fmt.Sprintf("%s, and %d of %d run %s", d.purpose(), t.newServing, want, to)
	if !d.walking() { // the version before is launched again, as often as its places may
		d.order(d.afford(coming), to, because)
		return
	}
	coming = d.order(coming, to, because)
	d.order(d.afford(min(size-want-t.old(), room-coming)), from,
		fmt.Sprintf("the group has %d and its size is %d", t.counted, size))
}

// reach is how many new instances a wave can end with: what it wants, or what
// is there already, less the pinned ones that are left behind.
func (d *deciding) reach(t tally, want int) int {
	return max(min(max(want, t.newCounted), d.group.Size-t.oldPinned), 0)
}

func (d *deciding) purpose() string {
	if d.ro.State == Reverting {
		return "the rollout is being reverted"
	}
	return fmt.Sprintf("wave %d of %d", d.ro.Wave+1, len(d.ro.Waves))
}

// keep holds a held rollout where it is: nothing is replaced, losses are made
// good. The new version is launched only as far as complete waves went, and not at
// all when its machines fail.
func (d *deciding) keep() {
	size, above := d.group.Size, d.ro.Above
	t := d.tally(d.ro.To)
	d.shed(t.counted-size-above, size-d.ro.Below, fmt.Sprintf("the group has %d and may have %d", t.counted, size+above), anyone)

	t = d.tally(d.ro.To)
	passed := 0
	if d.ro.Wave > 0 && d.ro.Stumbles < StumbleLimit {
		passed = d.ro.Waves[d.ro.Wave-1].Of(size)
	}
	// New instances that do not serve are no help: they may be what failed.
	helping := t.old() + t.newServing
	missing := d.afford(min(size-helping, size+above-t.counted))
	because := fmt.Sprintf("the rollout is held, and the group has %d and its size is %d", helping, size)
	ordered := d.order(min(missing, passed-t.newCounted), d.ro.To, because)
	d.order(missing-ordered, d.ro.From, because)
}

// order records up to n new instances of the version and returns how many. A
// zone that backs off gets none; with every zone backing off none are ordered
// and the decision is looked at again when the first is over.
func (d *deciding) order(n int, v Version, because string) int {
	if n <= 0 {
		return 0
	}
	// While one version replaces another, the new one is spread evenly by
	// itself: the old ones around it are on their way out.
	only := Version{}
	if d.ro != nil && d.ro.destination() == v {
		only = v
	}
	c := d.choices(v, only)
	for k := range n {
		z := c.next()
		if z < 0 {
			for _, s := range d.group.Setbacks {
				d.lookAt(s.Until)
			}
			return k
		}
		d.launch(c.all[z].Name, v, because, c.all[z].Count)
	}
	return n
}

// launch records one new instance in the zone, which then has count.
func (d *deciding) launch(zone string, v Version, because string, count int) {
	d.group.NextSerial++
	d.groupChanged = true
	d.ins = append(d.ins, Instance{
		ID:      d.group.instanceID(),
		Serial:  d.group.NextSerial,
		Zone:    zone,
		Version: v,
		Ordered: d.now,
		Pinned:  d.group.PinNew,
	})
	d.isTouched = append(d.isTouched, false)
	d.move(len(d.ins)-1, Ordered, because+d.fillPlace(d.ins[len(d.ins)-1].ID), map[string]any{"size": d.group.Size, "zone_count": count})
	d.lookAt(d.now.Add(d.group.BootLimit()))
}

// instanceID names the instance with the newest serial.
func (g *Group) instanceID() string {
	if g.Alone {
		return g.Name
	}
	return fmt.Sprintf("%s-%03x", g.Name, g.NextSerial)
}

func anyone(*Instance) bool { return true }

// shed sends up to n of the eligible instances away while at least floor go on
// serving. Those that serve nobody go first, wherever they are; then the fullest
// zone gives, in it the ill, the outdated, the oldest. While healing is stopped an
// ill one that goes counts as healed, so that shedding is no way round the limit.
func (d *deciding) shed(n, floor int, because string, eligible func(*Instance) bool) {
	if n <= 0 {
		return
	}
	zones := d.zones(Version{})
	lines := make([][]int, len(zones)) // candidates of each zone, first to go first
	serving := 0
	for i := range d.ins {
		in := &d.ins[i]
		if d.group.Serves(in) {
			serving++
		}
		if in.State.Counts() && !in.Pinned && eligible(in) {
			k := d.zoneIndex(in.Zone)
			lines[k] = append(lines[k], i)
		}
	}
	for k := range lines {
		slices.SortStableFunc(lines[k], d.shedOrder)
	}
	for range n {
		z := placement.Fullest(zones, func(k int) bool { return len(lines[k]) > 0 && d.servesNobody(&d.ins[lines[k][0]]) })
		if z < 0 {
			z = placement.Fullest(zones, func(k int) bool {
				return len(lines[k]) > 0 && (!d.group.Serves(&d.ins[lines[k][0]]) || serving > floor)
			})
		}
		if z < 0 {
			return
		}
		i := lines[z][0]
		lines[z] = lines[z][1:]
		zones[z].Count--
		numbers := map[string]any{"serving": serving, "size": d.group.Size}
		if d.group.Serves(&d.ins[i]) {
			serving--
		}
		if d.ro == nil && !d.group.HealStopped.IsZero() && d.group.needsHealing(&d.ins[i]) {
			d.group.Owing++
			d.groupChanged = true
		}
		d.retire(i, because, numbers)
	}
}

// servesNobody reports whether an instance does no good now: it is ill, or has
// not served yet. One that served and settles again is not fresh.
func (d *deciding) servesNobody(in *Instance) bool {
	return !d.group.Serves(in) && (in.Served.IsZero() || in.State == Serving)
}

// shedOrder puts those that serve nobody first, then the ill, and then goes by the
// group's order. While healing is stopped what comes up gives way to what is ill:
// the fault is likelier outside, and those that served may again.
func (d *deciding) shedOrder(a, b int) int {
	x, y := &d.ins[a], &d.ins[b]
	rank := func(in *Instance) int {
		switch {
		case d.servesNobody(in) && in.State == Serving && !d.group.HealStopped.IsZero():
			return -1
		case d.servesNobody(in):
			return -2
		case d.group.needsHealing(in):
			return 0
		case in.Version != d.group.Template && (d.group.Shed == ShedOutdated || d.group.Shed == ""):
			return 1
		}
		return 2
	}
	if r := rank(x) - rank(y); r != 0 {
		return r
	}
	if d.group.Shed == ShedNewest {
		return y.Serial - x.Serial
	}
	return x.Serial - y.Serial
}

// seconds are for the journal's numbers, to the millisecond.
func seconds(t time.Duration) float64 { return math.Round(t.Seconds()*1000) / 1000 }
