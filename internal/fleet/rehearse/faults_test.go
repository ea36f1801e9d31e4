package rehearse

import (
	"flag"
	"math/rand/v2"
	"testing"
	"time"

	"unitas/internal/fleet"
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
	// badVersion never becomes healthy, or ends soon after it did if it crashes; 0
	// when all are good.
	badVersion int
	crashes    bool
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
	switch p.r.IntN(6) {
	case 0:
		p.badVersion = 2
	case 1:
		p.badVersion, p.crashes = 2, true
	case 2: // the version before is what is bad
		p.badVersion, p.crashes = 1, p.r.IntN(2) == 0
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
	p.mustNotHammer()
	return p.w
}

// fate draws how a new machine behaves.
func (p *plan) fate(in fleet.Instance) Behaviour {
	b := Behaviour{
		Boot: p.upTo(4 * time.Second), Well: p.upTo(3 * time.Second),
		Finish: p.upTo(12 * time.Second), Grace: p.upTo(2 * time.Second),
		Refused: p.zoneLost[in.Zone],
	}
	switch {
	case in.Version.N == p.badVersion && p.crashes:
		b.Vanish = b.Boot + b.Well + time.Second + p.upTo(20*time.Second)
	case in.Version.N == p.badVersion:
		b.Well = -1
	}
	if p.calm || in.Version.N == p.badVersion { // what is bad never has a good moment
		return b
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
	r, _, err := fleet.Begin(p.w.Now, v.Group, v.Instances, fleet.Rollout{
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
