package store_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/template"
	"unitas/internal/fleet/traffic"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

var (
	ctx  = context.Background()
	noon = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
)

func open(t *testing.T) *store.Store {
	t.Helper()
	return openAt(t, pgtest.Database(t))
}

func openAt(t *testing.T, url string) *store.Store {
	t.Helper()
	s, err := store.Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// stocked has an image, two template versions, a check, a pool and a group.
func stocked(t *testing.T) *store.Store {
	t.Helper()
	return stock(t, pgtest.Database(t))
}

func stock(t *testing.T, url string) *store.Store {
	t.Helper()
	s := openAt(t, url)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	_, err := s.AddImage(ctx, noon, "ada", store.Image{Name: "timetable", State: "ready", Digest: "sha256:1", Start: []string{"./timetable"}})
	must(err)
	tmpl := store.Template{Name: "timetable-web", Spec: template.Spec{Image: "timetable", ImageVersion: 1, Port: 8080}}
	_, err = s.AddTemplate(ctx, noon, "ada", tmpl, false)
	must(err)
	tmpl.Note = "summer"
	_, err = s.AddTemplate(ctx, noon, "ada", tmpl, true)
	must(err)
	_, err = s.AddCheck(ctx, noon, "ada", store.Check{Check: health.Check{Name: "sailings-up", Kind: health.HTTP, Port: 8080, Path: "/up", Interval: time.Second, Timeout: time.Second, Passes: 2, Fails: 3}})
	must(err)
	_, err = s.AddPool(ctx, noon, "ada", store.Pool{Name: "front", Listeners: []store.Listener{store.NewListener("127.0.0.1:8000", "", "")}, Check: "sailings-up"}, anything)
	must(err)
	_, err = s.AddGroup(ctx, noon, "ada", store.Group{
		Group: fleet.Group{
			Name: "timetable", Settings: fleet.Settings{
				Size: 6, Min: 3, Max: 9, Template: fleet.Version{Name: "timetable-web", N: 1}, Zones: []string{"east-pier"}, Heal: "sailings-up", Settle: time.Minute, Drain: time.Second, Pools: []string{"front"},
			},
		}}, nothing)
	must(err)
	return s
}

// connect is a connection to a database below the store.
func connect(t *testing.T, url string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(ctx) })
	return conn
}

func anything(store.Reader) error { return nil }

func nothing(*store.Tx) error { return nil }

// TestReplicasStartTogether opens an empty database from many sides at once.
func TestReplicasStartTogether(t *testing.T) {
	url := pgtest.Database(t)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			s, err := store.Open(ctx, url)
			if err != nil {
				t.Error(err)
				return
			}
			s.Close()
		})
	}
	all.Wait()
}

func TestVersionsAreCountedOneByOne(t *testing.T) {
	s := open(t)
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if _, err := s.AddImage(ctx, noon, "ada", store.Image{Name: "timetable", State: "ready", Start: []string{"x"}}); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	images, err := s.Images(ctx, store.ImageQuery{Page: store.Page{Limit: 100}})
	if err != nil || len(images) != 20 || images[0].Version != 20 || images[19].Version != 1 {
		t.Errorf("%d images: %v", len(images), err)
	}
}

func TestPagesByKey(t *testing.T) {
	s := open(t)
	for _, name := range []string{"berths", "timetable"} {
		for range 5 {
			if _, err := s.AddImage(ctx, noon, "ada", store.Image{Name: name, State: "ready", Start: []string{"x"}}); err != nil {
				t.Fatal(err)
			}
		}
	}
	var seen []string
	page := store.Page{Limit: 3}
	for {
		images, err := s.Images(ctx, store.ImageQuery{Page: page})
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range images {
			seen = append(seen, i.Ref().String())
		}
		if len(images) < page.Limit {
			break
		}
		last := images[len(images)-1]
		page.After = store.Cursor{last.Name, fmt.Sprint(last.Version)}
	}
	want := "[berths@5 berths@4 berths@3 berths@2 berths@1 timetable@5 timetable@4 timetable@3 timetable@2 timetable@1]"
	if fmt.Sprint(seen) != want {
		t.Errorf("the pages hold %v", seen)
	}
}

func TestRefusals(t *testing.T) {
	s := stocked(t)
	if err := s.AddToken(ctx, "admin", "unitas-secret"); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name string
		want error
		do   func() error
	}{
		{"a template twice", store.ErrExists, func() error {
			_, err := s.AddTemplate(ctx, noon, "ada", store.Template{Name: "timetable-web", Spec: template.Spec{Image: "timetable", ImageVersion: 1}}, false)
			return err
		}},
		{"a revision of nothing", store.ErrNotFound, func() error {
			_, err := s.AddTemplate(ctx, noon, "ada", store.Template{Name: "nope", Spec: template.Spec{Image: "timetable", ImageVersion: 1}}, true)
			return err
		}},
		{"a listener twice", store.ErrExists, func() error {
			_, err := s.AddPool(ctx, noon, "ada", store.Pool{Name: "other", Listeners: []store.Listener{store.NewListener("127.0.0.1:8000", "", "")}, Check: "sailings-up"}, anything)
			return err
		}},
		{"a stale change", store.ErrStale, func() error {
			return s.ChangeGroup(ctx, noon, "ada", "timetable", 7, func(store.Reader, *store.Group) (fleet.Entry, error) {
				t.Error("a stale change was made")
				return fleet.Entry{}, nil
			})
		}},
		{"a group that is not there", store.ErrNotFound, func() error { _, err := s.Group(ctx, "nope"); return err }},
		{"a token that is not known", store.ErrNotFound, func() error { _, err := s.TokenName(ctx, "nope"); return err }},
	} {
		if err := c.do(); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", c.name, err, c.want)
		}
	}
}

