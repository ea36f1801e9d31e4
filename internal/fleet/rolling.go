package fleet

import (
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
)

// judgeRollout holds the rollout when its new instances do badly. What went
// wrong before it was last told to proceed is answered already.
func (d *deciding) judgeRollout() {
	if !d.walking() {
		return
	}
	for i := range d.ins {
		in := &d.ins[i]
		if in.Version != d.ro.To {
			continue
		}
		if because, yes := d.overdue(in); yes {
			if d.deadline(in).After(d.ro.Resumed) {
				d.hold(in.ID + " " + because)
				return
			}
			if !in.Pinned {
				d.retire(i, because, nil)
			}
			continue
		}
		if in.State != Serving {
			continue
		}
		for _, r := range in.Reports {
			if r.Verdict == health.Unhealthy && r.Since.After(d.ro.Resumed) {
				d.hold(fmt.Sprintf("%s turned unhealthy: %s %s", in.ID, r.Check, r.Why))
				return
			}
		}
	}
}

// walking reports whether there is a rollout on its way to the new version.
func (d *deciding) walking() bool {
	return d.ro != nil && (d.ro.State == Moving || d.ro.State == Soaking)
}

// stumble counts a machine of the new version that failed to come up or ended by
// itself, and holds the rollout when there were too many in one wave. Several of one
// zone at one moment count once: it is likelier the zone that failed.
func (d *deciding) stumble(i int, what string) {
	if !d.walking() || d.ins[i].Version != d.ro.To || slices.Contains(d.stumbled, d.ins[i].Zone) {
		return
	}
	d.stumbled = append(d.stumbled, d.ins[i].Zone)
	d.ro.Stumbles++
	d.roChanged = true
	if d.ro.Stumbles >= StumbleLimit {
		d.hold(fmt.Sprintf("machines of this wave failed %d times, the last %s: %s", d.ro.Stumbles, d.ins[i].ID, what))
	}
}

func (d *deciding) hold(because string) {
	t := d.tally(d.ro.To)
	d.turn(Held, because, map[string]any{
		"wave": d.ro.Wave + 1, "old_serving": t.serving - t.newServing, "new_serving": t.newServing,
	})
}

// turn records a change of the rollout's state with its cause.
func (d *deciding) turn(to RolloutState, because string, numbers map[string]any) {
	d.ro.State, d.ro.Since, d.ro.Why = to, d.now, because
	if to.Ended() {
		d.ro.Ended = d.now
		d.lookAt(d.now.Add(time.Millisecond)) // the zones may be out of balance
	}
	d.roChanged = true
	d.entry(d.ro.entry(d.group.Name, because, numbers))
}

// entry is the journal entry for the state that the rollout is in.
func (r *Rollout) entry(group, because string, numbers map[string]any) Entry {
	return Entry{
		Kind:    "rollout." + string(r.State),
		Rollout: r.ID,
		Text:    fmt.Sprintf("The rollout of %s to %s is %s.", group, r.To, r.State),
		Because: because,
		Numbers: numbers,
	}
}

// advanceRollout moves the rollout on when its present stage is complete and
// reports whether there is more to reconcile because of that.
func (d *deciding) advanceRollout() bool {
	if d.ro == nil || d.ro.State.Ended() {
		return false
	}
	if d.group.Deleting {
		d.turn(Abandoned, "the group is being deleted", nil)
		return false
	}
	switch d.ro.State {
	case Moving:
		if d.filled() {
			return d.beginSoak()
		}
	case Soaking:
		switch {
		case !d.filled():
			d.turn(Moving, "the wave is not whole any more", d.waveNumbers())
			return true
		case d.watched.After(d.ro.Since):
			d.turn(Moving, "nobody watched the group for a while, so the wave soaks anew", d.waveNumbers())
			return true
		}
		if over := d.ro.Since.Add(d.ro.Soak); d.now.Before(over) {
			d.lookAt(over)
			return false
		}
		return d.passWave()
	case Reverting:
		t := d.tally(d.ro.From)
		if t.old() <= t.oldPinned && t.newServing >= d.group.Size-t.oldPinned {
			d.turn(Reverted, fmt.Sprintf("%d of %d serve on %s again%s", t.newServing, d.group.Size, d.ro.From, leftBehind(t.oldPinned)), nil)
		}
	}
	return false
}

// filled reports whether the present wave has replaced all that it should.
func (d *deciding) filled() bool {
	t := d.tally(d.ro.To)
	want := d.reach(t, d.ro.Waves[d.ro.Wave].Of(d.group.Size))
	return t.newServing >= want && t.old() <= d.group.Size-want
}

func (d *deciding) beginSoak() bool {
	d.ro.Times[d.ro.Wave].Filled = d.now
	numbers := d.waveNumbers()
	numbers["soak_seconds"] = seconds(d.ro.Soak)
	d.turn(Soaking, fmt.Sprintf("wave %d of %d is replaced", d.ro.Wave+1, len(d.ro.Waves)), numbers)
	return true
}

