package rehearse

import (
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
)

// What is expected of a plan once all faults have ended.

// bound is how long a group may take to be whole after the last fault: the longest that
// a place and a zone wait, a rest, and one after another all instances twice, for the
// rollout that is reverted and for balance.
func (p *plan) bound() time.Duration {
	g := p.w.View.Group
	one := g.Drain + 15*time.Second + p.holds // a machine that is well comes and another goes
	return fleet.LastPause + fleet.LastBackoff + 2*g.BootLimit() + g.Settle + p.worst + time.Duration(3*len(p.w.View.Instances)+2*g.Size)*one
}

// recover ends all faults and expects a whole group.
func (p *plan) recover() {
	p.calm = true
	clear(p.zoneLost)
	clear(p.zoneHung)
	v := &p.w.View
	if p.w.Finished {
		return
	}
	p.w.Restart()
	p.thaw()
	p.mend()
	p.w.Run(p.w.Now.Add(p.bound()))
	p.mustWorkBackUp()
	p.tell(fleet.CommandRevert)
	for _, in := range slices.Clone(v.Instances) {
		p.w.Tell(in.ID, fleet.CommandUnpin)
		p.w.Tell(in.ID, fleet.CommandUnpark)
	}
	p.mend()
	p.w.Run(p.w.Now.Add(p.bound()))
	if v.Group.Deleting {
		if !p.w.Finished || p.w.Living() > 0 {
			p.k.fail("10: the deleted group has %d instances and %d machines", len(v.Instances), p.w.Living())
		}
		return
	}
	p.mustHaveEnded()
	if v.Group.Heal.Check() == "" {
		return // nobody replaces what never became healthy
	}
	p.mustBeWhole()
	p.mustFitLoad()
	if v.Rollout == nil && !p.t.Failed() {
		p.rollOn()
	}
}

// mend ends what is wrong with the machines that there are, but for what a bad version does.
func (p *plan) mend() {
	for _, in := range slices.Clone(p.w.View.Instances) {
		p.w.Answer(in.ID, true)
	}
	for id, m := range p.w.Machines { // what would still go wrong
		m.StopFails = 0
		if in := p.w.Instance(id); in != nil && len(m.Ill) > 0 && in.Version.N != p.badVersion {
			m.Ill = nil
		}
	}
}

// mustWorkBackUp expects that once no more goes wrong as many answer as must, before any person says
// anything, and that a rollout to what is good has ended, or waits for somebody.
func (p *plan) mustWorkBackUp() {
	v := &p.w.View
	g := &v.Group
	if p.w.Finished || g.Deleting || g.Heal.Check() == "" || !g.HealStopped.IsZero() { // it asks for a person
		return
	}
	versions, least := []int{g.Template.N}, g.Size
	r := v.Rollout
	if r != nil {
		versions = nil
		for _, s := range r.GoesBack(g.Size) {
			versions = append(versions, s.Version.N)
		}
		least, _ = r.Between(g.Size)
	}
	if slices.Contains(versions, p.badVersion) {
		return // nothing that it may launch is any good
	}
	answering, idle := 0, 0
	for i := range v.Instances {
		switch in := &v.Instances[i]; {
		case in.State == fleet.Serving && p.w.Machines[in.ID].Answers(g.Checks):
			answering++
		case in.Counts() && in.Pinned:
			idle++
		}
	}
	if answering < least-idle {
		p.k.fail("1: %s after the last fault %d answer, and %d must: %s", p.bound(), answering, least-idle, say.Summarise(p.w.Clock(), *v).Sentence)
	}
	if r == nil || r.State == fleet.Held || (!r.Back && (r.To.N == p.badVersion || !r.Waits(p.w.Clock(), p.place).IsZero())) {
		return
	}
	p.k.fail("10: %s after the last fault the rollout is still %s: %s", p.bound(), r.State, say.Summarise(p.w.Clock(), *v).Sentence)
}

// mustHaveEnded expects no machine without a record, and that the rollout is over.
func (p *plan) mustHaveEnded() {
	v := &p.w.View
	if m := p.w.Living(); m > len(v.Instances) {
		p.k.fail("3: %d machines for %d instances", m, len(v.Instances))
	}
	if r := v.Rollout; r != nil && r.Stalled() && !slices.ContainsFunc(p.w.Journal, func(l Line) bool { return l.Kind == "rollout.stalled" }) {
		p.k.fail("told: what the rollout goes back to does not come up, and nobody was told")
	}
	toBad := func(s fleet.VersionCount) bool { return s.Version.N == p.badVersion }
	if v.Rollout != nil && !slices.ContainsFunc(v.Rollout.GoesBack(v.Group.Size), toBad) {
		p.k.fail("10: the rollout is still %s: %s", v.Rollout.State, say.Summarise(p.w.Clock(), *v).Sentence)
	}
}

// mustBeWhole expects the size, everybody serving, in balance, and nothing else.
func (p *plan) mustBeWhole() {
	v := &p.w.View
	if v.Rollout != nil || v.Group.Template.N == p.badVersion {
		return
	}
	if n := len(p.w.Ended); n > 0 && p.w.Ended[n-1].State == fleet.Reverted && p.w.Ended[n-1].From.N == p.badVersion {
		return // a person had it brought back to what is bad
	}
	serving := 0
	for i := range v.Instances {
		if in := &v.Instances[i]; p.w.Machines[in.ID].Answers(v.Group.Checks) {
			serving++
		}
	}
	if serving != v.Group.Size || len(v.Instances) != serving {
		p.k.fail("10: %s after the last fault %d of %d answer and there are %d instances: %s",
			p.bound(), serving, v.Group.Size, len(v.Instances), say.Summarise(p.w.Clock(), *v).Sentence)
	}
	if v.Group.Above > 0 {
		p.k.mustBeBalanced()
	}
}
