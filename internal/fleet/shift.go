package fleet

import (
	"slices"
	"time"

	"unitas/internal/fleet/health"
)

// Shift moves every time of the group and its instances by as much as the clock was set,
// so that all lasts as long as it would have. What it changes is all of the records.
func (v *View) Shift(by time.Duration) Decision {
	move := func(times ...*time.Time) {
		for _, t := range times {
			if !t.IsZero() {
				*t = t.Add(by)
			}
		}
	}
	g := v.Group
	g.Setbacks, g.Slots = slices.Clone(g.Setbacks), slices.Clone(g.Slots)
	g.RuleStates = slices.Clone(g.RuleStates)
	for i := range g.RuleStates { // what calendars did is by the clock as it is
		move(&g.RuleStates[i].Acted, &g.RuleStates[i].Shrank)
	}
	move(&g.HealPermit, &g.HealStopped, &g.Watched)
	for i := range g.Setbacks {
		move(&g.Setbacks[i].Last, &g.Setbacks[i].Until, &g.Setbacks[i].BriefLast)
	}
	for i := range g.Slots {
		move(&g.Slots[i].Last, &g.Slots[i].Until)
	}
	d := Decision{Group: &g}
	for _, in := range v.Instances {
		move(&in.Since, &in.Ordered, &in.Up, &in.Served)
		in.Reports = shiftReports(in.Reports, move)
		in.Tickets = slices.Clone(in.Tickets)
		for k := range in.Tickets {
			t := &in.Tickets[k]
			move(&t.Opened, &t.Deadline, &t.Bound, &t.Closed)
		}
		d.Changed = append(d.Changed, &in)
	}
	if v.Rollout != nil {
		ro := *v.Rollout
		ro.Times, ro.Gates = slices.Clone(ro.Times), withSeen(ro.Gates, v.Seen)
		move(&ro.Since, &ro.Resumed, &ro.Started, &ro.Ended)
		for i := range ro.Times {
			move(&ro.Times[i].Began, &ro.Times[i].Filled, &ro.Times[i].Passed)
		}
		d.Rollout = &ro
	}
	return d
}

func shiftReports(reports []health.Report, move func(...*time.Time)) []health.Report {
	reports = slices.Clone(reports)
	for i := range reports {
		move(&reports[i].Since)
	}
	return reports
}

// NoLater takes the instance's times that are later than now for now: nothing began in the
// future, whatever the clock said that it was written by.
func (in *Instance) NoLater(now time.Time) {
	for _, t := range []*time.Time{&in.Since, &in.Ordered, &in.Up, &in.Served} {
		if t.After(now) {
			*t = now
		}
	}
}
