package store_test

import (
	"errors"
	"reflect"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/template"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// TestOneLiveRollout at a time, from what runs; what is stale or double is refused.
func TestOneLiveRollout(t *testing.T) {
	s := stocked(t)
	ws, _ := rollout.ParseWaves("100%")
	begin := func() (store.Rollout, error) {
		return s.StartRollout(ctx, noon, "ada", "timetable", store.Rollout{Rollout: fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1}}}, false, func(store.Reader, store.Group) error { return nil })
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
	// What was decided of it is found however much happened to its instances meanwhile.
	if l, err = s.Load(ctx, "timetable"); err != nil {
		t.Fatal(err)
	}
	if err := s.Commit(ctx, noon, store.Commit{Group: "timetable", Epoch: l.Group.Epoch, Generation: l.Group.Generation,
		Entries: []fleet.Entry{{Kind: "instance.settling", Instance: "timetable-001", Rollout: r.ID, Cause: fleet.Because("x")}}}); err != nil {
		t.Fatal(err)
	}
	decided, err := s.Journal(ctx, store.JournalQuery{Rollout: r.ID, Kinds: []string{"rollout"}, Page: store.Page{Limit: 1}})
	if err != nil || len(decided) != 1 || decided[0].Kind != "rollout.held" {
		t.Errorf("the last decision about it is %+v (%v)", decided, err)
	}
}

// TestARevertCanBeHeld: which way a rollout goes is kept apart from where it is.
func TestARevertCanBeHeld(t *testing.T) {
	s := stocked(t)
	ws, _ := rollout.ParseWaves("100%")
	r, err := s.StartRollout(ctx, noon, "ada", "timetable", store.Rollout{Rollout: fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1}}}, false,
		func(store.Reader, store.Group) error { return nil })
	if err != nil || r.Sized != 6 {
		t.Fatalf("%+v %v", r, err)
	}
	for _, c := range []struct {
		tell  fleet.Command
		state fleet.RolloutState
		back  bool
	}{
		{fleet.CommandRevert, fleet.Reverting, true}, {fleet.CommandHold, fleet.Held, true}, {fleet.CommandRevert, fleet.Reverting, true},
		{fleet.CommandHold, fleet.Held, true}, {fleet.CommandProceed, fleet.Moving, false}, {fleet.CommandHold, fleet.Held, false},
	} {
		if _, err := s.TellRollout(ctx, noon, "ada", r.ID, store.AnyRevision, c.tell, ""); err != nil {
			t.Fatal(err)
		}
		if r, err := s.Rollout(ctx, r.ID); err != nil || r.State != c.state || r.Back != c.back || !r.Cause.Is(fleet.Cause{Code: fleet.CodeTold, About: string(c.tell)}) {
			t.Errorf("after %s it is %s, back %v, because %+v: %v", c.tell, r.State, r.Back, r.Cause, err)
		}
	}
}

// TestWhyIsKeptAsValues: causes, slots and launches are read as they were written, and a
// line about many is found for each of them.
func TestWhyIsKeptAsValues(t *testing.T) {
	s := stocked(t)
	l, err := s.Load(ctx, "timetable")
	if err != nil {
		t.Fatal(err)
	}
	in := instance(3)
	in.Cause = fleet.Cause{Code: fleet.CodeNotHealthy, Instance: "timetable-003", About: "sailings-up", Words: "503", Numbers: fleet.Numbers{fleet.Measured("settle_seconds", 2.5)}}
	in.Slot, in.Purpose, in.Launch = 1, fleet.ForHealing, 4
	l.Group.Slots = []fleet.Slot{{Number: 1, Failures: 2, Failed: []string{"timetable-001", "timetable-002"}, Last: noon, Until: noon.Add(time.Minute), Healed: true, Kept: true}}
	if err := s.Commit(ctx, noon, store.Commit{Group: "timetable", Epoch: l.Group.Epoch, Generation: l.Group.Generation, Changed: []store.Instance{in}, Book: &l.Group.Group,
		Entries: []fleet.Entry{
			{Kind: "instance.leaving", Instance: in.ID, Version: in.Version, Zone: in.Zone, Cause: in.Cause},
			{Kind: "instance.ordered", Instances: []string{"timetable-004", "timetable-005"}, Version: in.Version,
				Cause: fleet.Cause{Code: fleet.CodeSize, Numbers: fleet.Numbers{fleet.Measured("has", 0), fleet.Measured("size", 6)}}, Numbers: fleet.Numbers{fleet.Measured("boot_seconds", 1)}},
		}}); err != nil {
		t.Fatal(err)
	}
	again, err := s.Load(ctx, "timetable")
	if err != nil || len(again.Instances) != 1 || !reflect.DeepEqual(again.Group.Slots, l.Group.Slots) {
		t.Fatalf("read again: %+v, %v", again, err)
	}
	if got := again.Instances[0]; !got.Cause.Is(in.Cause) || got.Slot != 1 || got.Purpose != fleet.ForHealing || got.Launch != 4 {
		t.Errorf("the instance is read as %+v", got.Instance)
	}
	for id, want := range map[string]string{
		"timetable-003": "timetable-003 was not healthy within the settle time of 2.5 s (sailings-up 503)",
		"timetable-004": "the group has 0 and its size is 6", "timetable-005": "the group has 0 and its size is 6",
	} {
		entries, err := s.Journal(ctx, store.JournalQuery{Instance: id, Page: store.Page{Limit: 10}})
		if err != nil || len(entries) != 1 || entries[0].Because != want {
			t.Errorf("the journal of %s is %+v: %v", id, entries, err)
			continue
		}
		if e := entries[0]; id != "timetable-003" && (e.Text != "2 instances (timetable-web@1) are ordered: timetable-004 to timetable-005." || !e.Cause.Is(fleet.Cause{Code: fleet.CodeSize, Numbers: fleet.Numbers{fleet.Measured("has", 0), fleet.Measured("size", 6)}}) ||
			len(e.Numbers) != 1 || e.Numbers["boot_seconds"] != 1.0) {
			t.Errorf("a line about many: %q, %v", e.Text, e.Numbers)
		}
	}
}

