package fleet

import (
	"slices"
	"time"
)

// Slot is the book of one place of a group whose instances fail one after another,
// or in which one is owed. The first failure is made good at once; after each further
// one in a row the place stays empty longer, until an instance has proven itself in it.
type Slot struct {
	// Number is the slot of the instances that stand or stood here.
	Number int `json:"number"`
	// Failures are how many instances failed here in a row.
	Failures int `json:"failures"`
	// Failed are the last of them, newest last, at most FailedShown.
	Failed []string  `json:"failed"`
	Last   time.Time `json:"last"` // when the last one failed
	// Why is what the last one could not be started for, "" when it could.
	Why string `json:"why,omitempty"`
	// Until is until when the place stays empty.
	Until time.Time `json:"until"`
	// Healed is set from when the healing check had its instance sent away until
	// another serves here: it counts for the heal-limit.
	Healed bool `json:"healed,omitempty"`
	// Kept is set when its machine vanished while healing was off: it stays empty
	// until a person says otherwise.
	Kept bool `json:"kept,omitempty"`
}

// The wait after the second failure in a row of one place; it doubles with each
// further one up to LastPause. FailedShown is how many that failed are kept.
const (
	FirstPause  = 10 * time.Second
	LastPause   = 10 * time.Minute
	FailedShown = 3
)

// Pause is how long the place stays empty after its last failure.
func (s *Slot) Pause() time.Duration { return pauseAfter(s.Failures) }

// pauseAfter is the pause after so many failures in a row.
func pauseAfter(failures int) time.Duration {
	switch {
	case failures < 2:
		return 0
	case failures > 8: // more would only overflow
		return LastPause
	}
	return min(FirstPause<<(failures-2), LastPause)
}

// Waits reports whether the place stays empty now, once it is.
func (g *Group) Waits(now time.Time, s *Slot) bool {
	return now.Before(s.Until) || (s.Kept && g.Heal == HealOff)
}

// FirstProof is how long an instance must have been well before one failure of its place is forgotten,
// and LastProof how long at most before many are.
const (
	FirstProof = 10 * time.Minute
	LastProof  = time.Hour
)

// Proof is how long an instance must have been well before so many failures in a row of its place are
// forgotten: ten minutes or settle, and twice as long for each further failure up to an hour, so that what
// fails after a while again and again is replaced ever more slowly too.
func (g *Group) Proof(failures int) time.Duration {
	return max(g.Settle, min(FirstProof<<min(max(failures-1, 0), 3), LastProof))
}

// find is where in the book a slot is or would be.
func (b *Book) find(number int) (k int, found bool) {
	return slices.BinarySearchFunc(b.Slots, number, func(s Slot, n int) int { return s.Number - n })
}

// slot is the book of a slot, nil when nothing is known of it.
func (d *deciding) slot(number int) *Slot {
	k, found := d.group.find(number)
	if !found {
		return nil
	}
	return &d.group.Slots[k]
}

// slotOf is the same, begun when there is none.
func (d *deciding) slotOf(number int) *Slot {
	k, found := d.group.find(number)
	if !found {
		d.group.Slots = slices.Insert(d.group.Slots, k, Slot{Number: number})
	}
	d.groupChanged = true
	return &d.group.Slots[k]
}

// failed counts a failure against the place of the instance. While a rollout moves
// on it is the rollout that answers for the new version.
func (d *deciding) failed(i int, because Cause) {
	in := d.at(i)
	if (d.ro.advances() && in.Version == d.ro.To) || d.group.Alone || d.group.Deleting {
		return
	}
	s := d.slotOf(in.Slot)
	if !in.Served.IsZero() && d.now.Sub(in.Served) < d.group.Proof(s.Failures+1) {
		d.doubtZone(in)
	}
	s.fails(d.now, in.ID)
	s.Why = ""
	if because.Code == CodeRefused {
		s.Why = because.Words
	}
	s.Kept = d.group.Heal == HealOff
	if s.Failures > 1 {
		d.entry(Entry{Kind: "group.relapsed", Instance: in.ID, Instances: s.Failed, Cause: because,
			Numbers: Numbers{count("failures", s.Failures), span("wait_seconds", s.Pause())}})
	}
}

// fails counts one more failure.
func (s *Slot) fails(now time.Time, instance string) {
	s.Failures++
	s.Last = now
	s.Until = now.Add(s.Pause())
	s.Failed = append(slices.Clone(s.Failed), instance)
	s.Failed = s.Failed[max(0, len(s.Failed)-FailedShown):]
}

// countNeedless counts an instance that was launched in the place of one that was ill and
// is well again: the next is launched only once that one has been ill for longer.
func (d *deciding) countNeedless(i int) {
	in := d.at(i)
	if in.Purpose != ForHealing || !in.Served.IsZero() {
		return
	}
	well := d.mate(i, true)
	if well < 0 {
		return
	}
	s := d.slotOf(in.Slot)
	s.fails(d.now, in.ID)
	d.entry(Entry{Kind: "group.relapsed", Instance: in.ID, Instances: s.Failed, Cause: Cause{Code: CodeForNought, Instance: d.at(well).ID},
		Numbers: Numbers{count("failures", s.Failures), span("wait_seconds", pauseAfter(s.Failures+1))}})
}

// makeGood notes that one serves in the slot.
func (d *deciding) makeGood(number int) {
	if s := d.slot(number); s != nil && s.Healed {
		s.Healed = false
		d.groupChanged = true
	}
}

