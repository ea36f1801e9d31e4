package store_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/scaling"
	"unitas/internal/fleet/template"
	"unitas/internal/store"
)

// TestNothingIsUsedThatIsDeletedMeanwhile deletes what a change is about to use after
// the change was found good and before it is written.
func TestNothingIsUsedThatIsDeletedMeanwhile(t *testing.T) {
	second := fleet.Version{Name: "timetable-web", N: 2}
	pool := func(t *testing.T, s *store.Store) {
		if err := s.DeletePool(ctx, noon, "ben", "side", store.AnyRevision); err != nil {
			t.Error(err)
		}
	}
	templateGoes := func(t *testing.T, s *store.Store) {
		if err := s.DeleteTemplate(ctx, noon, "ben", second, store.AnyRevision); err != nil {
			t.Error(err)
		}
	}
	check := func(t *testing.T, s *store.Store) {
		if err := s.DeleteCheck(ctx, noon, "ben", "spare", store.AnyRevision); err != nil {
			t.Error(err)
		}
	}
	image := func(t *testing.T, s *store.Store) {
		if _, err := s.DeleteImage(ctx, noon, "ben", fleet.Version{Name: "spare", N: 1}, store.AnyRevision); err != nil {
			t.Error(err)
		}
	}
	change := func(f func(*store.Group)) func(*store.Store, func()) error {
		return func(s *store.Store, meanwhile func()) error {
			return s.ChangeGroup(ctx, noon, "ada", "timetable", store.AnyRevision, func(_ store.Reader, g *store.Group) (fleet.Entry, error) {
				f(g)
				meanwhile()
				return fleet.Entry{Kind: "group.changed"}, nil
			})
		}
	}
	add := func(f func(*store.Group)) func(*store.Store, func()) error {
		return func(s *store.Store, meanwhile func()) error {
			g, err := s.Group(ctx, "timetable")
			if err != nil {
				return err
			}
			g.Name = "second"
			f(&g)
			_, err = s.AddGroup(ctx, noon, "ada", g, func(*store.Tx) error { meanwhile(); return nil })
			return err
		}
	}
	for _, c := range []struct {
		name, says string
		goes       func(*testing.T, *store.Store)
		use        func(s *store.Store, meanwhile func()) error
	}{
		{"a group's new pool", "a pool that it names", pool, change(func(g *store.Group) { g.Pools = []string{"front", "side"} })},
		{"a new group's pool", "a pool that it names", pool, add(func(g *store.Group) { g.Pools = []string{"side"} })},
		{"the check that heals", "the check that heals", check, change(func(g *store.Group) { g.Heal = "spare" })},
		{"a group's template", "the template", templateGoes, change(func(g *store.Group) { g.Template = second })},
		{"the image of one alone", "the image", image, add(func(g *store.Group) { g.Alone, g.Overrides.Image = true, "spare@1" })},
		{"a rollout's template", "the template", templateGoes, func(s *store.Store, meanwhile func()) error {
			waves, _ := rollout.ParseWaves("100%")
			_, err := s.StartRollout(ctx, noon, "ada", "timetable", store.Rollout{Rollout: fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: second, Waves: waves, Above: 1}}}, false,
				func(store.Reader, store.Group) error { meanwhile(); return nil })
			return err
		}},
		{"a pool's check", "the check", check, func(s *store.Store, meanwhile func()) error {
			_, err := s.ChangePool(ctx, noon, "ada", "side", store.AnyRevision, func(_ store.Reader, p *store.Pool) (fleet.Cause, error) {
				p.Check = "spare"
				meanwhile()
				return fleet.Because("x"), nil
			})
			return err
		}},
		{"a template's image", "the image", image, func(s *store.Store, meanwhile func()) error {
			meanwhile()
			_, err := s.AddTemplate(ctx, noon, "ada", store.Template{Name: "further", Spec: template.Spec{Image: "spare", ImageVersion: 1, Port: 80}}, false)
			return err
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := stocked(t)
			if _, err := s.AddCheck(ctx, noon, "ada", store.Check{Check: health.Check{Name: "spare", Kind: health.TCP, Port: 80}}); err != nil {
				t.Fatal(err)
			}
			if _, err := s.AddPool(ctx, noon, "ada", store.Pool{Name: "side", Check: "sailings-up"}, anything); err != nil {
				t.Fatal(err)
			}
			if _, err := s.AddImage(ctx, noon, "ada", store.Image{Name: "spare", State: "ready", Digest: "sha256:2"}); err != nil {
				t.Fatal(err)
			}
			err := c.use(s, func() { c.goes(t, s) })
			var refused *fleet.Refusal
			if !errors.As(err, &refused) || !strings.Contains(refused.Text, c.says+" was deleted in this moment") {
				t.Errorf("it answered %v", err)
			}
			for _, name := range []string{"timetable", "second"} {
				if l, err := s.Load(ctx, name); err == nil {
					for _, check := range l.Group.AllChecks() {
						if _, err := s.Check(ctx, check); err != nil {
							t.Errorf("%s is judged by %s, which is not there", name, check)
						}
					}
				} else if name == "timetable" || !errors.Is(err, store.ErrNotFound) {
					t.Errorf("%s cannot be loaded any more: %v", name, err)
				}
			}
		})
	}
}