func instance(n int) store.Instance {
	return store.Instance{
		Instance: fleet.Instance{ID: fmt.Sprintf("timetable-%03x", n), Serial: n, Zone: "east-pier", Version: fleet.Version{Name: "timetable-web", N: 1},
			State: fleet.Ordered, Since: noon, Ordered: noon, Cause: fleet.Because("x"), Slot: n, Purpose: fleet.ForSize, Launch: 1},
		Address: fmt.Sprintf("127.64.0.%d", n), AddressNumber: int64(n),
	}
}

// TestSerialsOutliveTheGroup deletes a group and makes it again.
func TestSerialsOutliveTheGroup(t *testing.T) {
	s := stocked(t)
	g, err := s.Group(ctx, "timetable")
	if err != nil {
		t.Fatal(err)
	}
	settings := g.Group
	settings.NextSerial = 17
	if err := s.Commit(ctx, noon, store.Commit{Group: "timetable", Epoch: g.Epoch, Generation: g.Generation, Book: &settings, Finished: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Group(ctx, "timetable"); !errors.Is(err, store.ErrNotFound) {
		t.Fatalf("the group is still there: %v", err)
	}
	again, err := s.AddGroup(ctx, noon, "ada", g, nothing)
	if err != nil || again.NextSerial != 17 {
		t.Errorf("the next serial is %d: %v", again.NextSerial, err)
	}
}

// TestEventsComeInOrder writes from many sides while one reads: every entry
// comes once, and in an order that never goes back.
func TestEventsComeInOrder(t *testing.T) {
	s := open(t)
	const writers, each = 8, 25
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for n := range each {
				err := s.Change(ctx, noon, "ada", func(tx *store.Tx) error {
					return tx.Record(ctx, "timetable", fleet.Entry{Kind: fmt.Sprintf("test.%d.%d", w, n), Text: "x", Cause: fleet.Because("y")})
				})
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	seen := map[string]bool{}
	var last int64
	read := func() {
		if _, err := s.NumberEvents(ctx); err != nil {
			t.Error(err)
		}
		events, err := s.Events(ctx, last, 50)
		if err != nil {
			t.Error(err)
			return
		}
		for _, e := range events {
			if e.Number <= last || seen[string(e.Data)] {
				t.Errorf("%d comes after %d", e.Number, last)
			}
			seen[string(e.Data)] = true
			last = e.Number
		}
	}
	var numbering sync.WaitGroup
	for range 2 { // as two replicas do
		numbering.Go(func() {
			for range 50 {
				if _, err := s.NumberEvents(ctx); err != nil {
					t.Error(err)
				}
			}
		})
	}
	done := make(chan struct{})
	go func() { all.Wait(); numbering.Wait(); close(done) }()
	for writing := true; writing; {
		select {
		case <-done:
			writing = false
		default:
		}
		read()
	}
	for range 10 {
		read()
	}
	if len(seen) != writers*each {
		t.Errorf("%d of %d events were read", len(seen), writers*each)
	}
}

func TestRepeatsUnderOneKey(t *testing.T) {
	s := open(t)
	begin := func(print string) *store.Repeat {
		t.Helper()
		r, err := s.BeginRepeat(ctx, "ada", "key", []byte(print))
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	if begin("a") != nil {
		t.Error("the first was seen before")
	}
	if r := begin("a"); r == nil || r.Status != nil {
		t.Errorf("while the first is under way the second gets %+v", r)
	}
	// One that takes longer than a minute keeps its key as long as it says that it is there.
	older := func(seconds int) {
		t.Helper()
		if err := s.Change(ctx, noon, "ada", func(tx *store.Tx) error {
			_, err := tx.Exec(ctx, `update repeats set created_at = created_at - make_interval(secs => $1)`, seconds)
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	older(50)
	if err := s.KeepRepeat(ctx, "ada", "key"); err != nil {
		t.Fatal(err)
	}
	older(50)
	if begin("a") == nil {
		t.Error("one that is under way lost its key")
	}
	if err := s.EndRepeat(ctx, "ada", "key", 201, []byte("whole"), []byte(`{}`)); err != nil {
		t.Fatal(err)
	}
	if err := s.KeepRepeat(ctx, "ada", "key"); err != nil {
		t.Fatal(err)
	}
	if r := begin("a"); r == nil || *r.Status != 201 || string(r.Fingerprint) != "whole" || string(r.Body) != `{}` {
		t.Errorf("the second gets %+v", r)
	}
	if err := s.EndRepeat(ctx, "ada", "key", 500, nil, nil); err != nil {
		t.Fatal(err)
	}
	if begin("a") != nil {
		t.Error("a key whose request failed is not free")
	}
	older(61)
	if begin("b") != nil {
		t.Error("a key that nobody is heard of under is not free")
	}
}

func TestTokensAreHashed(t *testing.T) {
	url := pgtest.Database(t)
	s := openAt(t, url)
	if err := s.AddToken(ctx, "admin", "unitas-secret"); err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	var kept []byte
	var row string
	if err := conn.QueryRow(ctx, `select hash, t::text || encode(hash, 'escape') from tokens t`).Scan(&kept, &row); err != nil {
		t.Fatal(err)
	}
	if hash := sha256.Sum256([]byte("unitas-secret")); !bytes.Equal(kept, hash[:]) || strings.Contains(row, "secret") {
		t.Errorf("of the token is kept %s", row)
	}
	if name, err := s.TokenName(ctx, "unitas-secret"); err != nil || name != "admin" {
		t.Errorf("%q %v", name, err)
	}
}

// TestPoolKeepsWhatItSays: all that a pool says of itself is read again as it was
// written, no two listen on one address, and what is in use is not deleted.
func TestPoolKeepsWhatItSays(t *testing.T) {
	s := stocked(t)
	p, err := s.ChangePool(ctx, noon, "ada", "front", 1, func(_ store.Reader, p *store.Pool) (fleet.Cause, error) {
		p.Listeners = append(p.Listeners, store.NewListener("127.0.0.1:8443", "", "front"))
		p.Algorithm, p.WhenNoneHealthy, p.SlowStart, p.Enough = traffic.LeastBusy, traffic.TryAll, 30*time.Second, 40
		p.Shares = []traffic.Share{{Group: "timetable", Weight: 90}, {Group: "berths", Weight: 10, Reserve: true}}
		p.Weights, p.Zones, p.Labels = map[string]int{"timetable-001": 25}, []string{"east-pier"}, map[string]string{"env": "trial"}
		return fleet.Asked(""), nil
	})
	if err != nil || p.Revision != 2 {
		t.Fatalf("revision %d, %v", p.Revision, err)
	}
	// Who changed it and the journal are told what is another.
	const changes = "listeners 127.0.0.1:8000 and 127.0.0.1:8443, was 127.0.0.1:8000; zones east-pier, was none; algorithm least-busy, was round-robin; when none is healthy try-all, was refuse; " +
		"slow start 30 s, was none; shares timetable 90 and berths 10 in reserve, was none; enough 40 %, was 0 %; weight of timetable-001 25, was 100; labels env=trial, was none"
	if is := strings.Join(p.Changes, "; "); is != changes {
		t.Errorf("the changes are %s", is)
	}
	if all, err := s.Journal(ctx, store.JournalQuery{Kinds: []string{"pool.changed"}, Page: store.Page{Limit: 1}}); err != nil || len(all) != 1 || all[0].Text != "The pool front has other settings: "+changes+"." {
		t.Errorf("the journal has %+v, %v", all, err)
	}
	p.Changes = nil
	again, err := s.Pool(ctx, "front")
	if err != nil || !reflect.DeepEqual(again, p) {
		t.Errorf("read again it is\n%+v\nand was\n%+v (%v)", again, p, err)
	}
	if _, err := s.ChangePool(ctx, noon, "ada", "front", 1, func(store.Reader, *store.Pool) (fleet.Cause, error) { return fleet.Cause{}, nil }); !errors.Is(err, store.ErrStale) {
		t.Errorf("a stale change: %v", err)
	}
	if _, err := s.AddPool(ctx, noon, "ada", store.Pool{Name: "back", Listeners: []store.Listener{store.NewListener("127.0.0.1:8443", "", "")}, Check: "sailings-up"}, anything); !errors.Is(err, store.ErrExists) {
		t.Errorf("two pools on one address: %v", err)
	}
	var inUse *store.InUse
	if err := s.DeleteCheck(ctx, noon, "ada", "sailings-up", store.AnyRevision); !errors.As(err, &inUse) || !slices.Contains(inUse.By, "the pool front") {
		t.Errorf("a check in use was deleted: %v", err)
	}
	if err := s.DeletePool(ctx, noon, "ada", "front", store.AnyRevision); !errors.As(err, &inUse) {
		t.Errorf("a pool in use was deleted: %v", err)
	}
	if err := s.ChangeGroup(ctx, noon, "ada", "timetable", store.AnyRevision, func(_ store.Reader, g *store.Group) (fleet.Entry, error) {
		g.Pools, g.Heal = nil, fleet.HealOff
		return fleet.Entry{Kind: "group.changed"}, nil
	}); err != nil {
		t.Fatal(err)
	}
	if err := s.DeletePool(ctx, noon, "ada", "front", store.AnyRevision); err != nil {
		t.Error(err)
	}
	if err := s.DeleteCheck(ctx, noon, "ada", "sailings-up", store.AnyRevision); err != nil {
		t.Error(err)
	}
}