// healing is how many instances the healing check had sent away in whose stead none
// serves yet.
func (d *deciding) healing() int {
	n := 0
	for k := range d.group.Slots {
		if d.group.Slots[k].Healed {
			n++
		}
	}
	return n
}

// forgive ends what healing owes for places that nobody misses any more: others took them.
func (d *deciding) forgive() {
	if d.ro != nil || d.healing() == 0 || d.tally(d.group.Template).counted < d.group.Size {
		return
	}
	for k, i := range d.standing() {
		if i < 0 && d.group.Slots[k].Healed {
			d.group.Slots[k].Healed, d.groupChanged = false, true
		}
	}
}

// rested reports whether an instance that has been ill since then may be replaced
// by one launched before it goes. In a place where others failed before it, one
// that still serves waits as long as the place would stay empty.
func (d *deciding) rested(in *Instance, since time.Time) bool {
	s := d.slot(in.Slot)
	if s == nil || s.Failures == 0 || !d.group.Serves(in) {
		return s == nil || s.Failures == 0
	}
	until := since.Add(pauseAfter(s.Failures + 1))
	d.lookAt(until)
	return !d.now.Before(until)
}

// standing tells for each slot of the book which instance that counts stands there,
// -1 where none does.
func (d *deciding) standing() []int {
	slots := d.group.Slots
	all := make([]int, len(slots))
	for k := range all {
		all[k] = -1
	}
	if len(slots) == 0 {
		return all
	}
	// Where the numbers lie close together a table finds them faster.
	first, last := slots[0].Number, slots[len(slots)-1].Number
	var table []int32
	if last-first < 4*d.len()+64 {
		table = make([]int32, last-first+1)
		for k := range slots {
			table[slots[k].Number-first] = int32(k) + 1
		}
	}
	for i := range d.len() {
		in := d.at(i)
		if in.Slot < first || in.Slot > last {
			continue
		}
		k := -1
		if table != nil {
			k = int(table[in.Slot-first]) - 1
		} else if n, found := d.group.find(in.Slot); found {
			k = n
		}
		if k >= 0 && in.Counts() && (all[k] < 0 || !d.group.Serves(d.at(all[k]))) {
			all[k] = i
		}
	}
	return all
}

// afford is how many of the missing are launched now. It forgets the empty slots
// that nobody misses any more and those whose instance has proven itself.
func (d *deciding) afford(missing int) int {
	if len(d.group.Slots) == 0 {
		return missing
	}
	standing := d.standing()
	var empty []int
	kept := make([]bool, len(standing))
	for k, i := range standing {
		if i < 0 {
			empty = append(empty, k)
		} else {
			kept[k] = !d.proven(&d.group.Slots[k], d.at(i))
		}
	}
	if most := max(missing, 0); len(empty) > most {
		// Those that failed most are the likeliest to go on failing: they are kept. What
		// healing owes stands until none is missing.
		slices.SortStableFunc(empty, func(a, b int) int { return d.group.Slots[b].Failures - d.group.Slots[a].Failures })
		for _, k := range empty[most:] {
			kept[k] = missing > 0 && d.group.Slots[k].Healed
		}
		empty = empty[:most]
	}
	waiting := 0
	for _, k := range empty {
		kept[k] = true
		s := &d.group.Slots[k]
		if s.Kept && d.ro != nil && d.ro.Back && d.ro.State != Held { // a revert brings all back
			s.Kept, d.groupChanged = false, true
		}
		if d.group.Waits(d.now, s) {
			waiting++
			d.lookAt(s.Until)
		}
	}
	if slices.Contains(kept, false) {
		left := make([]Slot, 0, len(kept))
		for k := range kept {
			if kept[k] {
				left = append(left, d.group.Slots[k])
			}
		}
		d.group.Slots, d.groupChanged = left, true
	}
	return missing - waiting
}

// proven reports whether the failures of a filled place may be forgotten: the
// instance that stands there has been well for long enough since.
func (d *deciding) proven(s *Slot, in *Instance) bool {
	if !d.group.Serves(in) || in.Ill() {
		return false
	}
	well := in.Since
	for k := range in.Reports {
		if r := &in.Reports[k]; r.Since.After(well) {
			well = r.Since
		}
	}
	if s.Last.After(well) {
		well = s.Last
	}
	until := well.Add(d.group.Proof(s.Failures))
	if d.now.Before(until) {
		d.lookAt(until)
		return false
	}
	d.trustZone(in.Zone)
	if s.Failures > 1 {
		d.entry(Entry{Kind: "group.relapse-over", Instance: in.ID, Cause: Cause{Code: CodeProven, Instance: in.ID,
			Numbers: Numbers{span("served_seconds", d.now.Sub(in.Since))}}, Numbers: Numbers{count("failures", s.Failures)}})
	}
	return true
}

// vacant are the empty slots of the book whose wait is over, those that failed most
// first.
func (d *deciding) vacant() []int {
	if len(d.group.Slots) == 0 {
		return nil
	}
	var all []int
	for k, i := range d.standing() {
		if s := &d.group.Slots[k]; i < 0 && !d.group.Waits(d.now, s) {
			all = append(all, k)
		}
	}
	slices.SortStableFunc(all, func(a, b int) int { return d.group.Slots[b].Failures - d.group.Slots[a].Failures })
	for n, k := range all {
		all[n] = d.group.Slots[k].Number
	}
	return all
}
