package fleet

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet/health"
)

var noon = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)

func aGroup() Group {
	return Group{
		Name: "timetable", Checks: []string{"sailings-up"}, Settings: Settings{
			Size: 3, Min: 1, Max: 6, Template: Version{"timetable-web", 2}, Zones: []string{"east-pier", "mid-pier", "west-pier"}, Heal: "sailings-up", HealLimit: 30, Settle: time.Minute, Drain: time.Second,
		},
	}
}

func TestStanding(t *testing.T) {
	s := VersionStatus{What: "image", Version: Version{"timetable", 2}, State: VersionReady}
	if s.Usable() != nil || s.Advice() != "" {
		t.Error("a ready version is refused")
	}
	for _, c := range []struct{ state, successor, refused, advice string }{
		{VersionWithdrawn, "timetable@3", "the image timetable@2 is withdrawn (a hole); use timetable@3", "The image timetable@2 that it launches is withdrawn: a hole. Use timetable@3."},
		{VersionWithdrawn, "", "the image timetable@2 is withdrawn (a hole); choose another", "The image timetable@2 that it launches is withdrawn: a hole."},
		{VersionBaking, "", "the image timetable@2 is baking; only a ready one can be used", ""},
	} {
		s.State, s.Successor, s.Why = c.state, c.successor, "a hole"
		if err := s.Usable(); err == nil || err.Error() != c.refused || s.Advice() != c.advice {
			t.Errorf("%s: %v, %q", c.state, err, s.Advice())
		}
	}
}

func TestEffects(t *testing.T) {
	v := View{Group: aGroup()}
	for i, id := range []string{"timetable-001", "timetable-002", "timetable-003"} {
		v.Instances = append(v.Instances, Instance{ID: id, Serial: i + 1, Zone: v.Group.Zones[i], Version: v.Group.Template, State: Serving,
			Served: noon, Machine: Machine{State: MachineRunning}})
	}
	v.Group.NextSerial = 3
	front := PoolAround{Name: "front", Check: health.Check{Name: "sailings-up", Passes: 2, Interval: time.Second}}
	back := PoolAround{Name: "back", Check: health.Check{Name: "fares-up", Passes: 1, Interval: 5 * time.Second}}
	v.Group.Pools = []string{"front"}
	for i := range v.Instances[:2] {
		v.Instances[i].Reports = []health.Report{{Check: "sailings-up", Verdict: health.Healthy}}
	}
	for _, c := range []struct {
		name          string
		change        func(*Group)
		says, caution string
	}{
		{"nothing", func(g *Group) { g.Size = 3 }, "no instance is launched or stopped", ""},
		{"larger", func(g *Group) { g.Size = 5 }, "2 instances are launched, on timetable-web@2", ""},
		{"one in three fewer", func(g *Group) { g.Size = 2 }, "1 instance is drained and stopped, from timetable-web@2", ""}, // the one that no check found healthy yet,
		{"more than one in three fewer", func(g *Group) { g.Size = 1 }, "2 instances are drained and stopped, from timetable-web@2, the pool front keeps 1 of its 2 targets of this group",
			"2 of the 3 that serve are drained and stopped at once, more than one in three"},
		{"another pool", func(g *Group) { g.Pools = []string{"front", "back"} }, "no instance is launched or stopped, the pool front keeps its 2 targets of this group, " +
			"the pool back sends requests to each of its instances once fares-up finds it healthy (1 pass, about 5 s), and new ones serve nobody before", ""},
		{"out of its pool", func(g *Group) { g.Pools = nil }, "no instance is launched or stopped, the pool front loses its 2 targets of this group",
			"the pool front sends no more requests to this group, which has 2 targets there"},
		{"into one zone", func(g *Group) { g.Zones, g.Above = g.Zones[1:2], 1 }, "2 instances move to mid-pier, one at a time; first, 1 instance is launched", ""},
		{"into one zone, and larger", func(g *Group) { g.Zones, g.Size, g.Max, g.Above = g.Zones[1:2], 5, 9, 1 }, "2 instances are launched, on timetable-web@2, 2 instances move to mid-pier after that", ""},
		{"frozen", func(g *Group) { g.Frozen = "somebody looks" }, "nothing now: the group is frozen", ""},
	} {
		after := v
		c.change(&after.Group)
		got := Effects(noon, v, after, []PoolAround{front, back})
		if says := strings.Join(got.Effects, ", "); says != c.says {
			t.Errorf("%s: %s", c.name, says)
		}
		if got.Caution != c.caution {
			t.Errorf("%s: caution %q", c.name, got.Caution)
		}
	}
}