func (d *deciding) passWave() bool {
	d.ro.Times[d.ro.Wave].Passed = d.now
	because := fmt.Sprintf("wave %d of %d stayed good for %s", d.ro.Wave+1, len(d.ro.Waves), words.Span(d.ro.Soak))
	numbers := d.waveNumbers()
	if d.ro.Wave == len(d.ro.Waves)-1 {
		t := d.tally(d.ro.To)
		d.group.Template = d.ro.To
		d.groupChanged = true
		switch {
		case t.newServing == 0 && d.group.Size == 0:
			because = fmt.Sprintf("the size is 0, so %s never served; new launches are on it", d.ro.To)
		case t.newServing == 0:
			because = fmt.Sprintf("nothing could be replaced, so %s never served; new launches are on it", d.ro.To)
		}
		d.turn(Done, because+leftBehind(t.oldPinned), numbers)
		return false
	}
	d.ro.Wave++
	d.ro.Stumbles = 0
	d.ro.Times = append(d.ro.Times, WaveTime{Began: d.now})
	d.turn(Moving, because, numbers)
	return true
}

func (d *deciding) waveNumbers() map[string]any {
	t := d.tally(d.ro.To)
	return map[string]any{
		"wave": d.ro.Wave + 1, "waves": len(d.ro.Waves), "new_serving": t.newServing,
		"wave_target": d.ro.Waves[d.ro.Wave].Of(d.group.Size), "size": d.group.Size,
	}
}

func leftBehind(pinned int) string {
	if pinned == 0 {
		return ""
	}
	return fmt.Sprintf("; %s pinned and left behind", words.Count(pinned, "instance"))
}

// Begin returns a rollout of the group that starts at now.
//
// It comes from what most of the instances run, which a revert brings back. It
// refuses waves that go down or do not end at 100%, above and below that are both 0
// or out of range, and a version that the group is on already.
func Begin(now time.Time, g Group, instances []Instance, ro Rollout) (Rollout, Entry, error) {
	if g.Deleting {
		return ro, Entry{}, refuse("", "the group %s is being deleted", g.Name)
	}
	if err := ro.Waves.Validate(max(g.Size, 1)); err != nil {
		return ro, Entry{}, refuse("waves", "%s", err)
	}
	if ro.Above < 0 || ro.Above > 1000 {
		return ro, Entry{}, refuse("above", "above is %d; give 0 to 1000", ro.Above)
	}
	if ro.Below < 0 || ro.Below > g.Size {
		return ro, Entry{}, refuse("below", "below is %d; give 0 to the group's size, %d", ro.Below, g.Size)
	}
	if ro.Above+ro.Below == 0 {
		return ro, Entry{}, refuse("above", "above and below are both 0, so nothing could ever be replaced; give one of them at least 1")
	}
	if ro.Soak < 0 || ro.Soak > 24*time.Hour {
		return ro, Entry{}, refuse("soak", "soak is %s; give 0s to 24h", ro.Soak)
	}
	from, mixed := g.from(instances, ro.To)
	if ro.To == g.Template && !mixed {
		return ro, Entry{}, refuse("to", "the group %s is on %s already; name another version", g.Name, ro.To)
	}
	ro.From, ro.State, ro.Since, ro.Started, ro.Resumed = from, Moving, now, now, now
	ro.Times = []WaveTime{{Began: now}}
	ro.Why = "a person started it"
	e := ro.entry(g.Name, ro.Why, map[string]any{
		"waves": ro.Waves.String(), "above": ro.Above, "below": ro.Below, "soak_seconds": seconds(ro.Soak), "size": g.Size,
	})
	e.Kind = "rollout.started"
	e.Text = fmt.Sprintf("The rollout of %s from %s to %s begins.", g.Name, ro.From, ro.To)
	return ro, e, nil
}

// from is the version other than to that most instances run, the group's template
// where none do, and whether there are any.
func (g *Group) from(instances []Instance, to Version) (most Version, mixed bool) {
	most = g.Template
	runs := map[Version]int{}
	for i := range instances {
		in := &instances[i]
		if !in.Counts() || in.Version == to {
			continue
		}
		runs[in.Version]++
		if n := runs[in.Version] - runs[most]; n > 0 || (n == 0 && in.Version == g.Template) {
			most = in.Version
		}
	}
	return most, len(runs) > 0
}

// Command is what a person may tell a live rollout.
type Command string

// The commands; each may be given in the states that its case below names.
const (
	CommandHold    Command = "hold"
	CommandProceed Command = "proceed"
	CommandRevert  Command = "revert"
)

// Tell returns the rollout after a person's command.
func (r Rollout) Tell(now time.Time, group string, c Command, reason string) (Rollout, Entry, error) {
	allowed := map[Command][]RolloutState{
		CommandHold:    {Moving, Soaking},
		CommandProceed: {Held, Reverting},
		CommandRevert:  {Moving, Soaking, Held},
	}[c]
	if !slices.Contains(allowed, r.State) {
		return r, Entry{}, refuse("", "the rollout is %s; %s is for one that is %s", r.State, c, either(allowed))
	}
	because := "a person asked to " + string(c)
	if reason != "" {
		because += ": " + reason
	}
	switch c {
	case CommandHold:
		r.State = Held
	case CommandProceed:
		if r.State == Reverting { // waves that were complete may be undone in part
			r.Wave, r.Times = 0, []WaveTime{{Began: now}}
		}
		r.State, r.Resumed, r.Stumbles = Moving, now, 0
	case CommandRevert:
		r.State = Reverting
	}
	r.Since, r.Why = now, because
	return r, r.entry(group, because, nil), nil
}
