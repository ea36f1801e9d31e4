package store_test

import (
	"fmt"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/rollout"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// TestPrune has old and young rows of every kind, some of them needed by what lives.
func TestPrune(t *testing.T) {
	url := pgtest.Database(t)
	s, conn := stock(t, url), connect(t, url)
	waves, _ := rollout.ParseWaves("100%")
	live, err := s.StartRollout(ctx, noon, "ada", "timetable", store.Rollout{Rollout: fleet.Rollout{RolloutSettings: fleet.RolloutSettings{To: fleet.Version{Name: "timetable-web", N: 2}, Waves: waves, Above: 1}}}, false, func(store.Reader, store.Group) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now().UTC()
	old, aged, young := now.Add(-100*24*time.Hour), now.Add(-10*24*time.Hour), now.Add(-time.Hour)
	for _, sql := range []string{`delete from journal`, `delete from outbox`, `delete from instances`} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	n := 0
	add := func(sql string, args ...any) {
		t.Helper()
		if _, err := conn.Exec(ctx, sql, args...); err != nil {
			t.Fatal(err)
		}
	}
	instance := func(id, state string, since time.Time) {
		n++
		add(`insert into instances (id, group_name, serial, zone, template, template_version, state, since, address, address_number, ordered_at)
			values ($1, 'timetable', $2::integer, 'east-pier', 'timetable-web', 1, $3, $4, $1, $2::integer, $4)`, id, n, state, since)
	}
	entry := func(kind string, at time.Time, instance string, many []string, ro int64) {
		add(`insert into journal (at, kind, group_name, instance, instances, rollout, actor, text, because, numbers) values ($1, $2, 'timetable', $3, $4, $5, 'ada', '', '', '{}')`,
			at, kind, instance, many, ro)
	}
	instance("gone-old", "gone", aged)
	instance("gone-young", "gone", young)
	instance("serving-old", "serving", old)
	entry("old", old, "gone-old", []string{}, 0)
	entry("old", old, "", []string{}, 99)
	entry("needed by one that serves", old, "serving-old", []string{}, 0)
	entry("needed by one of many", old, "", []string{"gone-old", "serving-old"}, 0)
	entry("needed by a rollout", old, "", []string{}, live.ID)
	for range 25 {
		entry("old", old, "", []string{}, 0)
	}
	entry("young", aged, "", []string{}, 0)
	for _, at := range []time.Time{old, young} {
		add(`insert into runs (instance, group_name, zone, labels, price_per_hour, from_at, until_at) values ('x', 'timetable', 'east-pier', '{}', 1, $1, $1)`, at)
		add(`insert into mark_moves (kind, name, mark, from_version, to_version, at, actor) values ('image', 'timetable', 'stable', 0, 1, $1, 'ada')`, at)
		add(`insert into outbox (at, kind, data) values ($1, 'journal', '{}')`, at)
		add(`insert into repeats (key, token, fingerprint, created_at) values ($1, 'ada', '', $2)`, fmt.Sprint(at), at)
		add(`insert into serials (group_name, next, at) values ($1, 7, $2)`, fmt.Sprint("away-", at.Unix()), at)
		add(`insert into replicas (id, until) values ($1, $2)`, fmt.Sprint(at), at)
		add(`insert into rollouts (group_name, from_version, from_name, to_version, to_name, waves, above, below, soak_ms, state, since, wave, times, resumed, stumbles, started_at, started_by, ended_at)
			values ('timetable', 1, 'away', 2, 'away', 'all', 1, 0, 0, 'done', $1, 0, '[]', $1, 0, $1, 'ada', $1)`, at)
	}
	add(`insert into runs (instance, group_name, zone, labels, price_per_hour, from_at) values ('runs', 'timetable', 'east-pier', '{}', 1, $1)`, old)
	went, err := s.Prune(ctx, now, store.Kept{Journal: 90 * 24 * time.Hour, Gone: 7 * 24 * time.Hour}, 10)
	if err != nil {
		t.Fatal(err)
	}
	for what, want := range map[string]int64{"instances": 1, "journal": 27, "runs": 1, "moves of marks": 1, "events": 1, "repeats": 1, "numbers of deleted groups": 1, "replicas": 1, "rollouts": 1} {
		if went[what] != want {
			t.Errorf("%d %s went, not %d", went[what], what, want)
		}
	}
	for table, want := range map[string]int{"instances": 2, "runs": 2, "mark_moves": 1, "outbox": 1, "repeats": 1, "serials": 1, "replicas": 1, "rollouts": 2} {
		var left int
		if err := conn.QueryRow(ctx, `select count(*) from `+table).Scan(&left); err != nil || left != want {
			t.Errorf("%d rows of %s are left, not %d: %v", left, table, want, err)
		}
	}
	entries, err := s.Journal(ctx, store.JournalQuery{Page: store.Page{Limit: 100}})
	if err != nil || len(entries) != 4 {
		t.Errorf("left of the journal: %+v %v", entries, err)
	}
	for _, e := range entries {
		if e.Kind == "old" {
			t.Errorf("kept although nobody needs it: %+v", e)
		}
	}
}