// TestAStaleInstanceIsNotChanged: nor let go, and nothing of either is written.
func TestAStaleInstanceIsNotChanged(t *testing.T) {
	s := stocked(t)
	l, err := s.Load(ctx, "timetable")
	if err != nil {
		t.Fatal(err)
	}
	one := store.Instance{Instance: fleet.Instance{ID: "timetable-001", Serial: 1, Zone: "east-pier", Version: l.Group.Template, State: fleet.Serving, Since: noon, Ordered: noon}, Address: "127.64.0.1"}
	if err := s.Commit(ctx, noon, store.Commit{Group: "timetable", Epoch: l.Group.Epoch, Generation: l.Group.Generation, Changed: []store.Instance{one}}); err != nil {
		t.Fatal(err)
	}
	change := func(revision int64) error {
		return s.ChangeInstance(ctx, noon, "ada", one.ID, revision, func(_ fleet.Group, in fleet.Instance, _ bool) (fleet.Instance, fleet.Entry, error) {
			in.Pinned = true
			return in, fleet.Entry{Kind: "instance.pinned", Instance: in.ID}, nil
		})
	}
	release := func(revision int64) error {
		return s.ReleaseInstance(ctx, noon, "ada", one.ID, revision, func(g fleet.Group, in fleet.Instance) (fleet.Group, fleet.Instance, fleet.Entry, error) {
			g.Size, g.RuleStates = g.Size-1, []scaling.State{{Name: "nights", Before: 2}}
			return g, in, fleet.Entry{Kind: "instance.released", Instance: in.ID}, nil
		})
	}
	for name, act := range map[string]func(int64) error{"a change": change, "a release": release} {
		if err := act(99); !errors.Is(err, store.ErrStale) {
			t.Errorf("%s against another revision: %v", name, err)
		}
	}
	in, err := s.Instance(ctx, one.ID)
	if err != nil || in.Pinned || in.Group != "timetable" || in.Revision != 1 {
		t.Errorf("it is %+v: %v", in, err)
	}
	if err := change(1); err != nil {
		t.Error(err)
	}
	if in, _ = s.Instance(ctx, one.ID); !in.Pinned || in.Revision != 2 {
		t.Errorf("after a good change it is %+v", in)
	}
	before, _ := s.Group(ctx, "timetable")
	if err := release(2); err != nil {
		t.Error(err)
	}
	if g, err := s.Group(ctx, "timetable"); err != nil || g.Size != before.Size-1 || len(g.RuleStates) != 1 || g.RuleStates[0].Before != 2 {
		t.Errorf("after a release there are %d with %+v: %v", g.Size, g.RuleStates, err)
	}
}

// TestKeysAreOfTheirToken: what was answered under a key is answered to the same token
// again, and to no other.
func TestKeysAreOfTheirToken(t *testing.T) {
	s := open(t)
	begin := func(token string) *store.Repeat {
		t.Helper()
		before, err := s.BeginRepeat(ctx, token, "key-1", []byte("one"))
		if err != nil {
			t.Fatal(err)
		}
		return before
	}
	if before := begin("ada"); before != nil {
		t.Fatalf("the first is answered with %+v", before)
	}
	if before := begin("ada"); before == nil || before.Status != nil {
		t.Errorf("while the first is under way the second is told %+v", before)
	}
	if err := s.EndRepeat(ctx, "ada", "key-1", 201, []byte("one"), []byte("made")); err != nil {
		t.Fatal(err)
	}
	if before := begin("ben"); before != nil {
		t.Errorf("another token is told %+v", before)
	}
	if before := begin("ada"); before == nil || before.Status == nil || *before.Status != 201 || string(before.Body) != "made" {
		t.Errorf("the same is told %+v", before)
	}
}

// TestOneFirstToken: of services that start together one makes it.
func TestOneFirstToken(t *testing.T) {
	s := open(t)
	made := make(chan bool, 8)
	for n := range cap(made) {
		go func() {
			yes, err := s.FirstToken(ctx, "admin", func() (string, error) { return fmt.Sprint("token-", n), nil })
			if err != nil {
				t.Error(err)
			}
			made <- yes
		}()
	}
	tokens := 0
	for range cap(made) {
		if <-made {
			tokens++
		}
	}
	known := 0
	for n := range cap(made) {
		if _, err := s.TokenName(ctx, fmt.Sprint("token-", n)); err == nil {
			known++
		}
	}
	if tokens != 1 || known != 1 {
		t.Errorf("%d were made and %d are known", tokens, known)
	}
}
