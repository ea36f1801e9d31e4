package store_test

import (
	"strings"
	"testing"
	"time"

	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// TestADatabaseBelongsToOneDirectory: the first, or after an upgrade the one whose machines are
// recorded; no other, unless it takes its place while nobody is up.
func TestADatabaseBelongsToOneDirectory(t *testing.T) {
	url := pgtest.Database(t)
	s, conn := stock(t, url), connect(t, url)
	refused := func(d store.Directory, says string) {
		t.Helper()
		if err := s.Belong(ctx, d); (err == nil) != (says == "") || (err != nil && !strings.Contains(err.Error(), says)) {
			t.Errorf("%+v: %v, want %q", d, err, says)
		}
	}
	if _, err := conn.Exec(ctx, `insert into instances (id, group_name, serial, state, zone, template, template_version, since, ordered_at, address, address_number) values ('timetable-001', 'timetable', 1, 'serving', 'east-pier', 'timetable-web', 1, now(), now(), '127.64.0.1', 0)`); err != nil {
		t.Fatal(err)
	}
	a, b := store.Directory{ID: "a", Path: "/srv/a", Host: "pier"}, store.Directory{ID: "b", Path: "/srv/b", Host: "quay"}
	refused(b, "has 1 instances, and the data directory /srv/b has the machine of none of them")
	a.Machines = []string{"timetable-001", "else"}
	refused(a, "")
	refused(a, "")
	refused(b, "are in the data directory /srv/a on pier, and this service has /srv/b on quay")
	b.Moved = true
	if _, err := s.Renew(ctx, store.Replica{ID: "x", Name: "x", Address: "http://127.0.0.1:1", Since: time.Now()}, time.Minute); err != nil {
		t.Fatal(err)
	}
	refused(b, "the service x at http://127.0.0.1:1 is up")
	if _, err := conn.Exec(ctx, `delete from replicas`); err != nil {
		t.Fatal(err)
	}
	refused(b, "")
	refused(a, "are in the data directory /srv/b on quay")
}
