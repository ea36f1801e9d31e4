package image

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
)

// TestStoresShareADirectory: while one service takes an image in, another one on the same
// directory neither sweeps nor clears what is there, when it is started or later.
func TestStoresShareADirectory(t *testing.T) {
	dir := t.TempDir()
	open := func() *Store {
		s, err := Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	one, two := open(), open()
	nothing := func(context.Context) ([]string, error) { return nil, nil }
	blobs := func() int {
		names, err := filepath.Glob(filepath.Join(dir, "blobs", "sha256", "*"))
		if err != nil {
			t.Fatal(err)
		}
		return len(names)
	}
	in := one.Begin()
	a, err := in.Import(context.Background(), bytes.NewReader(pack(t)))
	if err != nil {
		t.Fatal(err)
	}
	there := blobs()
	half := filepath.Join(dir, "incoming-1")
	if err := os.WriteFile(half, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	third := open()
	for _, s := range []*Store{two, third} {
		if freed, err := s.Sweep(context.Background(), 0, nothing); freed != 0 || err != nil || blobs() != there {
			t.Errorf("another service swept %d bytes: %v", freed, err)
		}
	}
	if _, err := os.Stat(half); err != nil {
		t.Errorf("a service that is started cleared what another one takes in: %v", err)
	}
	in.Keep(a)
	in.Close()
	if freed, err := two.Sweep(context.Background(), 0, nothing); freed == 0 || err != nil || blobs() != 0 {
		t.Errorf("after it %d bytes were swept, and %d blobs are left: %v", freed, blobs(), err)
	}
	open()
	if _, err := os.Stat(half); err == nil {
		t.Error("halves are left for ever")
	}
}
