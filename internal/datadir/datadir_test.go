package datadir

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

func TestEnterable(t *testing.T) {
	dir, err := os.MkdirTemp("/tmp", "unitas-enterable-") // what TMPDIR names may be private
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	inner := filepath.Join(dir, "a", "b")
	if err := os.MkdirAll(inner, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := Enterable(filepath.Join(inner, "not", "there"), "machines run as others"); err != nil {
		t.Error(err)
	}
	shut := filepath.Join(dir, "a")
	if err := os.Chmod(shut, 0o700); err != nil {
		t.Fatal(err)
	}
	err = Enterable(inner, "machines run as others")
	if err == nil || !strings.Contains(err.Error(), "may not enter "+shut+";") || !strings.Contains(err.Error(), "chmod o+x "+shut) {
		t.Errorf("it says %v", err)
	}
}

func TestWriteFile(t *testing.T) {
	name := filepath.Join(t.TempDir(), "machine.json")
	for _, content := range []string{"one", "another"} {
		if err := WriteFile(name, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		if raw, err := os.ReadFile(name); err != nil || string(raw) != content {
			t.Errorf("it holds %q: %v", raw, err)
		}
	}
	if entries, _ := os.ReadDir(filepath.Dir(name)); len(entries) != 1 {
		t.Errorf("there are %v", entries)
	}
	if err := WriteFile(filepath.Join(name, "below"), nil, 0o600); err == nil {
		t.Error("a file below a file was written")
	}
}

func TestSpace(t *testing.T) {
	dir := t.TempDir()
	var none *Space
	if err := none.Room(); err != nil {
		t.Error(err)
	}
	if err := NewSpace(dir, 1).Room(); err != nil {
		t.Error(err)
	}
	err := NewSpace(dir, 1<<62).Room()
	var full *Full
	if !errors.As(err, &full) || !errors.Is(err, syscall.ENOSPC) || strings.Contains(err.Error(), dir) {
		t.Errorf("it says %v", err)
	}
}
