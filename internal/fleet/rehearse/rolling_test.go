package rehearse

import (
	"slices"
	"time"

	"unitas/internal/fleet"
)

// That a rollout goes as far as its waves say, and that a broken version takes no healthy
// group down.

// invariant8: a rollout whose new instances do not become healthy, turn ill, or end by
// themselves stops by itself.
func (k *watch) invariant8(before fleet.View, d fleet.Decision) {
	r := k.p.w.View.Rollout
	if r != nil && r.State == fleet.Held && r.Cause.Code == fleet.CodeTurnedIll {
		for _, in := range d.Changed {
			if in.ID == r.Cause.Instance && in.State == fleet.Draining && in.Cause.Code == fleet.CodeChecked {
				k.fail("8: the rollout is held for %s, and it is healed away", in.ID)
			}
		}
	}
	if before.Group.Frozen != "" {
		k.lastFrozen = k.p.w.Clock()
	}
	if e := d.Rollout; e != nil && e.State == fleet.Done {
		k.mustHaveSoaked(before, e)
	} else if e != nil && e.State == fleet.Reverted {
		k.mustBeBack(e)
	}
	if r != nil && before.Rollout != nil && before.Group.Frozen == "" {
		k.mustKeepToItsWave(r, d)
	}
	if r == nil || r.Back || r.State == fleet.Held || before.Group.Frozen != "" || before.Rollout == nil {
		k.ends = nil
		return
	}
	if r.Since.Equal(r.Started) && r.State == fleet.Moving && !r.Waits(k.p.w.Clock(), k.p.place).IsZero() { // it goes by what is so when it begins
		k.p.remember()
	}
	if now := (wave{r.Wave, r.Resumed}); now != k.wave {
		k.wave, k.ends = now, nil
	}
	now := k.p.w.Clock()
	for i := range k.p.w.View.Instances {
		in := &k.p.w.View.Instances[i]
		m := k.p.w.Machines[in.ID]
		if in.Version != r.To || m == nil || m.Gone || m.Launch != in.Launch {
			continue
		}
		late := m.Launched.Add(before.Group.BootLimit() + before.Group.Settle)
		if len(before.Group.Hooks) > 0 && in.State == fleet.Settling { // it settles from when they let it go
			late = in.Since.Add(before.Group.Settle)
		}
		if again := before.Watched.Add(max(before.Group.Settle, before.Group.BootLimit())); again.After(late) { // only watched time counts
			late = again
		}
		if in.State.ComingUp() && in.State != fleet.HeldIn && !in.Pinned && in.Served.IsZero() && !m.Good && !m.Refused && now.After(late.Add(time.Minute)) && late.After(r.Resumed) {
			k.fail("8: %s is not healthy %s after its launch, and the rollout goes on", in.ID, now.Sub(m.Launched))
		}
		for check, since := range m.Bad { // a gate on health says how many may be
			if k.tolerant(r) {
				break
			}
			if in.State == fleet.Serving && since.After(r.Resumed) && since.After(in.Since) && slices.Contains(before.Group.AllChecks(), check) {
				k.fail("8: %s finds %s ill, and the rollout goes on", check, in.ID)
			}
		}
	}
	k.mustKeepHealthy(r)
	k.mustKeepHours(r, d)
	if len(k.ends) >= k.mayEnd(r) {
		k.fail("8: machines of the new version ended %d times in one wave (%v), and it goes on", len(k.ends), k.ends)
	}
}

// ended notes that a machine ended by itself, for invariant 8.
func (k *watch) ended(in *fleet.Instance) {
	r := k.p.w.View.Rollout
	if r == nil || r.Back || r.State == fleet.Held || in.Version != r.To || !in.State.Counts() {
		return
	}
	if at := in.Zone + " at " + k.p.w.Now.Sub(epoch).String(); !slices.Contains(k.ends, at) {
		k.ends = append(k.ends, at)
	}
}

// mustHaveSoaked expects the last wave of a rollout that is done to have been good for
// its soak, and somebody to have watched.
func (k *watch) mustHaveSoaked(before fleet.View, r *fleet.Rollout) {
	if since := k.p.w.Clock().Sub(k.lastFrozen); !k.lastFrozen.IsZero() && since < r.Waves[len(r.Waves)-1].Soaking(r.Soak) && since >= 0 {
		k.fail("8: it is done %s after the group was frozen, and the soak is %s", since, r.Soak)
	}
	for n, t := range r.Times {
		if soak := r.Waves[n].Soaking(r.Soak); t.Passed.Sub(t.Filled) < soak || t.Filled.IsZero() {
			k.fail("8: wave %d was good for %s of %s", n+1, t.Passed.Sub(t.Filled), soak)
		}
	}
	if before.Watched.After(r.Times[len(r.Times)-1].Filled) {
		k.fail("8: the last wave soaked while nobody watched")
	}
	if len(r.Times) != len(r.Waves) {
		k.fail("8: it is done after %d of %d waves", len(r.Times), len(r.Waves))
	}
	g := k.p.w.View.Group
	for i := range k.p.w.View.Instances {
		if in := &k.p.w.View.Instances[i]; in.State.Counts() && !in.Pinned && !leftOut(r, in) && in.Version != r.To {
			k.fail("8: it is done, and %s runs %s", in.ID, in.Version)
		}
	}
	if g.Template != r.To {
		k.fail("8: it is done, and new launches are on %s", g.Template)
	}
}