func TestGroupCommandsThatAreRefused(t *testing.T) {
	frozen, deleting, alone := aGroup(), aGroup(), aGroup()
	frozen.Frozen, deleting.Deleting, alone.Alone = "somebody looks", true, true
	serving := Instance{ID: "timetable-001", State: Serving}
	pinned := Instance{ID: "timetable-001", State: Serving, Pinned: true}
	gone := Instance{ID: "timetable-001", State: Gone}
	last := func(_ any, _ Entry, err error) error { return err }
	tell := func(g Group, in Instance, c InstanceCommand) error {
		_, _, err := g.TellInstance(noon, in, c, "")
		return err
	}
	change := func(g Group, f func(*Group)) error { _, _, err := g.Change(f, ""); return err }
	g := aGroup()
	for _, c := range []struct {
		err  error
		says string
	}{
		{change(g, func(*Group) {}), "nothing would change"},
		{change(g, func(g *Group) { g.HealLimit = 101 }), "101% is not from 1% to 100%"},
		{change(g, func(g *Group) { g.Shed = "random" }), "not one of outdated, oldest, newest"},
		{change(g, func(g *Group) { g.Min = g.Size + 1; g.Max = g.Size + 2 }), fmt.Sprintf("min: %d is over the size of %d; raise size as well", g.Size+1, g.Size)},
		{change(g, func(g *Group) { g.Min, g.Max = 0, g.Size-1 }), fmt.Sprintf("max: %d is under the size of %d; lower size as well", g.Size-1, g.Size)},
		{change(g, func(g *Group) { g.Max = g.Min - 1 }), "lower min as well"},
		{change(g, func(g *Group) { g.Min = g.Max + 1 }), "raise max as well"},
		{change(g, func(g *Group) { g.Size = g.Max + 1 }), "is not between min"},
		{change(g, func(g *Group) { g.Settle, g.Drain, g.Above = 0, 2*time.Hour, -1 }), "settle_seconds: 0s is not from 1s to 1h; above: -1 is not from 0 to 1000; drain_seconds: 2h is not from 0s to 1h"},
		{change(deleting, func(g *Group) { g.Size = 1 }), "being deleted"},
		{func() error { a, b, err := frozen.Freeze("again"); return last(a, b, err) }(), "frozen already: somebody looks"},
		{func() error { a, b, err := deleting.Freeze("x"); return last(a, b, err) }(), "being deleted"},
		{func() error { a, b, err := g.Thaw(""); return last(a, b, err) }(), "is not frozen"},
		{func() error { a, b, err := frozen.Delete(); return last(a, b, err) }(), "thaw it first"},
		{func() error { a, b, err := g.HealAnyway(noon, ""); return last(a, b, err) }(), "is not stopped"},
		{tell(g, pinned, CommandPin), "pinned already"},
		{tell(g, serving, CommandUnpin), "unpinned already"},
		{tell(g, pinned, CommandRetire), "unpin it first"},
		{tell(g, serving, CommandUnpark), "cannot be told to unpark"},
		{tell(g, gone, CommandRetire), "timetable-001 is gone"},
		{tell(alone, serving, CommandPark), "belongs to no group"},
		{func() error { a, b, err := g.RestInstance(noon, gone, false); return last(a, b, err) }(), "only an instance that serves"},
		{func() error { a, b, err := g.RestInstance(noon, serving, true); return last(a, b, err) }(), "rollout under way"},
		{CheckInstanceName("trial-0ab"), "ends like the name of a group's instance"},
		{CheckInstanceName("Trial"), "is not a name"},
	} {
		if c.err == nil || !strings.Contains(c.err.Error(), c.says) {
			t.Errorf("%v, want %q", c.err, c.says)
		}
	}
}

func TestChangeSaysWhatIsDifferent(t *testing.T) {
	g, e, err := aGroup().Change(func(g *Group) { g.Size, g.HealLimit, g.Pools = 4, 50, []string{"front"} }, "bank holiday")
	if err != nil || g.Size != 4 || e.Kind != "group.resized" || !e.Cause.Is(Asked("bank holiday")) ||
		e.Text != "The group timetable has other settings: size 4, was 3; pools front, was none; heal-limit 50 %, was 30 %." {
		t.Errorf("%+v, %v", e, err)
	}
}

