package fleet

import (
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rollout"
)

// judgeRollout holds the rollout when its new instances do badly. What went
// wrong before it was last told to proceed is answered already: what serves nobody
// since then is replaced, where nobody heals it.
func (d *deciding) judgeRollout() {
	if d.ro == nil || d.ro.State == Held {
		return
	}
	if d.ro.Back {
		d.unblockRevert()
		return
	}
	if d.judgeHealth() {
		return
	}
	tolerant := d.ro.gate(gate.Healthy) != nil
	for _, i := range d.unsteady {
		in := d.at(i)
		if in.Version != d.ro.To {
			continue
		}
		if because, yes := d.group.Overdue(d.now, in); yes {
			if tolerant {
				d.stumble(i, because)
				if d.ro.State == Held {
					return
				}
			} else if d.deadline(in).After(d.ro.Resumed) {
				because.Instance = in.ID
				d.hold(because)
				return
			}
			if !in.Pinned {
				d.retire(i, because)
			}
			continue
		}
		if r := newestIllness(in); r != nil && r.Since.After(d.ro.Resumed) && !tolerant {
			d.hold(Cause{Code: CodeTurnedIll, Instance: in.ID, About: r.Check, Words: r.Why})
			return
		} else if r != nil && d.helpless(in) {
			if tolerant {
				d.stumble(i, checked(*r))
				if d.ro.State == Held {
					return
				}
			}
			d.retire(i, Cause{Code: CodeStuckIll, About: r.Check, Words: r.Why})
		}
	}
}

// newestIllness is the last report that found an instance in service ill, or nil.
func newestIllness(in *Instance) *health.Report {
	if in.State != Serving {
		return nil
	}
	var last *health.Report
	for k := range in.Reports {
		if r := &in.Reports[k]; r.Verdict == health.Unhealthy && (last == nil || r.Since.After(last.Since)) {
			last = r
		}
	}
	return last
}

// helpless reports whether an instance serves nobody and nobody heals it.
func (d *deciding) helpless(in *Instance) bool {
	return in.State == Serving && !in.Pinned && !d.group.Serves(in) && !d.group.needsHealing(in)
}

// unblockRevert replaces what is ill or never came up of the version before, one after
// another, where nobody heals it: the revert could not end otherwise.
func (d *deciding) unblockRevert() {
	stuck, back := -1, d.ro.GoesBack(d.group.Size)
	for _, i := range d.unsteady {
		in := d.at(i)
		switch {
		case !slices.ContainsFunc(back, func(s VersionCount) bool { return s.Version == in.Version }):
		case in.State.ComingUp() && !d.group.IsOverdue(d.now, in):
			return
		case stuck < 0 && !in.Pinned && (in.State.ComingUp() || d.helpless(in)):
			stuck = i
		}
	}
	if stuck < 0 {
		return
	}
	cause, yes := d.group.Overdue(d.now, d.at(stuck))
	if !yes {
		r := newestIllness(d.at(stuck))
		cause = Cause{Code: CodeStuckIll, About: r.Check, Words: r.Why}
	}
	d.retire(stuck, cause)
	d.failed(stuck, cause)
}

// advances reports whether there is a rollout, on its way to the new version.
func (r *Rollout) advances() bool {
	return r != nil && !r.Back && (r.State == Moving || r.State == Soaking)
}

// stumble counts a machine of the new version that failed to come up or ended by
// itself, and holds the rollout when there were too many in one wave. Several of one
// zone at one moment count once: it is likelier the zone that failed.
func (d *deciding) stumble(i int, what Cause) {
	in := d.at(i)
	if !d.ro.advances() || in.Version != d.ro.To || slices.Contains(d.stumbled, in.Zone) {
		return
	}
	d.stumbled = append(d.stumbled, in.Zone)
	d.ro.Stumbles++
	d.roChanged = true
	if d.ro.Stumbles >= d.mayStumble() {
		d.hold(Cause{Code: CodeStumbled, Instance: in.ID, About: string(what.Code), Words: what.Words, Numbers: Numbers{count("failures", d.ro.Stumbles)}})
	}
}

