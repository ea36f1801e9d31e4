package fleet

import (
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/rollout"
)

// Begin returns a rollout of the group that starts at now.
//
// It comes from what most of the instances run, or from what the one that it takes the place
// of came from (over; nil when there is none). A revert brings back what each instance ran. It
// refuses waves that go down or do not end at 100%, above and below that are both 0
// or out of range, and a version that the group is on already.
func Begin(now time.Time, g Group, instances []Instance, ro Rollout, over *Rollout) (Rollout, Entry, error) {
	if g.Deleting {
		return ro, Entry{}, refuse("", "the group %s is being deleted", g.Name)
	}
	if err := ro.Waves.Validate(max(g.Size, 1)); err != nil {
		return ro, Entry{}, refuse("waves", "%s", err)
	}
	ro.atOnce(&g)
	if err := ro.CheckSettings(); err != nil {
		return ro, Entry{}, err
	}
	if ro.Below < 0 || ro.Below > g.Size {
		return ro, Entry{}, refuse("below", "below is %d; give 0 to the group's size, %d", ro.Below, g.Size)
	}
	if err := ro.validate(now, instances); err != nil {
		return ro, Entry{}, err
	}
	if serving := ro.gate(gate.Serving); serving != nil && int(serving.Floor) > g.Size-ro.Below {
		return ro, Entry{}, refuse("gates", "a gate wants %g to serve, and the rollout itself lets %d serve at the lowest (size %d, below %d)", serving.Floor, g.Size-ro.Below, g.Size, ro.Below)
	}
	from, mixed := g.from(instances, ro.To)
	if ro.To == g.Template && !mixed {
		return ro, Entry{}, refuse("to", "the group %s is on %s already; name another version", g.Name, ro.To)
	}
	if over != nil && over.From != ro.To && !g.Doubts(over.From) {
		from = over.From
	}
	ro.Before = g.before(instances, from, over)
	ro.Lowest = 0
	for i := range instances {
		if g.Serves(&instances[i]) {
			ro.Lowest++
		}
	}
	ro.From, ro.State, ro.Since, ro.Started, ro.Resumed, ro.Sized = from, Moving, now, now, now, g.Size
	ro.Times = []WaveTime{{Began: now}}
	ro.Cause = Cause{Code: CodeStarted, About: from.String(), Words: ro.Waves.String()}
	e := ro.entry(count("above", ro.Above), count("below", ro.Below), span("soak_seconds", ro.Soak), count("size", g.Size))
	e.Kind = "rollout.started"
	return ro, e, nil
}

// retake takes from the group what a rollout goes by for as long as it only waits: its size, what most of
// the instances run, and what runs beside that. What holds is what was so when it begins to replace.
func (d *deciding) retake() {
	if !d.ro.Since.Equal(d.ro.Started) || (d.touched == nil && d.ro.Sized == d.group.Size) {
		return
	}
	all, there := make([]Instance, 0, d.len()), map[Version]int{}
	for i := range d.len() {
		in := d.at(i)
		if all = append(all, *in); in.Counts() {
			there[in.Version]++
		}
	}
	from := d.ro.From
	if other, mixed := d.group.from(all, d.ro.To); mixed && there[from] == 0 {
		from = other
	}
	// What is there and serves nobody for a moment ran all the same.
	ran := Rollout{RolloutBook: RolloutBook{Before: slices.DeleteFunc(slices.Clone(d.ro.Before), func(s VersionCount) bool { return there[s.Version] < s.N })}}
	before := d.group.before(all, from, &ran)
	if d.ro.From == from && d.ro.Sized == d.group.Size && slices.Equal(d.ro.Before, before) {
		return
	}
	d.ro.From, d.ro.Sized, d.ro.Before, d.roChanged = from, d.group.Size, before, true
	if d.ro.AtOnce {
		d.ro.Below = d.group.Size
	}
}