func TestAdviceOnAGroup(t *testing.T) {
	g := aGroup()
	g.Above = 1
	if a := g.Advise(Around{}); len(a) != 0 {
		t.Errorf("a good group is advised against: %v", a)
	}
	g.Min = 3
	if a := g.Advise(Around{Usual: 2 * time.Minute}); len(a) != 2 || !strings.Contains(a[0], "2 of 3 would be left, below the min of 3") || !strings.Contains(a[1], "usually take 2 m") {
		t.Errorf("the advice is %q", a)
	}
	g.Zones = g.Zones[:1]
	if a := g.Advise(Around{}); len(a) != 1 || !strings.Contains(a[0], "All instances are in east-pier") {
		t.Errorf("the advice is %q", a)
	}
	g = aGroup()
	g.Above = 1
	around := Around{
		Slow: 2 * time.Minute, Heals: &health.Check{Name: "deep", Interval: time.Second, Fails: 2},
		Pools: []PoolAround{{Name: "front", Zones: []string{"far-pier"}, Check: health.Check{Name: "sailings-up", Interval: 5 * time.Second, Fails: 3}}},
	}
	want := []string{"the slowest of its instances (one in twenty) take 2 m", "they share no zone", "The healing check deep acts after 2 s and the traffic check sailings-up of the pool front only after 15 s"}
	a := g.Advise(around)
	for i, text := range want {
		if len(a) != len(want) || !strings.Contains(a[i], text) {
			t.Fatalf("the advice is %q, want %q", a, want)
		}
	}
	around.Heals.Name = "sailings-up" // one check for both cannot be faster than itself
	around.Pools[0].Zones = g.Zones[:1]
	if a := g.Advise(around); len(a) != 1 {
		t.Errorf("the advice is %q", a)
	}
	around.Heals, g.Settle = nil, 10*time.Second
	around.Pools[0].Check.Passes = 3 // answers 5 s apart
	if a := g.Advise(around); len(a) != 2 || !strings.Contains(a[1], "needs at least 10 s for its 3 passes") {
		t.Errorf("a settle that is too short: the advice is %q", a)
	}
	g.Settle = time.Minute
	g.Min, g.Size, g.Max, g.Above = 5, 6, 6, 0
	if a := g.Advise(Around{}); len(a) != 2 || !strings.Contains(a[0], "not even at its max: 4 of 6") || !strings.Contains(a[1], "never brought back to balance") {
		t.Errorf("the advice is %q", a)
	}
	if a := (health.Check{Interval: time.Second, Timeout: time.Second}).Advise(); len(a) != 1 {
		t.Errorf("a timeout as long as the interval: %q", a)
	}
}

// TestAdviceAtTheMoment: what is asked at a port that is closed, what the loss of a zone
// leaves, and rollouts that will not go as people expect.
func TestAdviceAtTheMoment(t *testing.T) {
	g := aGroup()
	g.Above = 1
	around := Around{Heals: &health.Check{Name: "sailings-up", Port: 9000, Interval: time.Second, Passes: 1, Fails: 2}, Open: []int{8080}}
	if a := g.Advise(around); len(a) != 1 || !strings.Contains(a[0], "sailings-up asks port 9000, and the template timetable-web@2 opens only 8080") {
		t.Errorf("a closed port: the advice is %q", a)
	}
	around.Open = []int{8080, 9000}
	if a := g.Advise(around); len(a) != 0 {
		t.Errorf("an open port: the advice is %q", a)
	}
	// A check that asks otherwise: only what its change brings is told.
	was, now := *around.Heals, *around.Heals
	now.Passes, now.Interval = 4, 30*time.Second
	around.Pools = []PoolAround{{Name: "front", Check: was}}
	g.Zones = g.Zones[:1]
	if a := g.AdviseCheck(around, was, now); len(a) != 1 || !strings.Contains(a[0], "sailings-up needs at least 1 m 30 s for its 4 passes") {
		t.Errorf("a slow check: the advice is %q", a)
	}
	if a := g.AdviseCheck(around, now, now); len(a) != 0 {
		t.Errorf("nothing new: the advice is %q", a)
	}
	if around.Heals.Passes != 1 || around.Pools[0].Check.Passes != 1 {
		t.Error("what is around the group was changed")
	}
	around.Pools, g.Zones = nil, aGroup().Zones
	around.Open = nil // not known
	if a := g.Advise(around); len(a) != 0 {
		t.Errorf("unknown ports: the advice is %q", a)
	}
	if got := g.ZoneLoss(nil); got != "losing any one zone leaves 2 of 3 or more" {
		t.Errorf("the loss of a zone: %q", got)
	}
	g.Min, g.Zones = 3, g.Zones[:1]
	if got := g.ZoneLoss(nil); got != "losing one zone can leave none, below the min of 3" {
		t.Errorf("the loss of the only zone: %q", got)
	}
	to := Version{"timetable-web", 3}
	if a := g.AdviseRollout(to, nil); len(a) != 0 {
		t.Errorf("a usual rollout: the advice is %q", a)
	}
	g.Frozen = "the harbour is closed"
	a := g.AdviseRollout(to, &Rollout{RolloutBook: RolloutBook{Ended: noon}, RolloutSettings: RolloutSettings{To: to}})
	if len(a) != 2 || !strings.Contains(a[0], "is frozen (the harbour is closed)") || !strings.Contains(a[1], "The last rollout to timetable-web@3 went back at") {
		t.Errorf("the advice is %q", a)
	}
}

