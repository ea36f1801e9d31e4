package pgserver_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"

	"unitas/internal/pgserver"
)

// TestStartStopStart makes a cluster, uses it, stops it, starts it on the same
// port, and opens it again as another process would.
func TestStartStopStart(t *testing.T) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "unitas-pg-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	dir = filepath.Join(dir, "postgresql")
	s, err := pgserver.Start(ctx, dir, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(ctx); err != nil {
			t.Error(err)
		}
	})
	do := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	do(s.Create(ctx, "unitas"))
	do(s.Create(ctx, "unitas")) // is there already
	before := s.URL("unitas")
	do(s.Stop(ctx))
	if conn, err := pgx.Connect(ctx, before); err == nil {
		conn.Close(ctx)
		t.Fatal("a stopped server answers")
	}
	do(s.Up(ctx))
	again, err := pgserver.Start(ctx, dir, false)
	do(err)
	if s.URL("unitas") != before || again.URL("unitas") != before {
		t.Errorf("the address was %s, is %s and %s", before, s.URL("unitas"), again.URL("unitas"))
	}
	conn, err := pgx.Connect(ctx, again.URL("unitas"))
	do(err)
	conn.Close(ctx)
	if info, err := os.Stat(filepath.Join(dir, "password")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the password may be read by others: %v %v", info.Mode(), err)
	}
}