// mayStumble is how many failures of a wave hold it: more than accidents explain of as many as were
// launched for it, or as many new instances as a gate on health allows to be ill where that is more.
func (d *deciding) mayStumble() int {
	size, before := d.group.Size, 0
	if d.ro.Wave > 0 {
		before = d.ro.Waves[d.ro.Wave-1].Of(size)
	}
	holds := rollout.Holds(max(d.tally(d.ro.To).newCounted-before, 0) + d.ro.Stumbles)
	if g := d.ro.gate(gate.Healthy); g != nil {
		holds = max(holds, int(float64(d.ro.Waves[d.ro.Wave].Of(size))*(100-g.Floor)/100)+1)
	}
	return holds
}

func (d *deciding) hold(because Cause) {
	defer d.noteDoubts()
	t := d.tally(d.ro.To)
	d.turn(Held, because, count("wave", d.ro.Wave+1), count("old_serving", t.serving-t.newServing), count("new_serving", t.newServing))
}

// turn records a change of the rollout's state with its cause.
func (d *deciding) turn(to RolloutState, cause Cause, measured ...Number) {
	d.ro.State, d.ro.Since, d.ro.Cause = to, d.now, cause
	if to.Ended() {
		d.ro.Ended = d.now
		d.lookAt(d.now.Add(time.Millisecond)) // the zones may be out of balance
	}
	d.roChanged = true
	d.entry(d.ro.entry(measured...))
}

// entry is the journal entry for the state that the rollout is in.
func (r *Rollout) entry(measured ...Number) Entry {
	return Entry{Kind: "rollout." + string(r.State), Rollout: r.ID, Version: r.To, Cause: r.Cause, Numbers: measured}
}

// roomCause is that there are more than there may be during the rollout.
func (d *deciding) roomCause(has int) Cause {
	return Cause{Code: CodeRoom, Numbers: Numbers{count("has", has), count("may_have", d.group.Size+d.ro.Above)}}
}

// waveEndsWith is how many new instances a wave can end with: what it wants, or what
// is there already, less the pinned ones that are left behind.
func (d *deciding) waveEndsWith(t tally, want int) int {
	return max(min(max(want, t.newCounted-len(d.stuck())), d.group.Size-t.oldStay), 0)
}

// calm reports whether no rollout replaces anything now: there is none, or it is held or waits for its time.
func (d *deciding) calm() bool {
	return d.ro == nil || (!d.ro.Back && (d.ro.State == Held || d.outOfHours()))
}

// advanceRollout moves the rollout on when its present stage is complete and
// reports whether there is more to reconcile because of that.
func (d *deciding) advanceRollout() bool {
	if d.ro == nil || d.ro.State.Ended() {
		return false
	}
	if d.group.Deleting {
		d.turn(Abandoned, Cause{Code: CodeGroupGoes})
		return false
	}
	switch {
	case d.ro.State == Held:
	case d.ro.Back:
		_, t := d.onWayBack()
		if t.old() <= t.oldStay && t.newServing >= d.group.Size-t.oldStay {
			d.turn(Reverted, Cause{Code: CodeBackWhole, About: d.ro.BackTo(d.group.Size), Numbers: Numbers{
				count("serving", t.newServing), count("size", d.group.Size), count("left_behind", t.oldStay+d.idle(every)), count("left_out", min(d.counts.leftOut(), t.oldStay+d.idle(every)))}})
		}
	case d.ro.State == Moving:
		if d.filled() {
			return d.beginSoak()
		}
	case !d.filled():
		d.turn(Moving, d.waveCause(CodeNotWhole), d.waveNumbers()...)
		return true
	case d.group.Watched.After(d.ro.Since):
		d.turn(Moving, d.waveCause(CodeUnwatched), d.waveNumbers()...)
		return true
	default:
		over := d.ro.Since.Add(d.ro.soak())
		if d.now.Before(over) {
			d.lookAt(over)
			return false
		}
		if d.outOfHours() {
			return false
		}
		if g, until := d.undecided(); g != nil {
			if d.now.Before(until) {
				d.lookAt(until)
				return false
			}
			code := CodeGateUndecided
			if g.Alarming() {
				code = CodeGateAlone
			}
			d.hold(d.gateCause(code, g))
			return false
		}
		return d.passWave()
	}
	return false
}

