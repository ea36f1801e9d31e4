package store

import (
	"context"
	"io/fs"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pressly/goose/v3"

	"unitas/internal/pgserver/pgtest"
)

// TestEachChangeNamesWhoCanUseIt: from the first release on, and none takes away what the release
// before it uses.
func TestEachChangeNamesWhoCanUseIt(t *testing.T) {
	all, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil || len(all) < 17 {
		t.Fatal(all, err)
	}
	for k, name := range all[16:] {
		raw, err := fs.ReadFile(migrations, name)
		if err != nil {
			t.Fatal(err)
		}
		need := needed.FindStringSubmatch(string(raw))
		if n := k + 17; need == nil || need[1] != strconv.Itoa(n) {
			t.Errorf("%s does not say: insert into needs (migration, oldest, release) values (%d, …", name, n)
		}
	}
}

// TestWhatCannotWorkTogetherIsRefused: a program that is too old for the tables, and tables that
// would be taken away from a service that is up; nothing is touched.
func TestWhatCannotWorkTogetherIsRefused(t *testing.T) {
	defer func(was time.Duration) { olderWait = was }(olderWait)
	olderWait = 0
	ctx, url := context.Background(), pgtest.Database(t)
	s, err := Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	next := fstest.MapFS{"next.sql": {Data: []byte("-- +goose Up\ninsert into needs (migration, oldest, release) values (1000, 900, 'v0.9.0');\n")}}
	may := func() error {
		return s.mayUse(ctx, next, []*goose.Source{{Path: "next.sql", Version: 1000}}, s.knows)
	}
	if err := may(); err != nil {
		t.Errorf("with nobody else: %v", err)
	}
	if _, err := s.Renew(ctx, Replica{ID: "b", Name: "berths", Version: "v0.1.0", Since: time.Now()}, time.Minute); err != nil {
		t.Fatal(err)
	}
	if err := may(); err == nil || !strings.Contains(err.Error(), "the service berths (v0.1.0) is up") || !strings.Contains(err.Error(), "only be used by v0.9.0 and later") {
		t.Errorf("with one of an older release: %v", err)
	}
	again, err := Open(ctx, url)
	if err != nil {
		t.Fatalf("with a service of its own release: %v", err)
	}
	again.Close()
	if _, err := s.pool.Exec(ctx, `insert into needs (migration, oldest, release) values (999, $1, 'v0.8.0')`, s.knows); err != nil {
		t.Fatal(err)
	}
	if again, err = Open(ctx, url); err != nil {
		t.Fatalf("on later tables that it can use: %v", err)
	}
	again.Close()
	if _, err := s.pool.Exec(ctx, `insert into needs (migration, oldest, release) values (1000, 1000, 'v0.9.0')`); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Renew(ctx, Replica{ID: "b", Name: "berths", Version: "v0.1.0", Since: time.Now()}, time.Minute); err == nil || !strings.Contains(err.Error(), "a later release changed the tables meanwhile") {
		t.Errorf("one that looked before goes on: %v", err)
	}
	if _, err := Open(ctx, url); err == nil || !strings.Contains(err.Error(), "only v0.9.0 and later can use") {
		t.Errorf("on tables that are too new: %v", err)
	}
}

// TestTablesAreChangedByOneAtATime: who starts in the same moment looks once the other has changed them.
func TestTablesAreChangedByOneAtATime(t *testing.T) {
	ctx, url := context.Background(), pgtest.Database(t)
	other, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close(ctx)
	if _, err := other.Exec(ctx, `select pg_advisory_lock($1)`, migratingKey); err != nil {
		t.Fatal(err)
	}
	soon, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	if s, err := Open(soon, url); err == nil {
		s.Close()
		t.Error("two look and change at once")
	} else if !strings.Contains(err.Error(), "another service changes them") {
		t.Errorf("it says: %v", err)
	}
	if _, err := other.Exec(ctx, `select pg_advisory_unlock($1)`, migratingKey); err != nil {
		t.Fatal(err)
	}
	s, err := Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
}
