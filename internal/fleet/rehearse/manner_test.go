package rehearse

import (
	"encoding/binary"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/gate"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/say"
)

// manner draws how a rollout goes about it.
func (p *plan) manner(ro *fleet.Rollout) {
	if p.r.IntN(2) == 0 {
		return
	}
	ro.Order = []fleet.Order{fleet.Mixed, fleet.ZoneByZone, fleet.OldestFirst}[p.r.IntN(3)]
	ro.AtOnce = p.r.IntN(8) == 0
	if p.r.IntN(4) == 0 {
		for range 1 + p.r.IntN(2) {
			if id := p.any(); id != "" && !slices.Contains(ro.Exclude, id) {
				ro.Exclude = append(ro.Exclude, id)
			}
		}
	}
	if p.r.IntN(4) == 0 {
		ro.StartAt = p.w.Clock().Add(p.upTo(3 * time.Minute))
	}
	if p.r.IntN(4) == 0 {
		ro.Hours = []fleet.Hours{"08:03-08:08", "08:12-07:59", "07:00-08:06 Europe/Paris", "08:15-08:50", "09:12-09:18", "07:12-07:40"}[p.r.IntN(6)]
	}
	if p.r.IntN(3) == 0 {
		ro.Gates = append(ro.Gates, gate.Gate{Kind: gate.Healthy, Floor: float64(40 + p.r.IntN(61)), OnBroken: []gate.Then{gate.Hold, gate.Revert}[p.r.IntN(2)], OnUndecided: gate.GoOn})
	}
	if n := p.w.View.Group.Size - ro.Below; p.r.IntN(4) == 0 && n > 0 && !ro.AtOnce {
		ro.Gates = append(ro.Gates, gate.Gate{Kind: gate.Serving, Floor: float64(1 + p.r.IntN(n)), OnBroken: []gate.Then{gate.Hold, gate.Revert}[p.r.IntN(2)], OnUndecided: gate.GoOn})
	}
	if len(ro.Waves) > 1 && p.r.IntN(3) == 0 {
		ro.Waves[0].Soak, ro.Waves[0].Soaks = p.upTo(10*time.Second), true
	}
}

// somewhere is the place by whose clock on the wall hours are: two hours from UTC, and in some plans summer time
// begins or ends there ten minutes after all begins.
func (p *plan) somewhere() *time.Location {
	to := []int32{7200, 7200, 10800, 3600}[p.r.IntN(4)]
	if to == 7200 {
		return time.FixedZone("there", 7200)
	}
	// A zone with one change, as RFC 8536 writes it.
	data := append([]byte("TZif"), make([]byte, 16)...)
	for _, n := range []uint32{0, 0, 0, 1, 2, 4} { // changes, kinds of time, letters of their names
		data = binary.BigEndian.AppendUint32(data, n)
	}
	data = binary.BigEndian.AppendUint32(data, uint32(epoch.Add(10*time.Minute).Unix()))
	data = append(data, 1)
	for _, offset := range []int32{7200, to} {
		data = append(binary.BigEndian.AppendUint32(data, uint32(offset)), 0, 0)
	}
	at, err := time.LoadLocationFromTZData("there", append(data, "was\x00"...))
	if err != nil {
		p.t.Fatal(err)
	}
	return at
}

// supersede has a person go to another version while a rollout is under way.
func (p *plan) supersede() {
	v := &p.w.View
	old := *v.Rollout
	to := []int{1, 2, 4}[p.r.IntN(3)]
	ended, e := old.Supersede(p.w.Clock(), fleet.Version{Name: "timetable-web", N: to})
	v.Rollout = nil
	p.over = &old
	p.begin("1,50%,100%", to, 1+p.r.IntN(3), 0, p.upTo(20*time.Second))
	p.over = nil
	if v.Rollout == nil { // it was refused, and nothing changes
		v.Rollout = &old
		return
	}
	p.w.Ended = append(p.w.Ended, ended)
	p.w.note(e)
}

// tolerant reports whether a gate says how many new instances may be ill.
func (k *watch) tolerant(r *fleet.Rollout) bool {
	return slices.ContainsFunc(r.Gates, func(g gate.Gate) bool { return g.Kind == gate.Healthy })
}

