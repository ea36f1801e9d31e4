package builtin

import (
	"testing"

	"unitas/internal/fleet/traffic"
)

// TestARegionWithoutTargetsIsTold: one that is named and has none, whose instances are gone, spills
// as one whose targets are ill does.
func TestARegionWithoutTargetsIsTold(t *testing.T) {
	f := newSite(t, say("headland"))
	f.regions(t)
	f.targets[0].Region = "headland"
	f.apply()
	f.listen(func(l *traffic.Listener) {
		l.RegionOrder, l.Regions, l.Enough = traffic.InOrder, []string{"harbour", "headland"}, 50
	})
	if c := f.counts(t, 3); c["headland"] != 3 {
		t.Errorf("the requests went %v", c)
	}
	if s := f.Listening()[0]; s.Spill != "harbour has no targets, so headland has the requests" {
		t.Errorf("it tells %q", s.Spill)
	}
}
