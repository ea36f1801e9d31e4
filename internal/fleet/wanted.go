package fleet

import (
	"slices"
	"time"

	"unitas/internal/fleet/placement"
)

// Goal is what a decision about a group brings it to.
type Goal string

// The goals: the size alone; one wave more of the new version; what is there, with losses made good, since the
// rollout is held or waits; what ran before; nothing; and what is there, untouched, as the group is frozen.
const (
	GoalSize   Goal = "size"
	GoalWave   Goal = "wave"
	GoalHeld   Goal = "held"
	GoalBack   Goal = "back"
	GoalGone   Goal = "gone"
	GoalFrozen Goal = "frozen"
)

// Wanted is what is wanted of a group now, against what is there: what decisions go by.
type Wanted struct {
	Goal Goal
	Size int
	// Least serve where the group itself takes some away, and Most are there at all.
	Least, Most      int
	Counted, Serving int
	Versions         []WantedVersion
	// Closed are the zones that get nothing now, and Empty is how many slots stay empty after failures, until
	// EmptyUntil at the earliest; zero when that waits for a person.
	Closed     []ClosedZone
	Empty      int
	EmptyUntil time.Time
}

// WantedVersion is that of one version. Stay are pinned, or were left out of the rollout.
type WantedVersion struct {
	Version                        Version
	Counted, Serving, Stay, Wanted int
	Zones                          []WantedZone // in the group's order, and last what is in none of its zones
}

// WantedZone is that of a version in a zone; wanted is where the next ones come and go.
type WantedZone struct {
	Zone                     string
	Counted, Serving, Wanted int
}

// ClosedZone is a zone in which launches wait.
type ClosedZone struct {
	Zone     string
	Failures int
	Until    time.Time
	Why      string
}

// Wants tells what decisions about the group of the view go by at the time now. Nothing is changed by it.
func Wants(now time.Time, view View) Wanted {
	d := begin(now, view)
	d.observe()
	if d.unbegun() {
		d.ro = nil
	}
	if d.group.Frozen == "" {
		d.heal()
	}
	t := d.target()
	w := Wanted{Goal: t.goal, Size: d.group.Size, Least: max(t.least, 0), Most: t.most, Counted: d.counts.counted()}
	if d.group.Frozen != "" {
		w.Goal, t.wants = GoalFrozen, d.asThere()
	}
	for _, of := range d.fairly(t.wants) {
		v := d.against(of)
		w.Serving += v.Serving
		w.Versions = append(w.Versions, v)
	}
	for _, s := range d.group.Setbacks {
		if d.now.Before(s.Until) {
			w.Closed = append(w.Closed, ClosedZone{s.Zone, s.Count, s.Until, s.Why})
		}
	}
	for k, i := range d.standing() {
		s := &d.group.Slots[k]
		if i >= 0 || !d.group.Waits(d.now, s) {
			continue
		}
		w.Empty++
		if kept := s.Kept && d.group.Heal == HealOff; !kept && (w.EmptyUntil.IsZero() || s.Until.Before(w.EmptyUntil)) {
			w.EmptyUntil = s.Until
		}
	}
	return w
}

// asThere is that all stays as it is.
func (d *deciding) asThere() (all []want) {
	for _, v := range d.counts.versions() {
		all = append(all, want{v, d.countedOf(v)()})
	}
	return all
}

// fairly adds what is there and of which nothing is wanted but those that stay: they are that many less of
// what is wanted last.
func (d *deciding) fairly(wants []want) []want {
	for _, v := range d.counts.versions() {
		if slices.ContainsFunc(wants, func(w want) bool { return w.version == v }) {
			continue
		}
		stay := -d.idle(func(o Version) bool { return o == v })
		for n := range d.counts.cells {
			if k := &d.counts.cells[n]; k.version == v {
				stay += k.pinned + k.left
			}
		}
		if last := len(wants) - 1; last >= 0 {
			wants[last].n = max(wants[last].n-stay, 0)
		}
		wants = append(wants, want{v, stay + d.idle(func(o Version) bool { return o == v })})
	}
	return wants
}

// against holds what is wanted of a version against what is there, zone by zone.
func (d *deciding) against(of want) WantedVersion {
	v := WantedVersion{Version: of.version, Wanted: of.n}
	zones := d.choicesOf(of.version).trusted
	for k := range zones {
		v.Zones = append(v.Zones, WantedZone{Zone: zones[k].Name})
	}
	for n := range d.counts.cells {
		k := &d.counts.cells[n]
		if k.version != of.version {
			continue
		}
		v.Counted, v.Serving, v.Stay = v.Counted+k.counted, v.Serving+k.serving, v.Stay+k.pinned+k.left
		v.Zones[k.zone].Counted, v.Zones[k.zone].Serving = k.counted, k.serving
	}
	for k := range v.Zones {
		v.Zones[k].Wanted = v.Zones[k].Counted
	}
	move := func(z, by int) {
		zones[z].Count += by
		v.Zones[z].Wanted += by
	}
	for has := v.Counted; has < v.Wanted; has++ {
		z := placement.Next(zones)
		if z < 0 {
			break
		}
		move(z, 1)
	}
	for has := v.Counted; has > v.Wanted; has-- {
		move(placement.Fullest(zones, func(k int) bool { return v.Zones[k].Wanted > 0 }, nil), -1)
	}
	if last := len(v.Zones) - 1; v.Zones[last].Counted == 0 {
		v.Zones = v.Zones[:last]
	}
	return v
}
