package datadir

import (
	"errors"
	"path/filepath"
	"syscall"
	"testing"
)

// TestGivenBackThoughAChildHasItOpen: between its fork and its next program a child has
// every file open that its parent has.
func TestGivenBackThoughAChildHasItOpen(t *testing.T) {
	name := filepath.Join(t.TempDir(), "lock")
	held, err := TryLock(name, syscall.LOCK_EX)
	if err != nil {
		t.Fatal(err)
	}
	child, err := syscall.Dup(int(held.file.Fd()))
	if err != nil {
		t.Fatal(err)
	}
	defer syscall.Close(child)
	if _, err := TryLock(name, syscall.LOCK_SH); !errors.Is(err, ErrHeld) {
		t.Errorf("while it is held: %v", err)
	}
	if err := held.Close(); err != nil {
		t.Error(err)
	}
	again, err := TryLock(name, syscall.LOCK_EX)
	if err != nil {
		t.Fatalf("after it was given back: %v", err)
	}
	again.Close()
}
