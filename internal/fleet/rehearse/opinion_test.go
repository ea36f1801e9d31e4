package rehearse

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/say"
)

// A second opinion: what docs/concepts.md promises (and docs/tasks says of it), as a slow and simple model that
// steps beside every plan. Of the core it knows what anybody sees: the journal, who stands where, and what the
// machines do; times are those of the world, and hours those of a clock on the wall.

// opinion is what the model remembers.
type opinion struct {
	*watch
	entered map[string]time.Time // when each instance came into its state
	served  map[string]time.Time // since when it serves
	slots   map[int]*failing
	ro      replacing
	soaks   time.Time // since when the rollout soaks
	clock   time.Duration
	clockAt time.Time // when it was set last
	permit  time.Time
	parted  bool // zones failed, or were others: who stands where is no choice
}

// failing is a slot whose instances fail.
type failing struct {
	times int
	last  time.Time
	of    fleet.Version
}

// replacing is what a rollout did so far.
type replacing struct {
	id           time.Time // when it started tells one from another
	drained      int
	begunServe   map[string]bool
	there, least int // as it began, and of the size
}

func newOpinion(k *watch) *opinion {
	return &opinion{watch: k, entered: map[string]time.Time{}, served: map[string]time.Time{}, slots: map[int]*failing{}}
}

// comesNext are the states that may come after one ("The life of an instance").
var comesNext = map[string][]string{
	"":         {"ordered"},
	"ordered":  {"booting", "held", "settling", "leaving", "lost"},
	"booting":  {"held", "settling", "leaving", "lost"},
	"held":     {"held", "settling", "serving", "leaving", "lost"},
	"settling": {"serving", "draining", "held", "leaving", "lost", "parked", "resting"},
	"serving":  {"draining", "held", "leaving", "lost", "resting", "parked"},
	"resting":  {"settling", "draining", "held", "leaving", "lost"},
	"parked":   {"settling", "draining", "held", "leaving", "lost"},
	"draining": {"held", "leaving", "lost"},
	"leaving":  {"gone", "ordered"}, // a fresh machine
	"lost":     {"gone", "ordered"},
}

// rolloutNext are those of a rollout, as far as nobody tells it anything.
var rolloutNext = map[fleet.RolloutState][]fleet.RolloutState{
	fleet.Moving:    {fleet.Soaking, fleet.Held, fleet.Reverting, fleet.Abandoned},
	fleet.Soaking:   {fleet.Moving, fleet.Held, fleet.Reverting, fleet.Done, fleet.Abandoned},
	fleet.Held:      {fleet.Abandoned},
	fleet.Reverting: {fleet.Reverted, fleet.Abandoned},
}

// step takes in one decision and says what it thinks of it.
func (o *opinion) step(before fleet.View, d fleet.Decision) {
	w := o.p.w
	if w.Skew != o.clock {
		o.clock, o.clockAt = w.Skew, w.Now
		clear(o.slots) // what served for long enough, and what waited, cannot be told
	}
	if permit := before.Group.HealPermit; !permit.Equal(o.permit) { // a person had all slots tried at once
		o.permit = permit
		clear(o.slots)
	}
	for _, z := range before.Group.Zones {
		o.parted = o.parted || o.p.zoneLost[z] || o.p.zoneHung[z]
	}
	o.parted = o.parted || len(before.Group.Setbacks) > 0 || !slices.Equal(before.Group.Zones, w.View.Group.Zones)
	now := fleet.RolloutState("")
	if before.Rollout != nil {
		now = before.Rollout.State
	}
	for _, e := range d.Entries {
		switch {
		case isKind(e.Kind, "instance"):
			ids := e.Instances
			if e.Instance != "" {
				ids = []string{e.Instance}
			}
			for _, id := range ids {
				o.moved(before, e, id)
			}
		case isKind(e.Kind, "rollout") && e.Kind != "rollout.stalled":
			to := fleet.RolloutState(e.Kind[len("rollout."):])
			if !slices.Contains(rolloutNext[now], to) {
				o.fail("a rollout that is %s became %s by itself", now, to)
			}
			o.turned(before, to, e)
			now = to
		}
	}
	o.rollout(before, d)
	o.ends(before)
	o.sentence()
}

// moved takes in that an instance came into another state.
func (o *opinion) moved(before fleet.View, e fleet.Entry, id string) {
	to := e.Kind[len("instance."):]
	if to == "pinned" || to == "unpinned" || to == "recreate-awaits" {
		return
	}
	if !slices.Contains(comesNext[e.Was], to) {
		o.fail("life: %s was %q and became %s", id, e.Was, to)
	}
	in := o.p.w.Instance(id)
	if in == nil {
		for k := range before.Instances {
			if before.Instances[k].ID == id {
				in = &before.Instances[k]
			}
		}
	}
	now := o.p.w.Now
	o.entered[id] = now
	switch {
	case to == "serving":
		o.served[id] = now
		if o.ro.begunServe != nil { // while it is held old ones come too
			o.ro.begunServe[id] = true
		}
	case to == "ordered" && e.Was == "":
		o.launched(before, in)
	case to == "draining" || to == "leaving" || to == "lost" || to == "held":
		if since, did := o.served[id]; in != nil && did {
			if s := o.slots[in.Slot]; s != nil && now.Sub(since) >= fleet.FirstProof {
				delete(o.slots, in.Slot)
			}
			delete(o.served, id)
		}
		if in != nil && e.Was != "draining" && e.Was != "held" && e.Was != "parked" { // what is parked is a person's
			o.failed(before, in, e.Cause.Code)
		}
	}
}