// mustKeepToItsWave expects that no more of the new version come than the wave wants, that
// a wave that soaks is whole, and that nothing comes of a version that is held for failing.
func (k *watch) mustKeepToItsWave(r *fleet.Rollout, d fleet.Decision) {
	g := k.p.w.View.Group
	want := r.Waves[r.Wave].Of(g.Size)
	launched, are, answering, pinned, counted, stuck := 0, 0, 0, 0, 0, 0
	for _, in := range d.Changed {
		if in.State == fleet.Ordered && in.Version == r.To && in.Serial > 0 && in.Ordered.Equal(k.p.w.Clock()) && in.Launch == 1 {
			launched++
		}
	}
	for i := range k.p.w.View.Instances {
		in := &k.p.w.View.Instances[i]
		switch {
		case !in.Counts():
			continue
		case in.Version != r.To:
			if in.Pinned || leftOut(r, in) {
				pinned++
			}
		default:
			are++
			if in.State == fleet.Serving && k.opens(in) {
				answering++
			} else if in.Pinned { // nobody may remove it
				stuck++
			}
		}
		counted++
	}
	switch {
	case launched == 0 && r.State != fleet.Soaking:
	case r.State == fleet.Held && r.Cause.Code == fleet.CodeStumbled && launched > 0:
		k.fail("8: the rollout is held for machines that fail, and %d of that version are launched", launched)
	case r.State == fleet.Held && r.Wave > 0 && are > r.Waves[r.Wave-1].Of(g.Size) && launched > 0:
		k.fail("8: the rollout is held, and it goes further: %d on the new version", are)
	case !r.Back && r.State != fleet.Held && launched > 0 && are-stuck > want:
		k.fail("8: wave %d goes to %d, and there are %d", r.Wave+1, want, are)
	case stuck > 0 && answering+stuck >= min(want, g.Size-pinned) && counted >= g.Size+r.Above: // nobody can come in their stead
	case r.State == fleet.Soaking && answering < min(want, g.Size-pinned):
		k.fail("8: wave %d soaks, and %d of %d answer", r.Wave+1, answering, want)
	}
}

// toldOf is which versions the group was kept or taken back from by what its journal says, and nobody
// cleared: by holds that are no person's, by going back, and by going to what was good before.
func (p *plan) toldOf() map[fleet.Version]bool {
	doubted := map[fleet.Version]bool{}
	runs, good := fleet.Version{Name: "timetable-web", N: 1}, fleet.Version{}
	for _, l := range p.w.Journal {
		switch {
		case l.Kind == "rollout.held" && l.Cause.Code != fleet.CodeTold && l.Cause.Code != fleet.CodeGateUndecided, l.Kind == "rollout.reverting":
			doubted[l.Version] = true
		case l.Kind == "rollout.moving" && l.Cause.Code == fleet.CodeTold:
			delete(doubted, l.Version)
		case l.Kind == "rollout.done" && l.Version != runs:
			delete(doubted, l.Version)
			if l.Version == good {
				doubted[runs] = true
			}
			if !doubted[runs] {
				good = runs
			}
			runs = l.Version
		}
	}
	return doubted
}

// remember notes what serves as a rollout begins, and should again if it is reverted: not what
// another was held or turned back for, in whose place that runs again which ran there before.
func (p *plan) remember() {
	before, from := p.ran, p.w.View.Rollout.From
	p.ran = map[fleet.Version]int{}
	doubted := p.toldOf()
	replaced := 0
	for i := range p.w.View.Instances {
		if in := &p.w.View.Instances[i]; p.w.View.Group.Serves(in) {
			if doubted[in.Version] && in.Version != from {
				replaced++
				continue
			}
			p.ran[in.Version]++
		}
	}
	for n := 1; n <= 4 && p.over != nil && !doubted[from]; n++ { // else all is doubted, and what runs may stay
		v := fleet.Version{Name: "timetable-web", N: n}
		if more := before[v] - p.ran[v]; more > 0 && v != from && v != p.w.View.Rollout.To && !doubted[v] { // what it goes to is no way back
			more = min(more, replaced+p.ran[from])
			p.ran[v] += more
			replaced -= more
		}
	}
	p.ran[from] += replaced
}

// mustBeBack expects of a rollout that is reverted that as many run each version as did before
// it, where the size is what it was and nobody had to be left behind.
func (k *watch) mustBeBack(r *fleet.Rollout) {
	v := &k.p.w.View
	now, served := map[fleet.Version]int{}, 0
	for i := range v.Instances {
		in := &v.Instances[i]
		if in.Pinned || leftOut(r, in) {
			return
		}
		if v.Group.Serves(in) {
			now[in.Version]++
		}
	}
	for _, n := range k.p.ran {
		served += n
	}
	if v.Group.Size != r.Sized || served != r.Sized { // then some run what most ran
		return
	}
	for version, n := range k.p.ran {
		if now[version] < n {
			k.fail("8: it is reverted, and %d of the %d that ran %s before do", now[version], n, version)
		}
	}
}
