package rehearse

import (
	"flag"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/rollout"
)

var (
	plans = flag.Int("plans", 3000, "how many random fault plans to play")
	seed  = flag.Uint64("seed", 0, "play the one plan with this seed")
)

// TestFaultPlans plays random plans of faults and commands against the list of
// what must never break, then lets the faults end and expects the group to be
// whole again. A seed that fails is played again with -seed.
func TestFaultPlans(t *testing.T) {
	if *seed != 0 {
		for _, l := range playPlan(t, *seed).Journal {
			t.Logf("%10s %s %s: %s", l.At.Sub(epoch), l.Instance, l.Kind, l.Because)
		}
		return
	}
	begun := time.Now()
	for n := uint64(1); n <= uint64(*plans); n++ {
		playPlan(t, n)
		if t.Failed() {
			t.Fatalf("the plan with seed %d failed; play it again with: go test ./internal/fleet/rehearse -run TestFaultPlans -seed %d -v", n, n)
		}
	}
	t.Logf("%d plans, %s each", *plans, (time.Since(begun) / time.Duration(*plans)).Round(time.Microsecond))
}

var zoneNames = []string{"east-pier", "mid-pier", "west-pier", "far-pier"}

// plan is one random life of a group.
type plan struct {
	t    *testing.T
	seed uint64
	r    *rand.Rand
	w    *World
	// badVersion never becomes healthy; 0 when all do.
	badVersion int
	zoneLost   map[string]bool
	calm       bool // no more faults
}

func playPlan(t *testing.T, seed uint64) *World {
	p := &plan{t: t, seed: seed, r: rand.New(rand.NewPCG(seed, 1)), zoneLost: map[string]bool{}}
	size := 1 + p.r.IntN(9)
	heal := []fleet.Heal{"sailings-up", "sailings-up", "sailings-up", fleet.HealMachine, fleet.HealOff}[p.r.IntN(5)]
	g := fleet.Group{
		Name: "timetable", Size: size, Min: 0, Max: 12, Template: fleet.Version{Name: "timetable-web", N: 1},
		Zones: zoneNames[:1+p.r.IntN(4)], Checks: []string{"sailings-up"}, Heal: heal,
		Settle: time.Duration(5+p.r.IntN(20)) * time.Second, Drain: time.Duration(p.r.IntN(10)) * time.Second,
		HealLimit: []int{10, 30, 30, 60, 100}[p.r.IntN(5)], Above: p.r.IntN(3),
		Spread: []placement.Spread{placement.Even, placement.Even, placement.InOrder, placement.Cheapest}[p.r.IntN(4)],
	}
	if p.r.IntN(3) == 0 {
		p.badVersion = 2
	}
	if heal == "sailings-up" && p.r.IntN(2) == 0 { // another than the pools ask
		g.Heal = "deep-look"
	}
	if p.r.IntN(3) == 0 { // two pools, each with a check of its own
		g.Checks = append(g.Checks, "fares-up")
	}
	p.w = New(epoch, fleet.View{Group: g}, p.fate)
	p.w.View.Prices = map[string]float64{"east-pier": 2, "mid-pier": 1, "west-pier": 1}
	p.w.OnDecision = p.mustHold

	end := epoch.Add(20 * time.Minute)
	for range p.r.IntN(12) {
		p.w.At(epoch.Add(time.Duration(p.r.Int64N(int64(18*time.Minute)))), p.mishap)
	}
	p.w.Run(end)
	p.recover()
	return p.w
}

// fate draws how a new machine behaves.
func (p *plan) fate(in fleet.Instance) Behaviour {
	b := Behaviour{
		Boot: p.upTo(4 * time.Second), Well: p.upTo(3 * time.Second),
		Finish: p.upTo(12 * time.Second), Grace: p.upTo(2 * time.Second),
		Refused: p.zoneLost[in.Zone],
	}
	if in.Version.N == p.badVersion {
		b.Well = -1
	}
	if p.calm {
		return b
	}
	if b.Well < 0 {
		return b // a version that is bad never has a good moment
	}
	switch p.r.IntN(16) {
	case 0:
		b.Refused = true
	case 1:
		b.Boot = -1
	case 2:
		b.Well = -1
	case 3:
		b.Vanish = time.Millisecond + p.upTo(3*time.Minute)
	case 4: // flaps
		at := time.Duration(0)
		for range 2 * (1 + p.r.IntN(3)) {
			at += 8*time.Second + p.upTo(time.Minute)
			b.Ill = append(b.Ill, at)
		}
		all := p.w.View.Group.AllChecks()
		b.IllBy = all[p.r.IntN(len(all)):]
	}
	return b
}

