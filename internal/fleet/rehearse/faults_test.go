package rehearse

import (
	"flag"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/placement"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/say"
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
			t.Logf("%10s %s%v %s: %s", l.At.Sub(epoch), l.Instance, l.Instances, l.Kind, say.Because(l.Cause))
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
	k    *watch
	// badVersion never becomes healthy, or ends soon after it did if it crashes, or
	// turns ill then if it sickens; 0 when all are good.
	badVersion        int
	crashes, sickens  bool
	zoneLost          map[string]bool
	zoneHung          map[string]bool
	shaky             bool // acts are lost, late and repeated
	calm              bool // no more faults
	largest, changes  int  // sizes and versions that people chose
	leastDrain, worst time.Duration
	over              *fleet.Rollout        // which another supersedes
	ran               map[fleet.Version]int // what served when the rollout began
	place             *time.Location        // of hours of the day
	slow              time.Duration         // for how long what crashes serves before
	holds             time.Duration         // for how long hooks hold at most, all together
	load              float64               // that a rule sizes the group by; 0 without one
}

func playPlan(t *testing.T, seed uint64) *World {
	p := &plan{t: t, seed: seed, r: rand.New(rand.NewPCG(seed, 1)), zoneLost: map[string]bool{}, zoneHung: map[string]bool{}}
	size := 1 + p.r.IntN(9)
	switch n := p.r.IntN(400); {
	case n == 0:
		size = 60 + p.r.IntN(241)
	case n <= 20:
		size = p.r.IntN(61)
	}
	g := fleet.Group{
		Name: "timetable", Checks: []string{"sailings-up"},
		Settings: fleet.Settings{
			Size: size, Min: 0, Max: max(12, size), Template: fleet.Version{Name: "timetable-web", N: 1}, Zones: zoneNames[:1+p.r.IntN(4)],
			Heal:   []fleet.Heal{"sailings-up", "sailings-up", "sailings-up", fleet.HealMachine, fleet.HealOff}[p.r.IntN(5)],
			Settle: time.Duration(5+p.r.IntN(20)) * time.Second, Drain: time.Duration(p.r.IntN(10)) * time.Second,
			HealLimit: []int{10, 30, 30, 60, 100}[p.r.IntN(5)], Above: p.r.IntN(3),
			Spread: []placement.Spread{placement.Even, placement.Even, placement.InOrder, placement.Cheapest}[p.r.IntN(4)],
		},
	}
	switch p.r.IntN(7) {
	case 0:
		p.badVersion = 2
	case 1:
		p.badVersion, p.crashes = 2, true
	case 2:
		p.badVersion, p.sickens = 2, true
	case 3: // the version before is what is bad
		p.badVersion, p.crashes = 1, p.r.IntN(2) == 0
	}
	if g.Heal == "sailings-up" && p.r.IntN(2) == 0 { // another than the pools ask
		g.Heal = "deep-look"
	}
	if p.r.IntN(3) == 0 { // two pools, each with a check of its own
		g.Checks = append(g.Checks, "fares-up")
	}
	if p.r.IntN(3) == 0 {
		p.hooks(&g)
	}
	if p.r.IntN(5) == 0 && size > 0 && size <= 60 {
		p.rules(&g)
	}
	p.place = p.somewhere()
	lasts := 20 * time.Minute
	if p.crashes && p.r.IntN(6) == 0 { // it ends after it served for a while, again and again
		p.slow, lasts = 20*time.Second+p.upTo(9*time.Minute), 2*time.Hour
	}
	p.shaky = p.r.IntN(3) == 0
	p.largest, p.leastDrain, p.worst = size, g.Drain, 40*time.Second
	p.w = New(epoch, fleet.View{Group: g}, p.fate)
	p.w.View.Prices = map[string]float64{"east-pier": 2, "mid-pier": 1, "west-pier": 1}
	p.k = &watch{p: p, healed: map[int]bool{}, asked: map[string]*asked{}}
	p.k.second = newOpinion(p.k)
	p.w.Answers = p.answer
	p.w.OnDecide = p.mustDecideAlike
	p.w.OnDecision, p.w.OnAct, p.w.OnEnd = p.k.decided, p.k.acted, p.k.ended
	if p.shaky {
		p.w.Disturb = p.disturb
	}
	if p.load > 0 {
		p.bears()
	}
	for range p.r.IntN(12) {
		p.w.At(epoch.Add(time.Duration(p.r.Int64N(int64(18*time.Minute)))), p.mishap)
	}
	p.w.Run(epoch.Add(lasts))
	p.recover()
	p.k.second.atTheEnd()
	p.k.invariant10(p.largest, p.changes)
	return p.w
}

