package fleet_test

import (
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

// TestHealsByTraffic: what its pools set aside again and again is replaced where the group says
// so, another serving first; an instance need not have had traffic before it serves.
func TestHealsByTraffic(t *testing.T) {
	for _, heal := range []fleet.Heal{fleet.HealTraffic, "sailings-up", fleet.HealMachine} {
		v := servingGroup(6)
		v.Group.Heal, v.Group.HealLimit, v.Group.Above = heal, 50, 1
		for i := range v.Instances {
			v.Instances[i].Slot = i + 1
		}
		aside := health.Report{Check: string(fleet.HealTraffic), Verdict: health.Unhealthy, Since: noon.Add(-time.Minute), Why: "set aside 3 times in a row: 5 failures in a row"}
		v.Instances[2].Reports = append(v.Instances[2].Reports, aside)
		d := fleet.Decide(noon, v)
		replaced := false
		for _, e := range d.Entries {
			replaced = replaced || (e.Kind == "instance.ordered" && e.Cause.Instance == v.Instances[2].ID && e.Cause.Words == aside.Why)
		}
		if replaced != (heal == fleet.HealTraffic) {
			t.Errorf("healed by %s: %+v", heal, d.Entries)
		}
	}
	v := servingGroup(2)
	v.Group.Heal = fleet.HealTraffic
	v.Instances[1].State, v.Instances[1].Served = fleet.Settling, time.Time{}
	d := fleet.Decide(noon.Add(-time.Hour+2*time.Second), v)
	if len(d.Entries) != 1 || d.Entries[0].Kind != "instance.serving" {
		t.Errorf("one that its check finds healthy settles: %+v", d.Entries)
	}
}