// failed counts that an instance failed in its slot; a machine that could not be started is the zone's. While a rollout replaces, it is the rollout that answers for
// the new version.
func (o *opinion) failed(before fleet.View, in *fleet.Instance, why fleet.Code) {
	if !slices.Contains([]fleet.Code{fleet.CodeVanished, fleet.CodeNotUp, fleet.CodeNotHealthy}, why) {
		return
	}
	if r := before.Rollout; r != nil && in.Version == r.To || before.Group.Deleting || in.Renew {
		return
	}
	s := o.slots[in.Slot]
	if s == nil || s.of != in.Version {
		s = &failing{}
		o.slots[in.Slot] = s
	}
	if !s.last.Equal(o.p.w.Now) { // two may stand there, the one in the place of the other
		s.times++
	}
	s.last, s.of = o.p.w.Now, in.Version
}

// launched expects of a new instance that its slot waited as long as it should ("A slot that fails again and again"),
// and that it comes where it belongs.
func (o *opinion) launched(before fleet.View, in *fleet.Instance) {
	if in == nil {
		return
	}
	now := o.p.w.Now
	if s := o.slots[in.Slot]; s != nil && s.times > 1 && s.of == in.Version {
		wait := 10 * time.Second
		for range min(s.times-2, 10) {
			wait = min(2*wait, 10*time.Minute)
		}
		if now.Before(s.last.Add(wait)) && !o.standsIn(before, in.Slot) {
			o.fail("8: %s comes into slot %d, which failed %d times, after %s and not %s", in.ID, in.Slot, s.times, now.Sub(s.last), wait)
		}
	}
	o.byZone(in)
}

// standsIn reports whether another counts in a slot, whose place is taken by and by.
func (o *opinion) standsIn(before fleet.View, slot int) bool {
	return slices.ContainsFunc(before.Instances, func(in fleet.Instance) bool { return in.Slot == slot && in.Counts() })
}

// byZone expects of a rollout zone by zone that no zone gets more than its part while all can have some.
func (o *opinion) byZone(in *fleet.Instance) {
	v := &o.p.w.View
	r := v.Rollout
	if r == nil || o.parted || r.Order != fleet.ZoneByZone || r.Back || in.Version != r.To || (v.Group.Spread != "" && v.Group.Spread != placement.Even) || in.Purpose != fleet.ForRollout {
		return
	}
	has := map[string]int{}
	for i := range v.Instances {
		if is := &v.Instances[i]; is.Counts() && is.Version == r.To {
			has[is.Zone]++
		}
	}
	part := (v.Group.Size + len(v.Group.Zones) - 1) / len(v.Group.Zones)
	for _, z := range v.Group.Zones {
		if has[in.Zone] > part && has[z] < has[in.Zone]-1 {
			o.fail("zone by zone: %s is in %s, which has %d of %d, and %s has %d", in.ID, in.Zone, has[in.Zone], v.Group.Size, z, has[z])
			return
		}
	}
}

// rollout keeps account of what is replaced: "as each begins to serve, an old one drains".
func (o *opinion) rollout(before fleet.View, d fleet.Decision) {
	r := before.Rollout
	if r == nil || r.Back || r.AtOnce {
		return
	}
	v := &o.p.w.View
	begins := !o.ro.id.Equal(r.Started)
	if begins {
		o.ro = replacing{id: r.Started, begunServe: map[string]bool{}, least: r.Sized}
	}
	there := 0
	for i := range v.Instances {
		in := &v.Instances[i]
		if in.Version == r.To && !in.Served.IsZero() {
			o.ro.begunServe[in.ID] = true
		}
	}
	for i := range before.Instances {
		if before.Instances[i].Counts() {
			there++
		}
	}
	if begins {
		o.ro.there = there
	}
	o.ro.least = min(o.ro.least, v.Group.Size)
	for _, in := range d.Changed {
		if in.Cause.Code != fleet.CodeReplaced || in.Version == r.To || !in.Since.Equal(o.p.w.Clock()) {
			continue
		}
		for i := range before.Instances {
			if old := &before.Instances[i]; old.ID == in.ID && old.State == fleet.Serving && !o.wasIll(old, r.Resumed) {
				o.ro.drained++
			}
		}
		if !o.open(r) {
			o.fail("%s is replaced at %s, and the rollout waits until %s, only %q", in.ID, o.p.w.Clock().In(o.p.place), r.StartAt, r.Hours)
		}
	}
	if may := r.Below + len(o.ro.begunServe) + max(o.ro.there-o.ro.least, 0); o.ro.drained > may {
		o.fail("9: %d that served were replaced, and %d others ever began to serve, below %d", o.ro.drained, len(o.ro.begunServe), r.Below)
	}
}