func TestPauseDoublesToABound(t *testing.T) {
	for count, want := range map[int]time.Duration{1: 0, 2: 10 * time.Second, 3: 20 * time.Second, 5: 80 * time.Second, 8: 10 * time.Minute, 9: 10 * time.Minute, 1000: 10 * time.Minute} {
		if got := (&Slot{Failures: count}).Pause(); got != want {
			t.Errorf("after %d failures the slot stays empty for %s, want %s", count, got, want)
		}
	}
}

// TestIsLaunch: an act that is meant of a machine is refused by the one after it.
func TestIsLaunch(t *testing.T) {
	in := Instance{ID: "timetable-001", Launch: 2}
	for n, want := range map[int]string{0: "", 2: "", 1: "its number 2, and not 1; look again"} {
		if err := in.IsLaunch(n); (err == nil) != (want == "") || (err != nil && !strings.Contains(err.Error(), want)) {
			t.Errorf("of launch %d: %v", n, err)
		}
	}
}

func TestReleaseKeepsToMin(t *testing.T) {
	g := aGroup()
	in := Instance{ID: "timetable-001", State: Serving}
	g.Size, g.Min = 2, 2
	if _, _, _, err := g.Release(noon, in, false, ""); err == nil || !strings.Contains(err.Error(), "below the min of 2") {
		t.Errorf("the size went below min: %v", err)
	}
	after, out, e, err := g.Release(noon, in, true, "to be looked at")
	if err != nil || after.Size != 2 || out.State != Serving || e.Cause.Words != "to be looked at" {
		t.Errorf("replaced: size %d, %s, %q, %v", after.Size, out.State, e.Cause.Words, err)
	}
	g.Min = 1
	if after, _, _, err := g.Release(noon, in, false, ""); err != nil || after.Size != 1 {
		t.Errorf("not replaced: size %d, %v", after.Size, err)
	}
	in.State = Draining
	if _, _, _, err := g.Release(noon, in, true, ""); err == nil {
		t.Error("one that drains was released")
	}
}

// TestOneThatComesBackIsNotOneTooMany until its time to become healthy is over.
func TestOneThatComesBackIsNotOneTooMany(t *testing.T) {
	v := View{Group: aGroup()}
	v.Group.Heal, v.Group.NextSerial = HealOff, 4
	well := []health.Report{{Check: "sailings-up", Verdict: health.Healthy}}
	for i, id := range []string{"timetable-001", "timetable-002", "timetable-003", "timetable-004"} {
		v.Instances = append(v.Instances, Instance{ID: id, Serial: i + 1, Zone: v.Group.Zones[i%3], Version: v.Group.Template, State: Serving,
			Served: noon, Up: noon, Machine: Machine{State: MachineRunning}, Reports: well})
	}
	v.Instances[0].State, v.Instances[0].Reports = Settling, nil
	for after, goes := range map[time.Duration]int{v.Group.Settle - time.Second: 0, v.Group.Settle: 1} {
		if d := Decide(noon.Add(after), v); len(d.Changed) != goes {
			t.Errorf("after %s %d change: %+v", after, len(d.Changed), d.Entries)
		}
	}
}
