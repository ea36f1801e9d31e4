package store_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/traffic"
	"unitas/internal/store"
)

// TestOnlyTried: a change that is only tried is answered as it would be, judged by all that
// judges it, and nothing of it stays or is told.
func TestOnlyTried(t *testing.T) {
	s := stocked(t)
	told := 0
	s.OnWrite(func([]store.Touched) { told++ })
	events := func() (n int) {
		all, err := s.Journal(ctx, store.JournalQuery{Page: store.Page{Limit: 100}})
		if err != nil {
			t.Fatal(err)
		}
		return len(all)
	}
	before := events()
	dry := store.Dry(ctx)
	p, err := s.ChangePool(dry, noon, "ada", "front", 1, func(_ store.Reader, p *store.Pool) (fleet.Cause, error) {
		p.Algorithm = traffic.LeastBusy
		return fleet.Asked(""), nil
	})
	if err != nil || p.Algorithm != traffic.LeastBusy || len(p.Changes) != 1 {
		t.Errorf("%+v, %v", p, err)
	}
	if p, err := s.Pool(ctx, "front"); err != nil || p.Algorithm != traffic.RoundRobin || p.Revision != 1 {
		t.Errorf("after it, it is %+v, %v", p, err)
	}
	_, err = s.AddGroup(dry, noon, "ada", store.Group{Group: fleet.Group{Name: "fares", Settings: fleet.Settings{
		Size: 1, Max: 1, Template: fleet.Version{Name: "timetable-web", N: 1}, Zones: []string{"east-pier"}, Heal: "no-such-check", Settle: time.Minute}}}, nothing)
	var refusal *fleet.Refusal
	if !errors.As(err, &refusal) || !strings.Contains(refusal.Text, "the check that heals") {
		t.Errorf("a check that is not there: %v", err)
	}
	if _, err := s.AddPool(dry, noon, "ada", store.Pool{Name: "front", Check: "sailings-up"}, anything); !errors.Is(err, store.ErrExists) {
		t.Errorf("a second front: %v", err)
	}
	if told != 0 || events() != before {
		t.Errorf("%d were told of it, and the journal has %d entries more", told, events()-before)
	}
}
