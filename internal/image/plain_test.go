package image

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"unitas/internal/datadir"
)

// TestALayerIsUncompressedOnce: what a machine is made from again is read as it is kept; what is kept so
// goes with its blob, and first of all when there is no room.
func TestALayerIsUncompressedOnce(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	archive, err := os.ReadFile(sample(t, 1<<20))
	if err != nil {
		t.Fatal(err)
	}
	in := s.Begin()
	defer in.Close()
	a, err := in.Import(context.Background(), bytes.NewReader(archive))
	if err != nil {
		t.Fatal(err)
	}
	in.Keep(a)
	used := func(context.Context) ([]string, error) { return []string{a.Digest}, nil }
	unpack := func() error {
		dir := t.TempDir()
		err := s.Unpack(a.Digest, dir, -1, 0)
		if info, statErr := os.Stat(filepath.Join(dir, "content")); err == nil && (statErr != nil || info.Size() != 1<<20) {
			t.Errorf("what was unpacked is %v: %v", info, statErr)
		}
		return err
	}
	kept := func() int {
		names, _ := filepath.Glob(filepath.Join(s.dir, "plain-*.tar"))
		return len(names)
	}
	sweep := func() {
		t.Helper()
		if _, err := s.Sweep(context.Background(), 0, used); err != nil {
			t.Fatal(err)
		}
	}
	if err := unpack(); err != nil || kept() != len(a.Layers) {
		t.Fatalf("%d layers are kept: %v", kept(), err)
	}
	layer := s.path(a.Layers[0].Digest)
	away := filepath.Join(s.dir, "away")
	if err := os.Rename(layer, away); err != nil {
		t.Fatal(err)
	}
	if err := unpack(); err != nil {
		t.Errorf("it was read from the blob again: %v", err)
	}
	if sweep(); kept() != 0 {
		t.Error("it outlived its blob")
	}
	if err := unpack(); err == nil {
		t.Error("it is made from nothing")
	}
	if err := os.Rename(away, layer); err != nil {
		t.Fatal(err)
	}
	if err := unpack(); err != nil || kept() != len(a.Layers) {
		t.Fatalf("%d layers are kept: %v", kept(), err)
	}
	if sweep(); kept() != len(a.Layers) {
		t.Error("it went without need")
	}
	s.Space = datadir.NewSpace(s.dir, 1<<62)
	if sweep(); kept() != 0 {
		t.Error("it is kept though there is no room")
	}
	if err := unpack(); err != nil || kept() != 0 {
		t.Errorf("without room it is read from the blob: %v, %d kept", err, kept())
	}
}