// TestWhoWasTold: somebody who heard and is to answer is not told again; one whose answer came back
// at once is, while the ticket is open: the answer was lost with the service that had it.
func TestWhoWasTold(t *testing.T) {
	s := stocked(t)
	told := func(hook string) bool {
		t.Helper()
		heard, err := s.Heard(ctx, "timetable", "timetable-001", hook, 1)
		if err != nil {
			t.Fatal(err)
		}
		return heard
	}
	for hook, d := range map[string]store.Delivery{"late": {Heard: true}, "at-once": {Heard: true, Answered: true}, "deaf": {}, "by-hand": {Heard: true, SentBy: "ada"}} {
		if told(hook) {
			t.Errorf("%s was told before", hook)
		}
		d.Group, d.Instance, d.Launch, d.Hook, d.Kind, d.At = "timetable", "timetable-001", 1, hook, "webhook", noon
		if err := s.AddDelivery(ctx, d); err != nil {
			t.Fatal(err)
		}
		if got := told(hook); got != (hook == "late") {
			t.Errorf("%s counts as told: %v", hook, got)
		}
	}
	all, err := s.Deliveries(ctx, "timetable", "at-once", "", store.Page{Limit: 10})
	if err != nil || len(all) != 1 || !all[0].Answered {
		t.Errorf("what came back at once is kept as %+v, %v", all, err)
	}
}

// TestWhatARevertNeedsIsKept: a version that ran beside the most when a live rollout began is in use, as is
// what it comes from; what a group doubts is kept, also when a person clears a part of it.
func TestWhatARevertNeedsIsKept(t *testing.T) {
	url := pgtest.Database(t)
	s := stock(t, url)
	third, err := s.AddTemplate(ctx, noon, "ada", store.Template{Name: "timetable-web", Spec: template.Spec{Image: "timetable", ImageVersion: 1, Port: 8081}}, true)
	if err != nil {
		t.Fatal(err)
	}
	ws, _ := rollout.ParseWaves("100%")
	if _, err := s.StartRollout(ctx, noon, "ada", "timetable", store.Rollout{Rollout: fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: ws, Above: 1}}}, false, func(store.Reader, store.Group) error { return nil }); err != nil {
		t.Fatal(err)
	}
	if u, err := s.TemplateUsers(ctx, third.Ref()); err != nil || len(u.Groups) != 0 {
		t.Fatalf("nobody needs %s, and it is used by %v (%v)", third.Ref(), u.Groups, err)
	}
	if _, err := connect(t, url).Exec(ctx, `update rollouts set before = '[{"version": {"Name": "timetable-web", "N": 3}, "n": 1}]'`); err != nil {
		t.Fatal(err)
	}
	var inUse *store.InUse
	if err := s.DeleteTemplate(ctx, noon, "ada", third.Ref(), store.AnyRevision); !errors.As(err, &inUse) {
		t.Errorf("what a revert needs is deleted: %v", err)
	}
	doubted := []fleet.Version{{Name: "timetable-web", N: 2}, {Name: "timetable-web", N: 7}}
	change := func(f func(g *store.Group)) {
		t.Helper()
		err := s.ChangeGroup(ctx, noon, "ada", "timetable", store.AnyRevision, func(_ store.Reader, g *store.Group) (fleet.Entry, error) {
			f(g)
			return fleet.Entry{Kind: "group.changed"}, nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	change(func(g *store.Group) { g.Doubted = doubted })
	change(func(g *store.Group) {
		if err := g.Trust(doubted[:1]); err != nil {
			t.Error(err)
		}
	})
	if g, err := s.Group(ctx, "timetable"); err != nil || !reflect.DeepEqual(g.Doubted, doubted[1:]) {
		t.Errorf("it doubts %v (%v), not %v", g.Doubted, err, doubted[1:])
	}
}
