package store_test

import (
	"slices"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/template"
	"unitas/internal/store"
)

// TestWhatIsPaidFor: from when the machine ran until it was lost, at the price of its zone.
func TestWhatIsPaidFor(t *testing.T) {
	s := stocked(t)
	if _, err := s.AddTemplate(ctx, noon, "ada", store.Template{Name: "timetable-web", Note: "prices",
		Spec: template.Spec{Image: "timetable", ImageVersion: 1, Port: 8080, PricePerHour: 2, ZonePrices: map[string]float64{"mid-pier": 3}}}, true); err != nil {
		t.Fatal(err)
	}
	commit := func(at time.Time, changed ...store.Instance) {
		t.Helper()
		l, err := s.Load(ctx, "timetable")
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Commit(ctx, at, store.Commit{Group: "timetable", Epoch: l.Group.Epoch, Generation: l.Group.Generation, Changed: changed}); err != nil {
			t.Fatal(err)
		}
	}
	runs := func() []store.Run {
		t.Helper()
		all, err := s.Runs(ctx, noon.Add(-time.Hour), noon.Add(24*time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		slices.SortFunc(all, func(a, b store.Run) int { return a.FromAt.Compare(b.FromAt) })
		return all
	}
	one, two := instance(1), instance(2)
	one.Version.N, two.Version.N, two.Zone = 3, 3, "mid-pier"
	commit(noon, one, two)
	if all := runs(); len(all) != 0 {
		t.Errorf("what is ordered is paid for: %+v", all)
	}
	one.State, one.Up = fleet.Settling, noon.Add(time.Minute)
	two.State, two.Up = fleet.Settling, noon.Add(2*time.Minute)
	commit(noon.Add(2*time.Minute), one, two)
	all := runs()
	if len(all) != 2 || !all[0].FromAt.Equal(one.Up) || !all[1].FromAt.Equal(two.Up) || all[0].UntilAt != nil || all[0].PricePerHour != 2 || all[1].PricePerHour != 3 {
		t.Fatalf("once they run: %+v", all)
	}
	one.State, one.Since = fleet.Lost, noon.Add(time.Hour)
	two.State, two.Since = fleet.Serving, noon.Add(time.Hour)
	commit(noon.Add(time.Hour), one, two)
	if all := runs(); len(all) != 2 || all[0].UntilAt == nil || !all[0].UntilAt.Equal(one.Since) || all[1].UntilAt != nil {
		t.Errorf("one is lost, the other serves: %+v", all)
	}
	two.State, two.Since = fleet.Gone, noon.Add(2*time.Hour)
	commit(noon.Add(2*time.Hour), two)
	if all := runs(); all[1].UntilAt == nil || !all[1].UntilAt.Equal(two.Since) {
		t.Errorf("the other is gone: %+v", all)
	}
}

// TestAddressesOfTheLiving are given to nobody else, however often the numbers come round.
func TestAddressesOfTheLiving(t *testing.T) {
	s := stocked(t)
	l, err := s.Load(ctx, "timetable")
	if err != nil {
		t.Fatal(err)
	}
	const span = 5
	drawn, err := s.NextAddresses(ctx, 2, span)
	if err != nil {
		t.Fatal(err)
	}
	var living []store.Instance
	for i, n := range drawn {
		in := instance(i + 1)
		in.AddressNumber = n
		living = append(living, in)
	}
	if err := s.Commit(ctx, noon, store.Commit{Group: "timetable", Epoch: l.Group.Epoch, Generation: l.Group.Generation, Changed: living}); err != nil {
		t.Fatal(err)
	}
	for range 4 { // more than once round
		next, err := s.NextAddresses(ctx, 3, span)
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range next {
			if n%span == drawn[0]%span || n%span == drawn[1]%span {
				t.Errorf("%d is given again; %v live", n, drawn)
			}
		}
	}
	if _, err := s.NextAddresses(ctx, 4, span); err == nil {
		t.Error("more are given than there are")
	}
}