func (p *plan) upTo(d time.Duration) time.Duration {
	return time.Duration(p.r.Int64N(int64(d))).Truncate(time.Millisecond)
}

// mishap is one thing that happens to the group from outside.
func (p *plan) mishap() {
	v := &p.w.View
	switch p.r.IntN(13) {
	case 0: // a zone goes and comes back
		zone := v.Group.Zones[p.r.IntN(len(v.Group.Zones))]
		p.zoneLost[zone] = true
		for _, in := range v.Instances {
			if in.Zone == zone {
				p.w.Vanish(in.ID, "its zone is lost")
			}
		}
		p.w.At(p.w.Now.Add(p.upTo(3*time.Minute)), func() { p.zoneLost[zone] = false })
	case 1:
		if len(v.Instances) > 0 {
			p.w.Vanish(v.Instances[p.r.IntN(len(v.Instances))].ID, "killed by signal 9")
		}
	case 2:
		if g, _, err := v.Group.Change(func(g *fleet.Group) { g.Size = p.r.IntN(13) }, ""); err == nil {
			v.Group = g
		}
	case 3:
		if len(v.Instances) > 0 {
			p.w.Tell(v.Instances[p.r.IntN(len(v.Instances))].ID, []fleet.InstanceCommand{fleet.CommandPin, fleet.CommandUnpin, fleet.CommandPark,
				fleet.CommandUnpark, fleet.CommandRetire, fleet.CommandRecreate}[p.r.IntN(6)])
		}
	case 9: // settings change at any time
		if g, _, err := v.Group.Change(func(g *fleet.Group) {
			g.HealLimit, g.Shed = 1+p.r.IntN(100), []fleet.Shed{fleet.ShedOutdated, fleet.ShedOldest, fleet.ShedNewest}[p.r.IntN(3)]
			g.Above, g.Spread = p.r.IntN(3), []placement.Spread{placement.Even, placement.InOrder, placement.Cheapest}[p.r.IntN(3)]
			g.Settle, g.Drain = time.Duration(5+p.r.IntN(20))*time.Second, p.upTo(10*time.Second)
			if v.Rollout == nil && p.r.IntN(4) == 0 {
				g.Template.N = 3 - g.Template.N // for new launches only
			}
		}, ""); err == nil {
			v.Group = g
		}
	case 10: // nobody is to touch it for a while
		if g, _, err := v.Group.Freeze("a person looks at it"); err == nil {
			v.Group = g
			p.w.At(p.w.Now.Add(p.upTo(3*time.Minute)), p.thaw)
		}
	case 11: // other zones
		if g, _, err := v.Group.Change(func(g *fleet.Group) { g.Zones = zoneNames[p.r.IntN(2) : 2+p.r.IntN(3)] }, ""); err == nil {
			v.Group = g
		}
	case 12:
		if len(v.Instances) > 0 {
			p.w.Release(v.Instances[p.r.IntN(len(v.Instances))].ID, p.r.IntN(2) == 0)
		}
	case 8:
		if len(v.Instances) > 0 {
			p.w.Rest(v.Instances[p.r.IntN(len(v.Instances))].ID, p.upTo(10*time.Second))
		}
	case 4, 5, 6:
		p.startRollout()
	case 7:
		p.tell([]fleet.Command{fleet.CommandHold, fleet.CommandProceed, fleet.CommandRevert}[p.r.IntN(3)])
	}
}

func (p *plan) thaw() {
	if g, _, err := p.w.View.Group.Thaw(""); err == nil {
		p.w.View.Group = g
	}
}

func (p *plan) startRollout() {
	v := &p.w.View
	if v.Rollout != nil {
		p.tell([]fleet.Command{fleet.CommandProceed, fleet.CommandRevert}[p.r.IntN(2)])
		return
	}
	waves := []string{"100%", "1,100%", "1,50%,100%", "10%,30%,60%,100%"}[p.r.IntN(4)]
	ws, err := rollout.ParseWaves(waves)
	if err != nil {
		p.t.Fatal(err)
	}
	to := fleet.Version{Name: "timetable-web", N: 3 - v.Group.Template.N}
	above := p.r.IntN(4)
	r, _, err := fleet.Begin(p.w.Now, v.Group, fleet.Rollout{
		ID: 1, To: to, Waves: ws, Above: above, Below: min(v.Group.Size, p.r.IntN(3)), Soak: p.upTo(20 * time.Second),
	})
	if err == nil {
		v.Rollout = &r
	}
}

func (p *plan) tell(c fleet.Command) {
	if r := p.w.View.Rollout; r != nil {
		if next, _, err := r.Tell(p.w.Now, "timetable", c, ""); err == nil {
			p.w.View.Rollout = &next
		}
	}
}

