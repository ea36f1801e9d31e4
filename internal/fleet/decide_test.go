package fleet_test

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rollout"
)

var noon = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)

// servingGroup is a group whose n instances all serve.
func servingGroup(n int) fleet.View {
	zones := []string{"east-pier", "mid-pier", "west-pier"}
	v := fleet.View{Group: fleet.Group{
		Name: "timetable", Checks: []string{"sailings-up"}, Settings: fleet.Settings{
			Size: n, Max: n, Template: fleet.Version{Name: "timetable-web", N: 1}, Zones: zones, Heal: "sailings-up", Settle: time.Minute, Drain: 10 * time.Second,
		}, Book: fleet.Book{NextSerial: n},
	}}
	for i := range n {
		v.Instances = append(v.Instances, fleet.Instance{
			ID: fmt.Sprintf("timetable-%03x", i+1), Serial: i + 1, Zone: zones[i%3], Version: v.Group.Template,
			State: fleet.Serving, Since: noon.Add(-time.Hour), Ordered: noon.Add(-time.Hour), Up: noon.Add(-time.Hour), Served: noon.Add(-time.Hour),
			Machine: fleet.Machine{State: fleet.MachineRunning},
			Reports: []health.Report{{Check: "sailings-up", Verdict: health.Healthy, Since: noon.Add(-time.Hour), Why: "passed 2 of 2: 200, 200"}},
		})
	}
	return v
}

// inRollout is the same in the middle of a rollout.
func inRollout(n int) fleet.View {
	v := servingGroup(n)
	ws, _ := rollout.ParseWaves("1,50%,100%")
	r, _, err := fleet.Begin(noon, v.Group, v.Instances, fleet.Rollout{RolloutBook: fleet.RolloutBook{ID: 1}, RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: max(1, n/10)}}, nil)
	if err != nil {
		panic(err)
	}
	r.Wave = 1
	r.Times = append(r.Times, fleet.WaveTime{Began: noon})
	v.Rollout = &r
	for i := range n / 4 {
		v.Instances[i].Version = r.To
	}
	return v
}

func TestQuietGroupCostsNothing(t *testing.T) {
	d := fleet.Decide(noon, servingGroup(6))
	if !d.Quiet() || !d.Again.IsZero() {
		t.Errorf("a group in which nothing happens got %+v", d)
	}
}

func TestDecideLeavesItsViewAlone(t *testing.T) {
	v, same := inRollout(12), inRollout(12)
	v.Instances[3].Machine.State, same.Instances[3].Machine.State = fleet.MachineStopped, fleet.MachineStopped
	one := fleet.Decide(noon, v)
	if !reflect.DeepEqual(v, same) {
		t.Error("the view was changed")
	}
	if two := fleet.Decide(noon, v); !reflect.DeepEqual(one, two) {
		t.Error("the same view gave two decisions")
	}
	if one.Quiet() {
		t.Error("nothing was decided about a lost machine")
	}
}