// wasIll reports whether an instance served nobody before a time: who had a rollout go on knew that.
func (o *opinion) wasIll(in *fleet.Instance, at time.Time) bool {
	m := o.p.w.Machines[in.ID]
	return m == nil || !slices.ContainsFunc(o.p.w.View.Group.Checks, func(c string) bool { return m.Bad[c].IsZero() || m.Bad[c].After(at) })
}

// open reports whether a rollout may replace something now: by the clock on the wall of its place.
func (o *opinion) open(r *fleet.Rollout) bool {
	if o.p.w.Clock().Before(r.StartAt) {
		return false
	}
	if r.Hours == "" {
		return true
	}
	hours, _, _ := strings.Cut(string(r.Hours), " ")
	from, to, _ := strings.Cut(hours, "-")
	wall := o.p.w.Clock().In(o.p.place).Format("15:04")
	if from < to {
		return from <= wall && wall < to
	}
	return wall >= from || wall < to
}

// turned takes in that the rollout came into another state.
func (o *opinion) turned(before fleet.View, to fleet.RolloutState, e fleet.Entry) {
	r := before.Rollout
	passed := to == fleet.Done || e.Cause.Code == fleet.CodePassed
	if passed && r != nil && o.clockAt.Before(o.soaks) {
		if good := o.p.w.Now.Sub(o.soaks); good < r.Waves[r.Wave].Soaking(r.Soak) {
			o.fail("a wave passed after %s, and its soak is %s", good, r.Waves[r.Wave].Soaking(r.Soak))
		}
	}
	if passed && r != nil && !o.open(r) {
		o.fail("wave %d passed at %s, outside of %q", r.Wave+1, o.p.w.Clock().In(o.p.place), r.Hours)
	}
	if to == fleet.Soaking {
		o.soaks = o.p.w.Now
	}
}

// ends expects what comes up to do so in its time, or to go: but for a person, and what a rollout left to be looked at.
func (o *opinion) ends(before fleet.View) {
	v := &o.p.w.View
	g := &v.Group
	if g.Frozen != "" || before.Group.Frozen != "" || g.Heal.Check() == "" || g.Deleting {
		return
	}
	for i := range v.Instances {
		in := &v.Instances[i]
		limit := 25*time.Second + g.Settle // both may have been longer
		switch {
		case in.Pinned || (in.State != fleet.Ordered && in.State != fleet.Booting && in.State != fleet.Settling):
			continue
		case v.Rollout != nil && in.Version == v.Rollout.To:
			continue
		case in.State != fleet.Settling:
			limit += 30 * time.Second
		}
		came := o.entered[in.ID]
		if came.IsZero() || o.clockAt.After(came) {
			continue
		}
		since := later(came, o.p.w.watched, o.p.w.froze)
		if age := o.p.w.Now.Sub(since); age > limit+o.p.holds {
			o.fail("life: %s is %s for %s", in.ID, in.State, age)
		}
	}
}

func later(all ...time.Time) (last time.Time) {
	for _, t := range all {
		if t.After(last) {
			last = t
		}
	}
	return last
}

var ofSo = regexp.MustCompile(`(\d+) of (\d+) serving`)

// sentence expects what heads the group to be possible.
func (o *opinion) sentence() {
	v := &o.p.w.View
	if o.p.w.Decisions%10 > 0 || (len(v.Instances) > 60 && o.p.w.Decisions%50 > 0) {
		return
	}
	text := say.Summarise(o.p.w.Clock(), *v).Sentence
	if strings.Contains(text, "-9223") || strings.Contains(text, "292 y") || strings.Contains(text, "%!") {
		o.fail("told: %s", text)
	}
	if m := ofSo.FindStringSubmatch(text); m != nil {
		n, _ := strconv.Atoi(m[1])
		of, _ := strconv.Atoi(m[2])
		if n > of {
			o.fail("told: %s", text)
		}
	}
}

// atTheEnd is what it thinks of a plan that is over.
func (o *opinion) atTheEnd() {
	good, fled := o.p.w.View.Group.GoodBefore(), false
	for _, l := range o.p.w.Journal {
		switch {
		case l.Version != good:
		case l.Kind == "rollout.held" && l.Cause.Code != fleet.CodeTold && l.Cause.Code != fleet.CodeGateUndecided, l.Kind == "rollout.reverting":
			fled = true
		case l.Kind == "rollout.done", l.Kind == "rollout.moving" && l.Cause.Code == fleet.CodeTold:
			fled = false
		}
	}
	if fled {
		o.fail("%s is the last good version, and the group was kept or taken back from it", good)
	}
}