// mustDecideAlike compares what is decided with the ledger that the world keeps with what
// is decided by looking at every instance.
func (p *plan) mustDecideAlike(d fleet.Decision) {
	if p.w.Decisions > 100_000 {
		p.t.Fatalf("seed %d at %s 10: it never comes to rest: %s", p.seed, p.w.Now.Sub(epoch), say.Summarise(p.w.Clock(), p.w.View).Sentence)
	}
	v := p.w.View
	v.Ledger = nil
	if whole := fleet.Decide(p.w.Clock(), v); !reflect.DeepEqual(d, whole) {
		p.k.fail("the ledger has another decision: %+v, without it %+v", d, whole)
	}
}

// disturb loses what is to be done with the service, or lets it be late or done twice.
func (p *plan) disturb() Disturbance {
	if p.calm {
		return Disturbance{}
	}
	switch p.r.IntN(30) {
	case 0:
		return Disturbance{Lost: true, After: time.Second + p.upTo(5*time.Second)}
	case 1, 2:
		return Disturbance{After: p.upTo(3 * time.Second)}
	case 3, 4:
		return Disturbance{Twice: true}
	}
	return Disturbance{}
}

// fate draws how a new machine behaves.
func (p *plan) fate(in fleet.Instance) Behaviour {
	b := Behaviour{
		Boot: p.upTo(4 * time.Second), Well: p.upTo(3 * time.Second),
		Finish: p.upTo(12 * time.Second), Grace: p.upTo(2 * time.Second),
		Refused: p.zoneLost[in.Zone],
	}
	if p.zoneHung[in.Zone] {
		b.Boot = -1
	}
	bad := in.Version.N == p.badVersion
	switch {
	case bad && p.crashes:
		b.Vanish = b.Boot + b.Well + time.Second + p.upTo(20*time.Second) + p.slow
	case bad && p.sickens:
		b.Ill = []time.Duration{b.Boot + b.Well + time.Second + p.upTo(20*time.Second)}
	case bad:
		b.Well = -1
	}
	if p.calm || bad { // what is bad never has a good moment
		return b
	}
	switch p.r.IntN(19) {
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
	case 5:
		b.Late, b.Boot = true, max(b.Boot, 0)
	case 6:
		b.StopFails = 1 + p.r.IntN(4)
	case 7:
		b.Half = true
	}
	return b
}

func (p *plan) upTo(d time.Duration) time.Duration {
	return time.Duration(p.r.Int64N(int64(d))).Truncate(time.Millisecond)
}

// any is the id of some instance, or "".
func (p *plan) any() string {
	if all := p.w.View.Instances; len(all) > 0 {
		return all[p.r.IntN(len(all))].ID
	}
	return ""
}

// vanish lets the machine of an instance end by itself.
func (p *plan) vanish(id, why string) {
	if in := p.w.Instance(id); in != nil {
		p.w.Vanish(id, why)
	}
}

// change has a person change settings.
func (p *plan) change(f func(*fleet.Group)) {
	was := p.w.View.Group
	_ = p.w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Change(f, "") })
	if g := p.w.View.Group; g.Size != was.Size || g.Template != was.Template {
		p.changes++
		p.largest = max(p.largest, g.Size)
	}
}

