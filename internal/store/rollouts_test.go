package store_test

import (
	"errors"
	"testing"

	"unitas/internal/fleet"
	"unitas/internal/fleet/rollout"
	"unitas/internal/store"
)

// TestOneLiveRollout at a time, from what runs; what is stale or double is refused.
func TestOneLiveRollout(t *testing.T) {
	s := stocked(t)
	ws, _ := rollout.ParseWaves("100%")
	begin := func() (store.Rollout, error) {
		return s.StartRollout(ctx, noon, "ada", "timetable", fleet.Rollout{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1}, func(store.Reader, store.Group) error { return nil })
	}
	other := func(n int) { // for new launches
		t.Helper()
		g, err := s.Group(ctx, "timetable")
		if err != nil {
			t.Fatal(err)
		}
		if err := s.ChangeGroup(ctx, noon, "ada", "timetable", g.Revision, func(_ store.Reader, g *store.Group) (fleet.Entry, error) {
			g.Template.N = n
			return fleet.Entry{Kind: "group.changed", Cause: fleet.Because("x")}, nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	other(2)
	if _, err := begin(); err == nil {
		t.Error("a rollout to what the group is on already is begun")
	}
	l, err := s.Load(ctx, "timetable")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Commit(ctx, noon, store.Commit{Group: "timetable", Epoch: l.Group.Epoch, Generation: l.Group.Generation,
		Changed: []store.Instance{instance(1)}, Entries: []fleet.Entry{{Kind: "instance.ordered", Cause: fleet.Because("x")}}}); err != nil {
		t.Fatal(err)
	}
	r, err := begin() // from what runs
	if err != nil || r.State != fleet.Moving || r.From.N != 1 || r.StartedBy != "ada" {
		t.Fatalf("%+v %v", r, err)
	}
	if _, err := begin(); !errors.Is(err, store.ErrExists) {
		t.Errorf("a second rollout: %v", err)
	}
	held, err := s.TellRollout(ctx, noon, "ada", r.ID, r.Revision, fleet.CommandHold, "lunch")
	if err != nil || held.State != fleet.Held || held.Revision != r.Revision+1 {
		t.Errorf("%+v %v", held, err)
	}
	if _, err := s.TellRollout(ctx, noon, "ada", r.ID, r.Revision, fleet.CommandProceed, ""); !errors.Is(err, store.ErrStale) {
		t.Errorf("a stale command: %v", err)
	}
	entries, err := s.Journal(ctx, store.JournalQuery{Rollout: r.ID, Page: store.Page{Limit: 10}})
	if err != nil || len(entries) != 2 || entries[0].Kind != "rollout.held" || entries[0].Actor != "ada" || entries[0].Because != "a person asked to hold: lunch" {
		t.Errorf("the journal says %+v: %v", entries, err)
	}
}