// mustKeepHealthy expects a rollout to stop that has fewer new instances well than its gate
// wants, by what the machines answer.
func (k *watch) mustKeepHealthy(r *fleet.Rollout) {
	for _, g := range r.Gates {
		if g.Kind != gate.Healthy {
			continue
		}
		well, ill := 0, 0
		for i := range k.p.w.View.Instances {
			in := &k.p.w.View.Instances[i]
			m := k.p.w.Machines[in.ID]
			if in.Version != r.To || in.State != fleet.Serving || m == nil || m.Gone {
				continue
			}
			if k.opens(in) {
				well++
			} else if slices.ContainsFunc(k.p.w.View.Group.Checks, func(c string) bool { return m.Bad[c].After(r.Resumed) && m.Bad[c].After(in.Since) }) {
				ill++
			}
		}
		if well+ill > 0 && ill > 0 && 100*float64(well)/float64(well+ill) < g.Floor {
			k.fail("8: %d of %d new instances answer, the gate wants %g %%, and the rollout goes on", well, well+ill, g.Floor)
		}
	}
}

// mustKeepHours expects nothing of the new version to be launched before the rollout's time
// or outside of its hours, but for what complete waves are owed.
func (k *watch) mustKeepHours(r *fleet.Rollout, d fleet.Decision) {
	now := k.p.w.Clock()
	open, _ := r.Hours.Opens(now, k.p.w.View.Location)
	if open && !now.Before(r.StartAt) {
		return
	}
	passed := 0
	if r.Wave > 0 {
		passed = r.Waves[r.Wave-1].Of(k.p.w.View.Group.Size)
	}
	are, launched := 0, 0
	for i := range k.p.w.View.Instances {
		if in := &k.p.w.View.Instances[i]; in.Counts() && in.Version == r.To {
			are++
		}
	}
	for _, in := range d.Changed {
		if in.State == fleet.Ordered && in.Version == r.To && in.Ordered.Equal(now) && in.Launch == 1 {
			launched++
		}
	}
	if launched > 0 && are > passed && k.p.w.View.Group.Template != r.To { // else losses are made good by it anyway
		k.fail("%d of %s are launched at %s, and the rollout waits until %s, only %q", launched, r.To, now, r.StartAt, r.Hours)
	}
}

// mayEnd is how many machines of the new version may end in one wave before the rollout
// stops: three, or more than a gate on health lets be ill.
func (k *watch) mayEnd(r *fleet.Rollout) int {
	launched := len(k.ends)
	for i := range k.p.w.View.Instances {
		if in := &k.p.w.View.Instances[i]; in.Version == r.To && in.Counts() {
			launched++
		}
	}
	most := rollout.Holds(launched)
	for _, g := range r.Gates {
		if g.Kind == gate.Healthy {
			most = max(most, 1+int((100-g.Floor)/100*float64(r.Waves[r.Wave].Of(k.p.w.View.Group.Size))))
		}
	}
	return most
}

// rollOn brings the group to a version that is good and expects it there in time.
func (p *plan) rollOn() {
	v := &p.w.View
	v.Group.Drain = min(v.Group.Drain, 10*time.Second)
	p.begin("1,50%,100%", 3, 1, 0, 10*time.Second)
	for i := range v.Instances {
		p.w.Answer(v.Instances[i].ID, true)
	}
	within := p.bound()
	p.w.Run(p.w.Now.Add(within))
	if len(p.w.Ended) == 0 || p.w.Ended[len(p.w.Ended)-1].To.N != 3 || v.Group.Template.N != 3 {
		p.k.fail("10: a rollout to a good version is not done after %s: %s", within, say.Summarise(p.w.Clock(), *v).Sentence)
	}
}

// leftOut reports whether a rollout leaves an instance as it is: it was named, or came in the place of
// one that was.
func leftOut(r *fleet.Rollout, in *fleet.Instance) bool {
	return slices.Contains(r.Exclude, in.ID) || (in.Version != r.To && slices.Contains(r.ExcludeSlots, in.Slot))
}