func TestRefusals(t *testing.T) {
	v := servingGroup(6)
	ws, _ := rollout.ParseWaves("100%")
	begin := func(change func(g *fleet.Group, r *fleet.Rollout)) error {
		g, r := v.Group, fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1}}
		change(&g, &r)
		_, _, err := fleet.Begin(noon, g, nil, r, nil)
		return err
	}
	tell := func(state fleet.RolloutState, c fleet.Command) error {
		_, _, err := fleet.Rollout{RolloutBook: fleet.RolloutBook{State: state}}.Tell(noon, c, "")
		return err
	}
	group := func(change func(g *fleet.Group)) error {
		g := v.Group
		change(&g)
		return g.Validate()
	}
	for _, c := range []struct {
		name, field string
		err         error
	}{
		{"the version it is on", "to", begin(func(g *fleet.Group, r *fleet.Rollout) { r.To = g.Template })},
		{"no room at all", "above", begin(func(_ *fleet.Group, r *fleet.Rollout) { r.Above = 0 })},
		{"below more than there are", "below", begin(func(_ *fleet.Group, r *fleet.Rollout) { r.Below = 7 })},
		{"an endless soak", "soak", begin(func(_ *fleet.Group, r *fleet.Rollout) { r.Soak = 25 * time.Hour })},
		{"a group on its way out", "", begin(func(g *fleet.Group, _ *fleet.Rollout) { g.Deleting = true })},
		{"hold what is held", "", tell(fleet.Held, fleet.CommandHold)},
		{"proceed with what moves", "", tell(fleet.Moving, fleet.CommandProceed)},
		{"revert what is done", "", tell(fleet.Done, fleet.CommandRevert)},
		{"min over max", "min", group(func(g *fleet.Group) { g.Min = 7 })},
		{"size over max", "size", group(func(g *fleet.Group) { g.Size = 7 })},
		{"no zones", "zones", group(func(g *fleet.Group) { g.Zones = nil })},
		{"a zone twice", "zones", group(func(g *fleet.Group) { g.Zones = []string{"east-pier", "mid-pier", "east-pier"} })},
		{"no settle", "settle_seconds", group(func(g *fleet.Group) { g.Settle = 0 })},
		{"a name in capitals", "name", group(func(g *fleet.Group) { g.Name = "Timetable" })},
		{"a name with a hyphen at its end", "name", group(func(g *fleet.Group) { g.Name = "timetable-" })},
	} {
		var refusal *fleet.Refusal
		if !errors.As(c.err, &refusal) {
			t.Errorf("%s was not refused: %v", c.name, c.err)
		} else if refusal.Field != c.field || refusal.Text == "" {
			t.Errorf("%s: the field is %q and should be %q (%s)", c.name, refusal.Field, c.field, refusal.Text)
		}
	}
}

// BenchmarkDecide is of groups of 1,000 and 10,000 with a ledger: when nothing happens,
// when a step of a rollout is due, when a zone has just vanished, and in the decision
// after that; and without one when nothing happens.
func BenchmarkDecide(b *testing.B) {
	for _, n := range []int{1_000, 10_000} {
		rolls := inRollout(n)
		gone := servingGroup(n)
		for i := range gone.Instances {
			if in := &gone.Instances[i]; in.Zone == "mid-pier" {
				in.Machine = fleet.Machine{State: fleet.MachineStopped, Why: "its zone is lost"}
			}
		}
		after := next(gone, fleet.Decide(noon, gone))
		for _, c := range []struct {
			name string
			view fleet.View
		}{{"quiet", servingGroup(n)}, {"rollout", rolls}, {"zone", gone}, {"after", after}, {"whole", servingGroup(n)}} {
			if c.name != "whole" {
				c.view.Ledger = fleet.NewLedger(&c.view)
			}
			b.Run(fmt.Sprintf("%s/%d", c.name, n), func(b *testing.B) {
				b.ReportAllocs()
				for b.Loop() {
					fleet.Decide(noon.Add(time.Second), c.view)
				}
			})
		}
	}
}

// next is the view after a decision.
func next(v fleet.View, d fleet.Decision) fleet.View {
	place := map[string]int{}
	v.Instances = slices.Clone(v.Instances)
	for i := range v.Instances {
		place[v.Instances[i].ID] = i
	}
	for _, in := range d.Changed {
		if i, ok := place[in.ID]; ok {
			v.Instances[i] = *in
		} else {
			v.Instances = append(v.Instances, *in)
		}
	}
	if d.Group != nil {
		v.Group = *d.Group
	}
	return v
}

// TestDebtsAreForgiven: what healing owes for a place that others took keeps nobody ill from
// being healed, in the very decision in which none is missing any more.
func TestDebtsAreForgiven(t *testing.T) {
	v := servingGroup(3)
	v.Group.HealLimit = 34 // one at once
	v.Group.Slots = []fleet.Slot{{Number: 9, Failures: 5, Failed: []string{"timetable-0ff"}, Last: noon.Add(-time.Minute), Until: noon.Add(time.Hour), Healed: true}}
	for i := range v.Instances {
		v.Instances[i].Slot = i + 1
	}
	v.Instances[1].Reports[0] = health.Report{Check: "sailings-up", Verdict: health.Unhealthy, Since: noon.Add(-time.Second), Why: "failed 3 of 3: 503"}
	d := fleet.Decide(noon, v)
	if !slices.ContainsFunc(d.Changed, func(in *fleet.Instance) bool { return in.ID == "timetable-002" && in.State == fleet.Draining }) {
		t.Errorf("the ill one stays: %+v", d.Entries)
	}
}