// CheckSettings reports settings that no group could be rolled out by. How far the waves go
// is judged as of a group that is as large as there may be.
func (r *Rollout) CheckSettings() error {
	if err := r.Waves.Validate(MaxGroup); err != nil {
		return refuse("waves", "%s", err)
	}
	switch {
	case r.Above < 0 || r.Above > 1000:
		return refuse("above", "above is %d; give 0 to 1000", r.Above)
	case r.Above+r.Below == 0 && !r.AtOnce:
		return refuse("above", "above and below are both 0, so nothing could ever be replaced; give one of them at least 1")
	case r.Soak < 0 || r.Soak > rollout.LongestSoak:
		return refuse("soak", "soak is %s; give 0s to 24h", r.Soak)
	case len(r.Gates) > 4:
		return refuse("gates", "there are %d gates; give 4 at most", len(r.Gates))
	}
	for k, g := range r.Gates {
		if field, err := g.Validate(); err != nil {
			return refuse(fmt.Sprintf("gates/%d/%s", k, field), "%s", err)
		}
		if g.Kind == gate.Metric {
			if err := metric.Name(g.Metric).Check(); err != nil {
				return refuse(fmt.Sprintf("gates/%d/metric", k), "%s", err)
			}
		}
	}
	return nil
}

// Supersede ends a live rollout since another one takes its place.
func (r Rollout) Supersede(now time.Time, to Version) (Rollout, Entry) {
	r.State, r.Since, r.Ended, r.Cause = Abandoned, now, now, Cause{Code: CodeSuperseded, About: to.String()}
	return r, r.entry()
}

// from is the version other than to that most instances run and that is not doubted, the group's
// template where none do, and whether any run another than to.
func (g *Group) from(instances []Instance, to Version) (most Version, mixed bool) {
	most = g.Template
	var kinds []Version
	runs := map[Version]int{}
	for i := range instances {
		in := &instances[i]
		if !in.Counts() || in.Version == to {
			continue
		}
		if runs[in.Version]++; runs[in.Version] == 1 {
			kinds = append(kinds, in.Version)
		}
	}
	rank := func(v Version) int { // what is doubted comes last, and the rollout comes from another than it goes to
		switch {
		case v == to:
			return -2
		case g.Doubts(v):
			return -1
		}
		return runs[v]
	}
	for _, v := range kinds {
		if n := rank(v) - rank(most); n > 0 || (n == 0 && (v == g.Template || runs[v] > runs[most])) {
			most = v
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

// Tell returns the rollout after a person's command: hold stops it where it is,
// proceed has it go forward and revert back, whichever way it went.
func (r Rollout) Tell(now time.Time, c Command, reason string) (Rollout, Entry, error) {
	allowed := map[Command][]RolloutState{
		CommandHold:    {Moving, Soaking, Reverting},
		CommandProceed: {Held, Reverting},
		CommandRevert:  {Moving, Soaking, Held},
	}[c]
	if !slices.Contains(allowed, r.State) {
		return r, Entry{}, refuse("", "the rollout is %s; %s is for one that is %s", r.State, c, either(allowed))
	}
	switch c {
	case CommandHold:
		r.State = Held
	case CommandProceed:
		if r.Back { // waves that were complete may be undone in part
			r.Wave, r.Times = 0, []WaveTime{{Began: now}}
		}
		if (r.Cause.Code == CodeGateUndecided || r.Cause.Code == CodeGateAlone) && r.Wave < len(r.Times) {
			r.Times = slices.Clone(r.Times)
			r.Times[r.Wave].Waived = true
		}
		r.State, r.Back, r.Resumed, r.Stumbles = Moving, false, now, 0
		r.Turned = Cause{}
		r.Gates = slices.Clone(r.Gates)
		for k := range r.Gates { // what they saw is answered
			r.Gates[k].Seen, r.Gates[k].Before, r.Gates[k].Served = gate.Comparison{}, 0, 0
		}
	case CommandRevert:
		r.State, r.Back, r.Stumbles = Reverting, true, 0
	}
	r.Since, r.Cause = now, Cause{Code: CodeTold, About: string(c), Words: reason}
	if c == CommandRevert {
		r.Turned = r.Cause
	}
	return r, r.entry(), nil
}
