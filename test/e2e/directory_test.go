package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"unitas/internal/machine/process"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/porttest"
)

// refusesToStart starts another service on the database and returns what it says; it must end by
// itself.
func (s *service) refusesToStart(dir string, flags ...string) string {
	s.t.Helper()
	args := append([]string{"serve", "--listen", porttest.Free(s.t), "--data", dir, "--database", s.database, "--places", filepath.Join(s.dir, "places.yaml")}, flags...)
	cmd := exec.CommandContext(s.t.Context(), filepath.Join(bin, "unitas"), args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	raw, err := cmd.CombinedOutput()
	if err == nil {
		s.t.Errorf("unitas serve --data %s %s ended well", dir, strings.Join(flags, " "))
	}
	return string(raw)
}

// TestAnotherDirectory: a service with the database of another, or with a copy of its directory, is
// refused at its start in words and harms nobody; one that takes the place of another that is gone
// touches none of its machines.
func TestAnotherDirectory(t *testing.T) {
	t.Parallel()
	s := startOn(t, pgtest.Database(t))
	s.stock()
	s.group(4)
	machines := s.machines()
	base, err := os.MkdirTemp("", "unitas-other-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(base, 0o755); err != nil {
		t.Fatal(err)
	}
	copied := filepath.Join(base, "copied")
	t.Cleanup(func() {
		process.EndAll(filepath.Join(copied, "machines"))
		os.RemoveAll(base)
	})
	if out := s.refusesToStart(filepath.Join(base, "empty")); !strings.Contains(out, "the machines of this database are in the data directory "+s.dir) {
		t.Errorf("with an empty directory it says %s", out)
	}
	if raw, err := exec.Command("cp", "-a", s.dir, copied).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v", raw, err)
	}
	if out := s.refusesToStart(copied); !strings.Contains(out, "it is a copy") || !strings.Contains(out, "--moved") {
		t.Errorf("with a copy it says %s", out)
	}
	if out := s.refusesToStart(copied, "--moved"); !strings.Contains(out, "is up, and has the machines of this database") {
		t.Errorf("with a copy that is said to take its place it says %s", out)
	}
	s.whole(4)
	if now := s.machines(); !slices.Equal(now, machines) {
		t.Errorf("the machines are %v, and were %v", now, machines)
	}
	if lost := s.journal("instance.lost"); len(lost) > 0 {
		t.Errorf("lost: %+v", lost)
	}
	s.stop(syscall.SIGTERM)
	heir := *s
	heir.dir, heir.flags, heir.cmd = copied, []string{"--moved"}, nil
	heir.up()
	defer heir.stop(syscall.SIGTERM)
	heir.eventually("it has machines of its own", func() error {
		if n := len(heir.machines()); n != 4 {
			return fmt.Errorf("there are %d", n)
		}
		return nil
	})
	heir.whole(4)
	if now := s.machines(); !slices.Equal(now, machines) {
		t.Errorf("the machines of the one before are %v, and were %v", now, machines)
	}
	if out := s.refusesToStart(s.dir); !strings.Contains(out, "are in the data directory "+copied) {
		t.Errorf("the one before says %s", out)
	}
}
