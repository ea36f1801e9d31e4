package fleet

import (
	"math"
	"strconv"
	"time"

	"unitas/internal/fleet/placement"
)

// reconcile removes what is too much and orders what is missing.
func (d *deciding) reconcile() {
	d.endRests()
	d.forgetDoubts()
	if d.group.Deleting {
		for _, i := range d.unsteady {
			if in := d.at(i); in.State == Parked && !in.Pinned {
				d.retire(i, Cause{Code: CodeGroupGoes})
			}
		}
	}
	if d.group.Alone && !d.group.Deleting {
		if d.group.NextSerial == 0 {
			d.order(1, d.group.Template, ForPerson, Cause{Code: CodeLaunched})
		}
		return
	}
	d.carryOut(d.target())
}

// endRests sends away what rests without end.
func (d *deciding) endRests() {
	for _, i := range d.unsteady {
		if in := d.at(i); in.State == Resting && !in.Pinned && !d.now.Before(in.Since.Add(d.group.Drain+RestLimit)) {
			cause := Cause{Code: CodeRestedOver, Numbers: Numbers{span("limit_seconds", RestLimit)}}
			d.move(i, Leaving, cause)
			d.failed(i, cause)
		}
	}
}

// sizeCause is that there are as many as there are, and the size is another.
func (d *deciding) sizeCause(has int) Cause {
	return Cause{Code: CodeSize, Numbers: Numbers{count("has", has), count("size", d.group.Size)}}
}

// short is that some are missing of the size.
func (d *deciding) short() Cause { return d.sizeCause(d.counts.counted()) }

// relieve launches one for each of up to n that are to be healed, in the same slot.
func (d *deciding) relieve(n int) {
	for _, i := range d.due {
		if n <= 0 {
			return
		}
		in := d.at(i)
		if d.mate(i, false) >= 0 {
			continue
		}
		r := in.Report(d.group.Heal.Check())
		c := d.choices(d.usual(), Version{})
		z := c.next()
		if z < 0 {
			d.awaitZones()
			return
		}
		d.launch(c.all[z].Name, in.Slot, d.usual(), ForHealing, Cause{Code: CodeHealing, Instance: in.ID, About: r.Check, Words: r.Why})
		n--
	}
}

// mate is another instance that counts in the slot of an instance, one that serves if
// that is asked, or -1.
func (d *deciding) mate(i int, serves bool) int {
	slot := d.at(i).Slot
	for k := range d.len() {
		if in := d.at(k); in.Slot == slot && k != i && in.Counts() && (!serves || d.group.Serves(in)) {
			return k
		}
	}
	return -1
}

