package datadir

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// host has the blocks of the test noted in a directory of its own.
func host(t *testing.T) {
	t.Helper()
	was := blocksDir
	blocksDir = filepath.Join(t.TempDir(), "blocks")
	t.Cleanup(func() { blocksDir = was })
}

func own(t *testing.T, dir string) Block {
	t.Helper()
	b, err := OwnBlock(dir)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestBlocksAreOwned(t *testing.T) {
	host(t)
	one, two := t.TempDir(), t.TempDir()
	first, second := own(t, one), own(t, two)
	if first == second {
		t.Fatalf("both own %d", first)
	}
	if again := own(t, one); again != first {
		t.Errorf("started again it owns %d, not %d", again, first)
	}
	seen := map[string]bool{}
	users := map[int]bool{}
	for _, b := range []Block{first, second, Blocks - 1} {
		for n := range int64(BlockSize) {
			seen[b.Address(64, n)], users[b.User(n)] = true, true
		}
		users[b.BakeUser()] = true
		if b.Address(64, 5) != b.Address(64, 5+BlockSize) {
			t.Error("numbers do not come round")
		}
	}
	if len(seen) != 3*BlockSize || len(users) != 3*BlockSize+3 {
		t.Errorf("three blocks have %d addresses and %d users", len(seen), len(users))
	}
	for a := range seen {
		if ip := net.ParseIP(a); ip == nil {
			t.Fatalf("%s is no address", a)
		}
	}
	if err := os.RemoveAll(one); err != nil {
		t.Fatal(err)
	}
	if third := own(t, t.TempDir()); third != first {
		t.Errorf("the block of a directory that is gone stays taken: the next owns %d, not %d", third, first)
	}
}

// TestABlockInUseIsNotOwned: somebody listens on its addresses who noted nothing.
func TestABlockInUseIsNotOwned(t *testing.T) {
	host(t)
	free := own(t, t.TempDir())
	l, err := net.Listen("tcp", (free+1).Address(77, 3)+":0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if next := own(t, t.TempDir()); next == free+1 {
		t.Error("it owns addresses that another listens on")
	}
}

func TestAllBlocksTaken(t *testing.T) {
	host(t)
	var dirs []string
	for {
		dir := filepath.Join(t.TempDir(), fmt.Sprint(len(dirs)))
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		_, err := OwnBlock(dir)
		if err == nil {
			dirs = append(dirs, dir)
			continue
		}
		if len(dirs) > Blocks || !strings.Contains(err.Error(), dirs[0]) || !strings.Contains(err.Error(), "remove data directories") {
			t.Errorf("after %d it says %v", len(dirs), err)
		}
		return
	}
}
