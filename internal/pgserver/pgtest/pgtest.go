// Package pgtest gives tests a PostgreSQL of their own: one cluster for a run
// of a package, on a free loopback port, and a database for each test.
package pgtest

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"unitas/internal/pgserver"
)

var (
	server  *pgserver.Server
	counter atomic.Int64
)

// Main runs the tests of a package beside a fresh cluster, which is gone
// afterwards. before is run first, with a directory that goes as well; it may
// be nil.
func Main(m *testing.M, before func(dir string) error) {
	os.Exit(run(m, before))
}

func run(m *testing.M, before func(dir string) error) int {
	if before != nil {
		dir, err := os.MkdirTemp("", "unitas-test-")
		if err == nil {
			defer os.RemoveAll(dir)
			err = before(dir)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
	}
	s, err := Cluster(context.Background())
	if err != nil {
		fmt.Fprintln(os.Stderr, "start PostgreSQL for the tests:", err)
		return 1
	}
	defer s.End()
	server = s.Server
	return m.Run()
}

// Temporary is a cluster in a directory that goes with it.
type Temporary struct {
	*pgserver.Server
	dir   string
	alive *os.File // its far end reads the end when this process dies
}

// Cluster starts a cluster that the caller ends.
func Cluster(ctx context.Context) (*Temporary, error) {
	dir, err := os.MkdirTemp("", "unitas-pg-")
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return nil, err
	}
	s, err := pgserver.Start(ctx, dir+"/pg", false)
	if err != nil {
		os.RemoveAll(dir)
		return nil, err
	}
	alive, err := mourn(dir)
	t := &Temporary{s, dir, alive}
	if err != nil {
		t.End()
		return nil, err
	}
	return t, nil
}

// mourn has a process wait for this one to die, however it dies, and then end the cluster
// in dir: a test that panics or is killed calls no End.
func mourn(dir string) (*os.File, error) {
	far, near, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer far.Close()
	cmd := exec.Command("sh", "-c", `read -r _
pid=$(head -n 1 "$0/pg/cluster/postmaster.pid" 2>/dev/null) && kill -QUIT "$pid" && timeout 20 tail --pid="$pid" -s 0.1 -f /dev/null
rm -rf "$0"`, dir)
	cmd.Stderr = os.Stderr // whoever reads it to its end has waited for this
	cmd.Stdin = far
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // what kills the group of the tests spares it
	if err := cmd.Start(); err != nil {
		near.Close()
		return nil, err
	}
	return near, cmd.Process.Release()
}

// End stops the cluster and removes its directory.
func (t *Temporary) End() {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if err := t.Stop(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "stop PostgreSQL:", err)
	}
	os.RemoveAll(t.dir)
	t.alive.Close()
}

// Database returns the address of a new empty database.
func Database(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("test_%d", counter.Add(1))
	if err := server.Create(context.Background(), name); err != nil {
		t.Fatal(err)
	}
	return server.URL(name)
}
