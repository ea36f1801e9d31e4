package fleet_test

import (
	"strings"
	"testing"

	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
)

// TestALossIsToldOfWhatServesNow, not of what should: with a zone lost already another takes half.
func TestALossIsToldOfWhatServesNow(t *testing.T) {
	v := servingGroup(6)
	if got := v.Group.ZoneLoss(v.Instances); got != "losing any one zone leaves 4 of 6 or more" {
		t.Errorf("of a whole group it says %q", got)
	}
	for i := range v.Instances {
		if v.Instances[i].Zone == "west-pier" {
			v.Instances[i].Zone = []string{"east-pier", "mid-pier"}[i%2]
		}
	}
	if got := v.Group.ZoneLoss(v.Instances); got != "losing east-pier now would leave 3 of 6" {
		t.Errorf("with one zone empty it says %q", got)
	}
	for i := range v.Instances {
		v.Instances[i].Zone = "mid-pier"
	}
	v.Group.Min = 2
	if got := v.Group.ZoneLoss(v.Instances); got != "losing mid-pier now would leave 0 of 6, below the min of 2" {
		t.Errorf("with all in one it says %q", got)
	}
}

// TestEffectsOfWhatWaits: another spread moves instances also where one still comes up first.
func TestEffectsOfWhatWaits(t *testing.T) {
	v := servingGroup(6)
	v.Group.Above = 1
	v.Instances[5].State, v.Instances[5].Reports = fleet.Settling, nil
	v.Instances[5].Since, v.Instances[5].Up = noon, noon
	after := v
	after.Group.Spread = "in-order"
	pool := fleet.PoolAround{Name: "front"}
	pool.Check.Name = "sailings-up"
	after.Group.Pools, v.Group.Pools = []string{"front"}, []string{"front"}
	if got := strings.Join(fleet.Effects(noon, v, after, []fleet.PoolAround{pool}).Effects, "; "); !strings.Contains(got, "move") || strings.Contains(got, "no instance is launched") {
		t.Errorf("it says %q", got)
	}
}

// TestAHugeValueIsTold as it is.
func TestAHugeValueIsTold(t *testing.T) {
	g := ruled(scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.NetworkIn, KeepAt: 1e13})
	v := fleet.View{Group: g, Sizing: fleet.Sizing{Points: map[string][]metric.Point{"even": {{At: noon, Value: 3e13, Of: 3, Serving: 3}}}}}
	d := fleet.Decide(noon, v)
	if len(d.Entries) == 0 || d.Entries[0].Cause.Numbers.Get("value") != 3e13 {
		t.Errorf("it is told as %+v", d.Entries)
	}
}