// mishap is one thing that happens to the group from outside.
func (p *plan) mishap() {
	v := &p.w.View
	if p.w.Finished {
		return
	}
	switch p.r.IntN(22) {
	case 21: // another load, or none of this service is there for minutes
		if p.load > 0 && p.r.IntN(3) > 0 {
			p.load *= 0.3 + 1.7*p.r.Float64()
			return
		}
		p.w.Away = p.w.Now.Add(p.upTo(5 * time.Minute))
		p.w.At(p.w.Away, p.w.Restart)
	case 20: // what all depend on is away for seconds
		p.blip()
	case 19:
		p.meddle()
	case 0: // a zone goes and comes back
		zone := v.Group.Zones[p.r.IntN(len(v.Group.Zones))]
		p.zoneLost[zone] = true
		for _, in := range slices.Clone(v.Instances) {
			if in.Zone == zone {
				p.vanish(in.ID, "its zone is lost")
			}
		}
		p.w.In(p.upTo(3*time.Minute), func() { p.zoneLost[zone] = false })
	case 1:
		p.vanish(p.any(), "killed by signal 9")
	case 2:
		p.change(func(g *fleet.Group) { g.Size = p.r.IntN(g.Max + 1) })
	case 3:
		p.w.Tell(p.any(), []fleet.InstanceCommand{fleet.CommandPin, fleet.CommandUnpin, fleet.CommandPark,
			fleet.CommandUnpark, fleet.CommandRetire, fleet.CommandRecreate}[p.r.IntN(6)])
	case 4, 5, 6:
		p.startRollout()
	case 7:
		p.tell([]fleet.Command{fleet.CommandHold, fleet.CommandProceed, fleet.CommandRevert}[p.r.IntN(3)])
	case 8:
		p.w.Rest(p.any(), p.upTo(10*time.Second))
	case 9: // settings change at any time
		p.change(func(g *fleet.Group) {
			g.HealLimit, g.Shed = 1+p.r.IntN(100), []fleet.Shed{fleet.ShedOutdated, fleet.ShedOldest, fleet.ShedNewest}[p.r.IntN(3)]
			g.Above, g.Spread = p.r.IntN(3), []placement.Spread{placement.Even, placement.InOrder, placement.Cheapest}[p.r.IntN(3)]
			g.Settle, g.Drain = time.Duration(5+p.r.IntN(20))*time.Second, p.upTo(10*time.Second)
			p.leastDrain = min(p.leastDrain, g.Drain)
			if v.Rollout == nil && p.r.IntN(4) == 0 {
				g.Template.N = p.other() // for new launches only
			}
		})
	case 10: // nobody is to touch it for a while
		_ = p.w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Freeze("a person looks at it") })
		p.w.In(p.upTo(3*time.Minute), p.thaw)
	case 11: // other zones
		p.change(func(g *fleet.Group) { g.Zones = zoneNames[p.r.IntN(2) : 2+p.r.IntN(3)] })
	case 12:
		p.w.Release(p.any(), p.r.IntN(2) == 0)
	case 13: // a zone takes machines and never runs them, for a while
		zone := v.Group.Zones[p.r.IntN(len(v.Group.Zones))]
		p.zoneHung[zone] = true
		p.w.In(p.upTo(4*time.Minute), func() { p.zoneHung[zone] = false })
	case 14: // the service starts again, or its clock is set
		if p.r.IntN(2) == 0 {
			p.w.Restart()
			return
		}
		jump := p.upTo(10*time.Minute) - 5*time.Minute
		p.w.Skew += jump
		p.worst += jump.Abs()
	case 15: // ill wherever it is in its life, and well again
		id := p.any()
		p.w.Answer(id, false)
		p.w.In(p.upTo(2*time.Minute), func() { p.w.Answer(id, true) })
	case 16:
		_ = p.w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.HealAnyway(p.w.Clock(), "") })
	case 17: // everything is pinned
		for _, in := range slices.Clone(v.Instances) {
			p.w.Tell(in.ID, fleet.CommandPin)
		}
	case 18:
		if p.r.IntN(8) == 0 {
			_ = p.w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Delete(fleet.Pinned(v.Instances)...) })
		}
	}
}

// blip has everyone that serves be ill for some seconds, and well again.
func (p *plan) blip() {
	var ill []string
	for i := range p.w.View.Instances {
		if in := &p.w.View.Instances[i]; in.State == fleet.Serving {
			ill = append(ill, in.ID)
		}
	}
	for _, id := range ill {
		p.w.Answer(id, false)
	}
	p.w.In(5*time.Second+p.upTo(20*time.Second), func() {
		for _, id := range ill {
			if in := p.w.Instance(id); in != nil && in.Version.N != p.badVersion {
				p.w.Answer(id, true)
			}
		}
	})
}

func (p *plan) thaw() {
	_ = p.w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Thaw("") })
}

func (p *plan) startRollout() {
	v := &p.w.View
	if v.Rollout != nil && p.r.IntN(3) == 0 {
		p.supersede()
		return
	}
	if v.Rollout != nil {
		p.tell([]fleet.Command{fleet.CommandProceed, fleet.CommandRevert}[p.r.IntN(2)])
		return
	}
	waves := []string{"100%", "1,100%", "1,50%,100%", "10%,30%,60%,100%"}[p.r.IntN(4)]
	p.begin(waves, p.other(), p.r.IntN(4), p.r.IntN(3), p.upTo(20*time.Second))
}

func (p *plan) begin(waves string, to, above, below int, soak time.Duration) {
	v := &p.w.View
	ws, err := rollout.ParseWaves(waves)
	if err != nil {
		p.t.Fatal(err)
	}
	ro := fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 1}, RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: to}, Waves: ws, Above: above, Below: min(v.Group.Size, below), Soak: soak}}
	if !p.calm {
		p.manner(&ro)
	}
	r, e, err := fleet.Begin(p.w.Clock(), v.Group, v.Instances, ro, p.over)
	if err == nil {
		v.Location = p.place

		v.Rollout = &r
		p.remember()
		p.w.note(e)
		p.changes++
	}
}

// other is a version other than that of the group.
func (p *plan) other() int {
	if n := p.w.View.Group.Template.N; n <= 2 {
		return 3 - n
	}
	return 1
}

func (p *plan) tell(c fleet.Command) {
	if r := p.w.View.Rollout; r != nil {
		if next, e, err := r.Tell(p.w.Clock(), c, ""); err == nil {
			p.w.View.Rollout = &next
			p.w.note(e)
			p.changes++
		}
	}
}
