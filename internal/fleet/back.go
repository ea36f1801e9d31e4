package fleet

import (
	"slices"
	"strings"
)

// VersionCount is so many instances of a version.
type VersionCount struct {
	Version Version `json:"version"`
	N       int     `json:"n"`
}

// before is what serves now on other versions than from, and what ran before the rollout that is
// superseded: with a rollout that begins now it was there before it. What was held or turned back is not.
func (g *Group) before(instances []Instance, from Version, over *Rollout) []VersionCount {
	var all []VersionCount
	if over != nil {
		for _, s := range over.Before {
			if s.Version != from && !g.keepsFrom(s.Version, over) {
				all = append(all, VersionCount{Version: s.Version})
			}
		}
	}
	for i := range instances {
		in := &instances[i]
		if in.Version == from || !g.Serves(in) || g.keepsFrom(in.Version, over) {
			continue
		}
		k := 0
		for k < len(all) && all[k].Version != in.Version {
			k++
		}
		if k == len(all) {
			all = append(all, VersionCount{Version: in.Version})
		}
		all[k].N++
	}
	if over == nil {
		return all
	}
	for _, s := range over.Before { // some of it may be replaced already
		for k := range all {
			if all[k].Version == s.Version {
				all[k].N = max(all[k].N, s.N)
			}
		}
	}
	return slices.DeleteFunc(all, func(s VersionCount) bool { return s.N == 0 })
}

// keepsFrom reports whether a version is none to go back to: the group doubts it, or the rollout that is
// superseded does.
func (g *Group) keepsFrom(v Version, over *Rollout) bool {
	return g.Doubts(v) || (over.doubted() && v == over.To)
}

// doubted reports whether the version that a rollout went to is one to keep away from: it goes back, or is
// held by what the service saw.
func (r *Rollout) doubted() bool {
	return r != nil && (r.Back || (r.State == Held && r.Cause.Code != CodeTold && r.Cause.Code != CodeGateUndecided))
}

// GoesBack is what a revert brings a group of a size back to: From for all but those that ran
// another version before. A group that shrank since has as much less of each.
func (r *Rollout) GoesBack(size int) []VersionCount {
	all := []VersionCount{{r.From, size}}
	for _, s := range r.Before {
		if size < r.Sized {
			s.N = s.N * size / r.Sized
		}
		if s.N = min(s.N, all[0].N); s.N > 0 {
			all[0].N -= s.N
			all = append(all, s)
		}
	}
	if all[0].N == 0 && len(all) > 1 {
		all = all[1:]
	}
	return all
}

// RanBefore reports whether a version is what the rollout comes from, or ran beside that: what is compared
// with the new one. What another rollout was stopped for is not.
func (r *Rollout) RanBefore(v Version) bool {
	return v == r.From || slices.ContainsFunc(r.Before, func(s VersionCount) bool { return s.Version == v })
}

// BackTo names the versions that a revert goes back to, those of most instances first.
func (r *Rollout) BackTo(size int) string {
	var names []string
	for _, s := range r.GoesBack(size) {
		names = append(names, s.Version.String())
	}
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return names[0]
}

// stall counts a launch of what the rollout goes back to that failed, and says so once it seems that it
// cannot: no person is asked before, since it may be the zone.
func (d *deciding) stall(in *Instance, why string) {
	if d.ro == nil || !d.ro.Back || in.Version == d.ro.To {
		return
	}
	d.ro.Stumbles++
	d.roChanged = true
	if d.ro.Stumbles == StumbleLimit {
		d.entry(Entry{Kind: "rollout.stalled", Version: d.ro.To, Instance: in.ID, Was: in.Version.String(), Cause: Cause{Code: CodeRefused, Words: why}, Numbers: Numbers{count("failures", d.ro.Stumbles)}})
	}
}

// Stalled reports whether a rollout goes back and what it goes back to does not come up.
func (r *Rollout) Stalled() bool { return r.Back && !r.State.Ended() && r.Stumbles >= StumbleLimit }

// comesBack notes that an instance serves of what the rollout goes back to.
func (d *deciding) comesBack(in *Instance) {
	if d.ro != nil && d.ro.Back && in.Version != d.ro.To && d.ro.Stumbles > 0 {
		d.ro.Stumbles, d.roChanged = 0, true
	}
}

// share is how many instances of a version there are, and should be.
type share struct {
	VersionCount
	counted, serving, stay int
}

// onWayBack are the versions that the rollout goes back to, as they are there now, and how
// the group stands as of those: new ones are those that there should be, old ones any more.
func (d *deciding) onWayBack() (all []share, t tally) {
	for _, s := range d.ro.GoesBack(d.group.Size) {
		all = append(all, share{VersionCount: s})
	}
	t = d.tally(Version{}) // all are old to it
	for n := range d.counts.cells {
		k := &d.counts.cells[n]
		for m := range all {
			if all[m].Version == k.version {
				all[m].counted += k.counted
				all[m].serving += k.serving
				all[m].stay += k.pinned + k.left
			}
		}
	}
	for v := range d.idlers {
		t.counted--
		t.oldStay--
		for m := range all {
			if all[m].Version == v {
				all[m].counted--
				all[m].stay--
			}
		}
	}
	for _, s := range all {
		t.newCounted += min(s.counted, s.N)
		t.newServing += min(s.serving, s.N)
		t.oldStay -= min(s.stay, s.N)
	}
	return all, t
}

// goesBackTo reports whether a version is one of those.
func goesBackTo(all []share, v Version) bool {
	return slices.ContainsFunc(all, func(s share) bool { return s.Version == v })
}

// placed counts what is of the versions, and is not idle.
func (d *deciding) placed(of func(Version) bool) func() int {
	return func() int {
		n := -d.idle(of)
		for k := range d.counts.cells {
			if c := &d.counts.cells[k]; of(c.version) {
				n += c.counted
			}
		}
		return n
	}
}

func (d *deciding) placedOf(v Version) func() int {
	return d.placed(func(o Version) bool { return o == v })
}
