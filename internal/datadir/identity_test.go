package datadir

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// TestACopyIsKnown: a directory keeps its identity wherever it is moved as it is, and whatever
// starts anew; a copy is refused until it is said to take the place of the one before.
func TestACopyIsKnown(t *testing.T) {
	base := t.TempDir()
	dir, copied := filepath.Join(base, "a"), filepath.Join(base, "b")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	ids := make([]string, 8)
	for k := range ids {
		all.Go(func() {
			var err error
			if ids[k], err = Identify(dir, false); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	for _, id := range ids {
		if id == "" || id != ids[0] {
			t.Fatalf("those that began at once see %q", ids)
		}
	}
	if raw, err := exec.Command("cp", "-a", dir, copied).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v", raw, err)
	}
	if _, err := Identify(copied, false); !errors.Is(err, ErrCopied) || !strings.Contains(err.Error(), "start with --moved") {
		t.Errorf("a copy: %v", err)
	}
	id, err := Identify(copied, true)
	if err != nil || id == ids[0] {
		t.Errorf("a copy that takes its place is %q, %v", id, err)
	}
	if again, err := Identify(copied, false); again != id || err != nil {
		t.Errorf("afterwards it is %q, %v", again, err)
	}
	if err := os.Rename(dir, filepath.Join(base, "c")); err != nil {
		t.Fatal(err)
	}
	if same, err := Identify(filepath.Join(base, "c"), false); same != ids[0] || err != nil {
		t.Errorf("renamed it is %q, %v", same, err)
	}
	if left, _ := filepath.Glob(filepath.Join(base, "c", "identity*")); len(left) != 1 {
		t.Errorf("left behind: %v", left)
	}
	was := identity{Inode: 7, Device: 1, Boot: "monday", Host: "pier"}
	for _, c := range []struct {
		here  identity
		other string
	}{
		{was, ""}, {identity{Inode: 7, Device: 2, Boot: "tuesday", Host: "pier"}, ""}, // devices are numbered anew at each boot
		{identity{Inode: 7, Device: 2, Boot: "monday", Host: "pier"}, "copied"}, {identity{Inode: 8, Device: 1, Boot: "monday", Host: "pier"}, "copied"},
		{identity{Inode: 7, Device: 1, Boot: "tuesday", Host: "quay"}, "another host"},
	} {
		if got := was.other(c.here); (got == "") != (c.other == "") || !strings.Contains(got, c.other) {
			t.Errorf("%+v is other by %q, want %q", c.here, got, c.other)
		}
	}
}