// recover ends all faults and expects a whole group.
func (p *plan) recover() {
	p.calm = true
	clear(p.zoneLost)
	v := &p.w.View
	p.thaw()
	p.tell(fleet.CommandRevert)
	for i := range v.Instances {
		v.Instances[i].Pinned = false
		p.w.Tell(v.Instances[i].ID, fleet.CommandUnpark)
	}
	if v.Group.Heal.Check() == "" {
		return // nobody replaces what never became healthy
	}
	p.w.Run(p.w.Now.Add(45 * time.Minute))
	serving := 0
	for i := range v.Instances {
		if v.Group.Serves(&v.Instances[i]) {
			serving++
		}
	}
	if v.Group.Template.N != p.badVersion && (serving != v.Group.Size || len(v.Instances) != serving) {
		p.t.Errorf("seed %d: forty-five minutes after the last fault %d of %d serve and there are %d instances: %s",
			p.seed, serving, v.Group.Size, len(v.Instances), fleet.Summarise(p.w.Now, *v).Sentence)
	}
	if v.Rollout == nil && v.Group.Above > 0 && v.Group.Template.N != p.badVersion {
		p.mustBeBalanced()
	}
	if v.Rollout != nil && v.Rollout.From.N != p.badVersion {
		p.t.Errorf("seed %d: the rollout is still %s: %s", p.seed, v.Rollout.State, v.Rollout.Why)
	}
	if m := p.w.Machines(); m > len(v.Instances) {
		p.t.Errorf("seed %d: %d machines for %d instances", p.seed, m, len(v.Instances))
	}
}

// mustBeBalanced expects every instance where the group's spread wants it.
func (p *plan) mustBeBalanced() {
	g := p.w.View.Group
	zones := make([]placement.Zone, len(g.Zones))
	for k, name := range g.Zones {
		zones[k] = placement.Zone{Name: name, Open: true}
	}
	placement.Rank(zones, g.Spread, p.w.View.Prices)
	for i := range p.w.View.Instances {
		in := &p.w.View.Instances[i]
		k := slices.Index(g.Zones, in.Zone)
		if k < 0 {
			p.t.Errorf("seed %d: %s is in %s, which is not one of %v", p.seed, in.ID, in.Zone, g.Zones)
			return
		}
		zones[k].Count++
	}
	for from := range zones {
		for to := range zones {
			if zones[from].Count > 0 && placement.Helps(zones, from, to) {
				p.t.Errorf("seed %d: spread %s is out of balance: %+v", p.seed, g.Spread, zones)
				return
			}
		}
	}
}

// mustHaveReason expects an instance that serves to be removed for balance, size, a
// rollout, a person, or what the healing check finds alone.
func (p *plan) mustHaveReason(old, in fleet.Instance) {
	if check := p.w.View.Group.Heal.Check(); old.Report(check).Verdict == health.Unhealthy && strings.HasPrefix(in.Why, check+" failed") {
		return
	}
	for _, reason := range []string{"the group has ", "the size is ", "replaced by ", "a person asked"} {
		if strings.HasPrefix(in.Why, reason) {
			return
		}
	}
	p.fail("%s was healthy and was sent away: %s", old.ID, in.Why)
}