// returning is how many come back to serve: while they may, none goes for them.
func (d *deciding) returning() int {
	n := 0
	for _, i := range d.unsteady {
		if in := d.at(i); in.State == Settling && !in.Served.IsZero() && d.now.Before(d.deadline(in)) {
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
	t := d.tally(d.group.Template)
	if d.ro != nil { // the new ones of a held rollout may be over the size
		t = d.tally(d.ro.To)
		size = max(size, min(t.counted, size+min(d.ro.Above, t.newCounted)))
		if t.counted >= d.group.Size+max(d.ro.Above, d.group.Above) {
			return
		}
	}
	if t.counted != size || t.serving != size {
		return
	}
	zones := d.zones(Version{})
	d.closeBrittle(zones)
	to := placement.Next(zones)
	from := d.giver(zones)
	if to < 0 || from < 0 || !placement.Helps(zones, from, to) {
		d.awaitZones() // one that opens again may help
		return
	}
	a, b := zones[from], zones[to]
	cause := Cause{Code: CodeBalance, About: a.Name, Words: b.Name, Numbers: Numbers{count("has", a.Count), count("to_have", b.Count)}}
	switch {
	case from == len(d.group.Zones):
		cause = Cause{Code: CodeLeaveZone, Numbers: Numbers{count("has", a.Count)}}
	case a.Rank != b.Rank:
		cause.Code = CodeSpread
	}
	d.launch(b.Name, 0, d.usual(), ForBalance, cause)
}

// usual is the version of what is launched besides a rollout's new ones.
func (d *deciding) usual() Version {
	if d.ro != nil {
		return d.ro.From
	}
	return d.group.Template
}

// closeBrittle closes the zones in which what served failed again and again: nothing is moved there.
func (d *deciding) closeBrittle(zones []placement.Zone) {
	for k := range d.group.Setbacks {
		if s := &d.group.Setbacks[k]; d.now.Before(s.brittle()) {
			zones[d.zoneIndex(s.Zone)].Open = false
		}
	}
}

// giver is the zone that would give up a serving instance first, or -1.
func (d *deciding) giver(zones []placement.Zone) int {
	has := make([]bool, len(zones))
	for n := range d.counts.cells {
		if k := &d.counts.cells[n]; k.giving > 0 && (d.ro == nil || k.version != d.ro.To) { // no new one goes
			has[k.zone] = true
		}
	}
	return placement.Fullest(zones, func(k int) bool { return has[k] }, nil)
}

// balancing is 1 while an instance comes up for balance and may: another zone can give
// one up for it.
func (d *deciding) balancing() int {
	standing, coming := d.tally(d.group.Template).counted, -1
	for _, i := range d.unsteady {
		in := d.at(i)
		if in.State.ComingUp() {
			standing--
			if in.Purpose == ForBalance {
				coming = i
			}
		}
	}
	if coming < 0 || standing < d.group.Size {
		return 0
	}
	zones := d.zones(Version{})
	to := d.zoneIndex(d.at(coming).Zone)
	zones[to].Count--
	if from := d.giver(zones); from >= 0 && placement.Helps(zones, from, to) {
		return 1
	}
	return 0
}

// order records up to n new instances of the version and returns how many. A
// zone that backs off gets none; with every zone backing off none are ordered
// and the decision is looked at again when the first is over.
func (d *deciding) order(n int, v Version, purpose Purpose, cause Cause) int {
	if n <= 0 {
		return 0
	}
	c := d.choicesOf(v)
	vacant := d.vacant()
	for k := range n {
		z := c.nextIn(d.turnOf(v, c.trusted))
		if z < 0 {
			d.awaitZones()
			return k
		}
		why, what, slot := cause, purpose, 0
		if len(vacant) > 0 {
			slot, vacant = vacant[0], vacant[1:]
			s := d.slot(slot)
			if s.Failures > 1 {
				why = cause.with(count("slot_failures", s.Failures), span("slot_wait_seconds", s.Pause()))
			}
			if s.Healed {
				what = ForHealing
			}
		}
		d.launch(c.all[z].Name, slot, v, what, why)
	}
	return n
}

// awaitZones looks again when a zone opens.
func (d *deciding) awaitZones() {
	for k := range d.group.Setbacks {
		d.lookAt(d.group.Setbacks[k].Until)
		d.lookAt(d.group.Setbacks[k].Doubted())
	}
}

// launch records one new instance in the zone: in the slot, or in one of its own when
// that is 0.
func (d *deciding) launch(zone string, slot int, v Version, purpose Purpose, cause Cause) {
	d.group.NextSerial++
	d.groupChanged = true
	if slot == 0 {
		slot = d.group.NextSerial
	}
	in := Instance{
		ID: d.group.instanceID(), Serial: d.group.NextSerial, Slot: slot, Purpose: purpose, Launch: 1,
		Zone: zone, Version: v, Ordered: d.now, Pinned: d.group.PinNew, State: Ordered, Since: d.now, Cause: cause,
	}
	d.add(in)
	d.entry(Entry{Kind: Ordered.life().kind, Instance: in.ID, Version: v, Zone: zone, Cause: cause})
	d.lookAt(d.now.Add(d.group.BootLimit()))
}

// instanceID names the instance with the newest serial.
func (g *Group) instanceID() string {
	if g.Alone {
		return g.Name
	}
	serial := strconv.FormatInt(int64(g.NextSerial), 16)
	if len(serial) < 3 {
		serial = "000"[len(serial):] + serial
	}
	return g.Name + "-" + serial
}

// seconds are for the journal's numbers, to the millisecond.
func seconds(t time.Duration) float64 { return math.Round(t.Seconds()*1000) / 1000 }