// filled reports whether the present wave has replaced all that it should.
func (d *deciding) filled() bool {
	t := d.underWay()
	want := d.waveEndsWith(t, d.ro.Waves[d.ro.Wave].Of(d.group.Size))
	if t.newServing < want {
		stuck := len(d.stuck())
		// For want of room nothing comes in the stead of those that are stuck.
		if t.newServing < want-stuck || t.newCounted > t.newServing+stuck || t.counted < d.group.Size+d.ro.Above {
			return false
		}
	}
	return t.old() <= max(d.group.Size-want, t.oldStay)
}

// stuck are the new instances that are pinned and failed: nobody may remove them, and nothing waits for
// them once a person had the rollout go on.
func (d *deciding) stuck() (all []string) {
	for _, i := range d.unsteady {
		in := d.at(i)
		if in.Version == d.ro.To && in.Pinned && in.State.Counts() && !d.group.Serves(in) && (d.group.IsOverdue(d.now, in) || newestIllness(in) != nil) {
			all = append(all, in.ID)
		}
	}
	return all
}

// leftBehind is the cause with those that a rollout leaves as they are: pinned ones, those that it left
// out, and stuck ones; some are named.
func (d *deciding) leftBehind(c Cause) Cause {
	t, stuck, out := d.tally(d.ro.To), d.stuck(), d.counts.leftOut()
	n, names := t.oldStay+len(stuck), stuck
	for i := 0; i < d.len() && n > 0 && len(names) < namedLeft; i++ {
		if in := d.at(i); in.Counts() && !d.isNew(in) && d.stays(in) {
			names = append(names, in.ID)
		}
	}
	c.Words = strings.Join(names[:min(len(names), namedLeft)], ", ")
	c = c.with(count("left_behind", n))
	if out+len(stuck) > 0 {
		c = c.with(count("left_out", out), count("stuck", len(stuck)))
	}
	return c
}

// namedLeft is how many of those are named.
const namedLeft = 5

func (d *deciding) waveCause(code Code) Cause {
	return Cause{Code: code, Numbers: Numbers{count("wave", d.ro.Wave+1), count("waves", len(d.ro.Waves)), span("soak_seconds", d.ro.soak())}}
}

func (d *deciding) beginSoak() bool {
	d.ro.Times[d.ro.Wave].Filled = d.now
	d.turn(Soaking, d.waveCause(CodeFilled), d.waveNumbers()...)
	return true
}

func (d *deciding) passWave() bool {
	d.ro.Times[d.ro.Wave].Passed = d.now
	cause, numbers := d.waveCause(CodePassed), d.waveNumbers()
	if d.ro.Wave == len(d.ro.Waves)-1 {
		t := d.tally(d.ro.To)
		d.group.Template = d.ro.To
		d.groupChanged = true
		d.trust(d.ro.To)
		d.keepLastGood()
		if t.newServing == 0 {
			cause.About = d.ro.To.String() // which never served
			cause = cause.with(count("never_served", 1), count("size", d.group.Size))
		}
		for k := range d.ro.Gates {
			if g := &d.ro.Gates[k]; g.Kind.Compares() && g.State(d.ro.Comparing()) == gate.Undecided {
				cause = cause.with(count("undecided_"+string(g.Kind), 1))
			}
		}
		d.turn(Done, d.leftBehind(cause), numbers...)
		return false
	}
	d.ro.Wave++
	d.ro.Stumbles = 0
	for k := range d.ro.Gates {
		d.ro.Gates[k].Before = d.ro.Gates[k].Seen.New.N
	}
	d.ro.Times = append(d.ro.Times, WaveTime{Began: d.now})
	d.turn(Moving, cause, numbers...)
	return true
}

func (d *deciding) waveNumbers() Numbers {
	t := d.tally(d.ro.To)
	return Numbers{count("new_serving", t.newServing), count("wave_target", d.ro.Waves[d.ro.Wave].Of(d.group.Size)), count("size", d.group.Size)}
}