// mustHold checks one decision against what must never break.
func (p *plan) mustHold(before fleet.View, d fleet.Decision) {
	after := p.w.View
	g := after.Group
	above, below := before.Group.Above, 0
	if r := before.Rollout; r != nil {
		above, below = r.Above, r.Below
	}
	was := map[string]fleet.Instance{}
	for _, in := range before.Instances {
		was[in.ID] = in
	}
	entries := map[string]string{}
	for _, e := range d.Entries {
		entries[e.Instance+" "+e.Kind] = e.Because
	}

	check := g.Heal.Check()
	unwell := 0 // by the healing check, before
	for i := range before.Instances {
		if in := &before.Instances[i]; in.State == fleet.Serving && in.Report(check).Verdict == health.Unhealthy && !in.Report(check).Since.Before(g.HealPermit) {
			unwell++
		}
	}
	healed := 0
	chosen := 0 // serving ones that were sent away
	for _, in := range d.Changed {
		old, known := was[in.ID]
		if in.State != old.State && entries[in.ID+" instance."+string(in.State)] == "" {
			p.fail("6: %s became %s with no cause in the journal", in.ID, in.State)
		}
		if known && before.Group.Serves(&old) && in.State != fleet.Lost && in.State != fleet.Serving {
			if g.Above > 0 || in.Why != check+" "+old.Report(check).Why { // without room the ill goes first
				chosen++
			}
			p.mustHaveReason(old, in)
		}
		if known && old.Pinned && (in.State == fleet.Draining || in.State == fleet.Leaving) && old.State.Counts() && old.Machine.State != fleet.MachineRefused {
			p.fail("4: %s is pinned and was sent away: %s", in.ID, in.Why)
		}
		if r := old.Report(check); known && old.State == fleet.Serving && strings.HasPrefix(in.Why, check+" failed") && !in.State.Counts() && r.Since.After(g.HealPermit) {
			healed++
		}
		if known && before.Rollout == nil && before.Group.Serves(&old) && strings.HasPrefix(in.Why, "the group has ") {
			p.mustSpareNobody(old)
		}
		if before.Group.Frozen != "" && (!known || (in.State == fleet.Draining && old.State != in.State)) {
			p.fail("%s became %s in a frozen group", in.ID, in.State)
		}
		p.mustTakeTrafficRightly(old, in)
	}
	if limit := max(g.Size*g.HealLimit/100, 1); healed > 0 && g.Owing > limit {
		p.fail("9: %d healed and %d are being made good, the limit is %d", healed, g.Owing, limit)
	}
	if limit := max(g.Size*g.HealLimit/100, 1); healed > 0 && unwell > limit {
		p.fail("9: %d healed while %d are ill, the limit is %d", healed, unwell, limit)
	}
	serving, counted, pinned, back := 0, 0, 0, 0
	for i := range after.Instances {
		in := &after.Instances[i]
		if g.Serves(in) {
			serving++
		}
		if in.Counts() {
			counted++
			if in.State == fleet.Resting || in.Renew || (in.State == fleet.Settling && !in.Served.IsZero()) {
				back++ // a person let it come back; another goes once it serves
			}
			if in.Pinned {
				pinned++
			}
		}
	}
	if chosen > 0 && serving < g.Size-below {
		p.fail("1: %d sent away by choice, %d serve, size %d below %d", chosen, serving, g.Size, below)
	}
	if before.Group.Frozen != "" {
		return // the size may have been changed meanwhile, and nothing follows it yet
	}
	counted -= back
	if limit := max(g.Size+above, pinned); counted > limit && (counted > pinned+g.Size+above || pinned == 0) {
		p.fail("2: %d instances, size %d above %d pinned %d", counted, g.Size, above, pinned)
	}
	if counted > g.Max+above+pinned {
		p.fail("2: %d instances, max %d above %d", counted, g.Max, above)
	}
	if r := d.Rollout; r != nil && before.Rollout != nil && r.State != before.Rollout.State && r.Why == "" {
		p.fail("6: the rollout is %s with no cause", r.State)
	}
	if r := d.Rollout; r != nil && r.State == fleet.Done && r.To.N == p.badVersion && g.Size > 0 && pinned == 0 {
		p.fail("8: a rollout to the bad version is done")
	}
}

// mustSpareNobody expects that nobody who serves goes for the size while one stays
// that does no good.
func (p *plan) mustSpareNobody(gone fleet.Instance) {
	for i := range p.w.View.Instances {
		in := &p.w.View.Instances[i]
		if fresh := in.State.ComingUp() && in.Served.IsZero() && in.Ordered.Before(p.w.Now); !in.Pinned && (fresh || in.State == fleet.Serving) && !p.w.View.Group.Serves(in) {
			p.fail("9: %s served and went, and %s stays, which is %s and serves nobody", gone.ID, in.ID, in.State)
		}
	}
}

// mustTakeTrafficRightly checks the life of one target.
func (p *plan) mustTakeTrafficRightly(old, in fleet.Instance) {
	if in.State == fleet.Serving && old.State != fleet.Serving && in.Report("sailings-up").Verdict != health.Healthy {
		p.fail("5: %s serves and is %s", in.ID, in.Report("sailings-up").Verdict)
	}
	if old.State == fleet.Serving && in.State == fleet.Leaving {
		p.fail("5: %s was stopped without a drain", in.ID)
	}
	if old.State == fleet.Draining && in.State == fleet.Leaving {
		drained := old.Traffic.Closed && old.Traffic.InFlight == 0
		over := p.w.Now.Sub(old.Since) >= p.w.View.Group.Drain
		if !drained && !over && old.Machine.State != fleet.MachineStopped {
			p.fail("5: %s was stopped with %d in flight", in.ID, old.Traffic.InFlight)
		}
	}
}

func (p *plan) fail(format string, args ...any) {
	p.t.Helper()
	p.t.Errorf("seed %d at %s: "+format, append([]any{p.seed, p.w.Now.Sub(epoch)}, args...)...)
}
