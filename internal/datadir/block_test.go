package datadir

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// host has the blocks of the test noted in a directory of its own.
func host(t *testing.T) {
	t.Helper()
	was, former := blocksDir, formerBlocks
	blocksDir = filepath.Join(t.TempDir(), "blocks")
	formerBlocks = blocksDir
	t.Cleanup(func() { blocksDir, formerBlocks = was, former })
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

// TestTheReleaseBeforeTakesABlock at the same moment, under another lock: what it wrote of late counts
// though its directory does not say so yet, and what it writes over ours has us take another.
func TestTheReleaseBeforeTakesABlock(t *testing.T) {
	host(t)
	blocksDir = filepath.Join(t.TempDir(), "of-root")
	if err := os.MkdirAll(formerBlocks, 0o777); err != nil {
		t.Fatal(err)
	}
	other := t.TempDir()
	if err := os.WriteFile(filepath.Join(formerBlocks, "0"), []byte(other+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if b := own(t, t.TempDir()); b == 0 {
		t.Error("a block that was noted a moment ago is taken")
	}
	dir, noted := t.TempDir(), make(chan string, 1)
	ended := make(chan struct{})
	go func() { // it looked before ours was noted
		defer close(noted)
		for {
			select {
			case <-ended:
				return
			case <-time.After(time.Millisecond):
			}
			names, _ := filepath.Glob(filepath.Join(formerBlocks, "[0-9]*"))
			for _, name := range names {
				if raw, err := os.ReadFile(name); err == nil && strings.TrimSpace(string(raw)) == dir {
					_ = os.WriteFile(name, []byte(other+"\n"), 0o644)
					noted <- filepath.Base(name)
					return
				}
			}
		}
	}()
	b := own(t, dir)
	close(ended)
	if was := <-noted; was == fmt.Sprint(int(b)) || was == "" {
		t.Errorf("it owns %d, and another wrote over %q", b, was)
	}
}

// TestNobodyElseHoldsBlocks: where the service is root, what stands where anybody may write is
// honoured, its lock never waited for, and nothing there is followed; a directory that owns a block
// waits for nobody at all.
func TestNobodyElseHoldsBlocks(t *testing.T) {
	host(t)
	first, second := t.TempDir(), t.TempDir()
	taken := own(t, first) // as a release before this one noted it
	blocksDir = filepath.Join(t.TempDir(), "of-root")
	held, err := TryLock(filepath.Join(formerBlocks, "lock"), syscall.LOCK_EX)
	if err != nil {
		t.Fatal(err)
	}
	defer held.Close()
	if next := own(t, second); next == taken {
		t.Errorf("the block %d of another directory is taken", next)
	}
	if again := own(t, first); again != taken || ownerIn(blocksDir, taken) != first {
		t.Errorf("it owned %d, and owns %d", taken, again)
	}
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	for n := range Blocks {
		name := filepath.Join(formerBlocks, fmt.Sprint(n))
		_ = os.Remove(name)
		if err := os.Symlink(secret, name); err != nil {
			t.Fatal(err)
		}
	}
	own(t, t.TempDir())
	if raw, err := os.ReadFile(secret); string(raw) != "secret" {
		t.Errorf("a file of another's is %q, %v", raw, err)
	}
	mine, err := TryLock(filepath.Join(blocksDir, "lock"), syscall.LOCK_EX)
	if err != nil {
		t.Fatal(err)
	}
	defer mine.Close()
	if again := own(t, second); ownerIn(blocksDir, again) != second {
		t.Errorf("it owns %d", again)
	}
}
