package pgserver_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/pgserver"
)

// TestStartStopStart makes a cluster, uses it, stops it, starts it where it was, and
// opens it again as another process would.
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

// cluster starts one in a directory of its own, which goes with it.
func cluster(t *testing.T, below string) (s *pgserver.Server, dir string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "unitas-pg-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := errors.Join(os.Chmod(dir, 0o755), os.MkdirAll(filepath.Join(dir, below), 0o755)); err != nil {
		t.Fatal(err)
	}
	dir = filepath.Join(dir, below, "postgresql")
	if s, err = pgserver.Start(context.Background(), dir, false); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Leave(context.Background()); err != nil {
			t.Error(err)
		}
	})
	return s, dir
}

func answers(s *pgserver.Server) bool {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return false
	}
	conn.Close(ctx)
	return true
}

// TestLastsAndIsClosed: by default what is committed lasts, and nobody enters without the
// password or from elsewhere.
func TestLastsAndIsClosed(t *testing.T) {
	ctx := context.Background()
	s, dir := cluster(t, "")
	shown := func(url, name string) string {
		t.Helper()
		conn, err := pgx.Connect(ctx, url)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(ctx)
		var value string
		if err := conn.QueryRow(ctx, "select current_setting($1)", name).Scan(&value); err != nil {
			t.Fatal(err)
		}
		return value
	}
	if got := shown(s.URL("postgres"), "listen_addresses"); got != "" {
		t.Errorf("it listens on %q", got)
	}
	if got := shown(s.URL("postgres"), "fsync"); got != "off" { // as the tests ask for
		t.Errorf("fsync is %s", got)
	}
	wrong, err := url.Parse(s.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	wrong.User = url.UserPassword("unitas", "wrong")
	if conn, err := pgx.Connect(ctx, wrong.String()); err == nil {
		conn.Close(ctx)
		t.Error("a wrong password is taken")
	}
	if err := s.Stop(ctx); err != nil {
		t.Fatal(err)
	}
	lasting, err := pgserver.Start(ctx, dir, true)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"fsync", "synchronous_commit", "full_page_writes"} {
		if got := shown(lasting.URL("postgres"), name); got != "on" {
			t.Errorf("%s is %s", name, got)
		}
	}
}

// TestBroughtBack kills the server: it is there again, without anybody's doing.
func TestBroughtBack(t *testing.T) {
	s, dir := cluster(t, "")
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.Supervise(ctx, slog.New(slog.DiscardHandler))
	}()
	defer func() { cancel(); <-done }()
	raw, err := os.ReadFile(filepath.Join(dir, "cluster", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	var pid int
	if _, err := fmt.Sscan(string(raw), &pid); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	limit := time.After(40 * time.Second)
	for syscall.Kill(pid, 0) == nil || !answers(s) {
		select {
		case <-limit:
			t.Fatal("it is not brought back")
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// TestNobodyElseConnects: no port is open, and the socket is behind a door that only
// its owner opens.
func TestNobodyElseConnects(t *testing.T) {
	_, dir := cluster(t, "")
	raw, err := os.ReadFile(filepath.Join(dir, "cluster", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(raw), "\n")
	if sockets, address := lines[4], strings.TrimSpace(lines[5]); sockets != filepath.Join(dir, "socket") || address != "" {
		t.Errorf("it listens on %q with its socket in %q", address, sockets)
	}
	if os.Geteuid() != 0 {
		return
	}
	try := exec.Command("/bin/ls", filepath.Join(dir, "socket"))
	try.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 200_001, Gid: 200_001}}
	if out, err := try.CombinedOutput(); err == nil {
		t.Errorf("an instance enters the directory of the socket: %s", out)
	}
}

// TestLongPath: the path of a socket is short, whatever that of the data is.
func TestLongPath(t *testing.T) {
	s, _ := cluster(t, strings.Repeat("a-long-directory-name/", 6))
	if !answers(s) {
		t.Error("it does not answer")
	}
	u, err := url.Parse(s.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	short := u.Query().Get("host")
	if _, err := os.Stat(short); err != nil || len(short) > 100 {
		t.Errorf("its socket is in %s (%v)", short, err)
	}
	if err := s.Leave(context.Background()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(short); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("once nobody uses it %s is left: %v", short, err)
	}
}

// TestShutDirectory says which directory is in the way, and what to do.
func TestShutDirectory(t *testing.T) {
	if os.Geteuid() != 0 {
		return // only root starts it as somebody else
	}
	dir, err := os.MkdirTemp("", "unitas-pg-") // that only root enters
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	_, err = pgserver.Start(context.Background(), filepath.Join(dir, "data", "postgresql"), false)
	if err == nil || !strings.Contains(err.Error(), "may not enter "+dir+";") || !strings.Contains(err.Error(), "chmod o+x "+dir) {
		t.Errorf("it says %v", err)
	}
}

// TestTheLastOneStopsIt: several services use one, from wherever each began.
func TestTheLastOneStopsIt(t *testing.T) {
	ctx := context.Background()
	first, dir := cluster(t, "")
	var others [3]*pgserver.Server
	var all sync.WaitGroup
	for i := range others {
		all.Go(func() {
			var err error
			if others[i], err = pgserver.Start(ctx, dir, false); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if t.Failed() {
		return
	}
	for _, s := range []*pgserver.Server{first, others[0], others[1]} {
		if err := s.Leave(ctx); err != nil {
			t.Fatal(err)
		}
		if !answers(others[2]) {
			t.Fatal("it was stopped while another uses it")
		}
	}
	if err := others[2].Leave(ctx); err != nil {
		t.Fatal(err)
	}
	if answers(others[2]) {
		t.Error("nobody uses it, and it answers")
	}
	again, err := pgserver.Start(ctx, dir, false)
	if err != nil || !answers(again) {
		t.Fatalf("it does not start again: %v", err)
	}
	if err := again.Leave(ctx); err != nil {
		t.Error(err)
	}
}
