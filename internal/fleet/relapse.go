package fleet

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/words"
)

// Relapse is one place of a group whose instances fail one after another. The
// first failure is made good at once; after each further one in a row the place
// stays empty longer, until an instance has proven itself in it.
type Relapse struct {
	// Count is how many instances failed here in a row, at least 1.
	Count int
	// Failed are the last of them, newest last, at most RelapseShown.
	Failed []string
	// In is the instance that has the place now, "" while it is empty.
	In   string
	Last time.Time // when the last one failed
	// Until is until when the place stays empty.
	Until time.Time
}

// The wait after the second failure in a row of one place; it doubles with each
// further one up to LastPause. RelapseShown is how many that failed are kept.
const (
	FirstPause   = 10 * time.Second
	LastPause    = 10 * time.Minute
	RelapseShown = 3
)

// Pause is how long the place stays empty after its last failure.
func (r *Relapse) Pause() time.Duration {
	switch {
	case r.Count < 2:
		return 0
	case r.Count > 8: // more would only overflow
		return LastPause
	}
	return min(FirstPause<<(r.Count-2), LastPause)
}

// Proof is how long an instance must have served before the failures of its
// place are forgotten: settle, at least 30 s.
func (g *Group) Proof() time.Duration { return max(g.Settle, 30*time.Second) }

// failed counts a failure against the place of the instance. While a rollout moves
// on it is the rollout that answers for the new version.
func (d *deciding) failed(i int, because string) {
	id := d.ins[i].ID
	if (d.walking() && d.ins[i].Version == d.ro.To) || d.group.Alone || d.group.Deleting {
		return
	}
	d.groupChanged = true
	k := slices.IndexFunc(d.group.Relapses, func(r Relapse) bool { return r.In == id })
	if k < 0 {
		d.group.Relapses = append(d.group.Relapses, Relapse{})
		k = len(d.group.Relapses) - 1
	}
	r := &d.group.Relapses[k]
	r.Count++
	r.In, r.Last = "", d.now
	r.Until = d.now.Add(r.Pause())
	r.Failed = append(slices.Clone(r.Failed), id)
	r.Failed = r.Failed[max(0, len(r.Failed)-RelapseShown):]
	if r.Count < 2 {
		return
	}
	d.entry(Entry{Kind: "group.relapsed", Instance: id,
		Text: fmt.Sprintf("One place of %s failed %d times in a row, the last %s; it stays empty for %s.",
			d.group.Name, r.Count, strings.Join(r.Failed, ", "), words.Span(r.Pause())),
		Because: because, Numbers: map[string]any{"failures": r.Count, "wait_seconds": seconds(r.Pause())}})
}

// relapsing reports whether instances failed before this one in its place.
func (d *deciding) relapsing(id string) bool {
	return slices.ContainsFunc(d.group.Relapses, func(r Relapse) bool { return r.In == id })
}

// rested reports whether an instance that has been ill since then may be replaced
// by one launched before it goes. In a place where others failed before it, one
// that still serves waits as long as the place would stay empty.
func (d *deciding) rested(in *Instance, since time.Time) bool {
	k := slices.IndexFunc(d.group.Relapses, func(r Relapse) bool { return r.In == in.ID })
	if k < 0 || !d.group.Serves(in) {
		return k < 0
	}
	next := Relapse{Count: d.group.Relapses[k].Count + 1}
	until := since.Add(next.Pause())
	d.lookAt(until)
	return !d.now.Before(until)
}

// inherit gives the place of the instance that failed to the newest one that has
// none of the known places: it was launched before the other went.
func (d *deciding) inherit(failed string) {
	for i := len(d.ins) - 1; i >= 0; i-- {
		in := &d.ins[i]
		if in.State != Serving || in.ID == failed || d.relapsing(in.ID) {
			continue
		}
		for k := range d.group.Relapses {
			if r := &d.group.Relapses[k]; r.In == "" && slices.Contains(r.Failed, failed) {
				r.In = in.ID
			}
		}
		return
	}
}

// afford is how many of the missing are launched now.
func (d *deciding) afford(missing int) int { return missing - d.heldBack(max(missing, 0)) }

// heldBack is how many of the missing places stay empty for now. It forgets those
// that nobody misses any more and those whose instance has proven itself.
func (d *deciding) heldBack(missing int) int {
	if len(d.group.Relapses) == 0 {
		return 0
	}
	empty, waiting := 0, 0
	kept := d.group.Relapses[:0]
	// Those that wait longest are the likeliest to go on failing: they are kept first.
	slices.SortStableFunc(d.group.Relapses, func(a, b Relapse) int { return b.Count - a.Count })
	for _, r := range d.group.Relapses {
		switch {
		case r.In != "":
			if d.stays(&r) {
				kept = append(kept, r)
			}
			continue
		case empty >= missing:
			continue
		case d.now.Before(r.Until):
			waiting++
			d.lookAt(r.Until)
		}
		empty++
		kept = append(kept, r)
	}
	if len(kept) != len(d.group.Relapses) {
		d.groupChanged = true
	}
	d.group.Relapses = kept
	return waiting
}

// stays reports whether the failures of a filled place are still to be
// remembered.
func (d *deciding) stays(r *Relapse) bool {
	for i := range d.ins {
		in := &d.ins[i]
		switch {
		case in.ID != r.In:
		case !in.Counts():
			return false // a person or the size took it away
		case !d.group.Serves(in):
			return true
		case d.now.Before(in.Since.Add(d.group.Proof())):
			d.lookAt(in.Since.Add(d.group.Proof()))
			return true
		default:
			if r.Count > 1 {
				d.entry(Entry{Kind: "group.relapse-over", Instance: in.ID,
					Text:    fmt.Sprintf("The place of %s, which failed %d times in a row, is well again.", in.ID, r.Count),
					Because: fmt.Sprintf("%s has served for %s", in.ID, words.Span(d.now.Sub(in.Since)))})
			}
			return false
		}
	}
	return false
}

// fillPlace gives an empty place whose wait is over to a new instance, and says
// so when it waited.
func (d *deciding) fillPlace(id string) string {
	for k := range d.group.Relapses {
		r := &d.group.Relapses[k]
		if r.In != "" || d.now.Before(r.Until) {
			continue
		}
		r.In = id
		if r.Count < 2 {
			return ""
		}
		return fmt.Sprintf("; this place failed %d times in a row and stayed empty for %s", r.Count, words.Span(r.Pause()))
	}
	return ""
}
