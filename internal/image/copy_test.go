package image

import (
	"archive/tar"
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/opencontainers/go-digest"
)

// TestOnlyTheWholeCounts: what is there of a blob from before counts when all of it has the
// blob's digest, and is copied again when it does not.
func TestOnlyTheWholeCounts(t *testing.T) {
	from, _ := open(t)
	a := bring(t, from, pack(t, tar.Header{Name: "etc/sailings", Mode: 0o644, Typeflag: tar.TypeReg}))
	layer := a.Layers[0]
	copyTo := func(to *Store) error {
		in := to.Begin()
		defer in.Close()
		got, err := in.Copy(ctx, from, a.Digest, func(int64) {})
		if err == nil {
			in.Keep(got)
		}
		return err
	}
	whole := func(to *Store) bool {
		raw, err := os.ReadFile(to.path(layer.Digest))
		want, _ := os.ReadFile(from.path(layer.Digest))
		return err == nil && string(raw) == string(want)
	}

	to, dir := open(t)
	half := filepath.Join(dir, "copying-"+layer.Digest.Encoded())
	if err := os.WriteFile(half, []byte("another beginning"), 0o600); err != nil {
		t.Fatal(err)
	}
	var refused *Refused
	if err := copyTo(to); !errors.As(err, &refused) || !strings.Contains(err.Error(), "damaged on its way") {
		t.Errorf("a half that is another's was gone on with: %v", err)
	}
	if _, err := os.Stat(half); !errors.Is(err, os.ErrNotExist) || to.Has(a.Digest) {
		t.Errorf("after that the half is there (%v), or the artifact (%v)", err, to.Has(a.Digest))
	}
	if err := copyTo(to); err != nil || !whole(to) {
		t.Errorf("the next try: %v, whole %v", err, whole(to))
	}

	short, _ := open(t)
	if err := os.WriteFile(short.path(layer.Digest), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := copyTo(short); err != nil || !whole(short) {
		t.Errorf("half a layer in its place: %v, whole %v", err, whole(short))
	}
}

// TestNeededAtTheLastMoment: a blob that somebody needs after it was found to be unused stays.
func TestNeededAtTheLastMoment(t *testing.T) {
	s, _ := open(t)
	a := bring(t, s, pack(t))
	s.mu.Lock()
	s.doomed = map[digest.Digest]bool{a.Layers[0].Digest: true}
	s.mu.Unlock()
	in := s.Begin()
	defer in.Close()
	in.pin(a.Layers[0].Digest)
	if went, err := s.drop(a.Layers[0].Digest); went || err != nil {
		t.Errorf("it went: %v (%v)", went, err)
	}
	if _, err := os.Stat(s.path(a.Layers[0].Digest)); err != nil {
		t.Error(err)
	}
}

// TestCopyGoesOn breaks a copy off and starts it again: what was there is not
// copied a second time, and only the whole counts.
func TestCopyGoesOn(t *testing.T) {
	from, _ := open(t)
	a := bring(t, from, gzipped(t, func(w *tar.Writer) {
		noise := make([]byte, 3<<20)
		_, _ = rand.NewChaCha8([32]byte{}).Read(noise)
		for name, content := range map[string][]byte{ManifestName: []byte("start: [sh]\n"), "noise": noise} {
			_ = w.WriteHeader(&tar.Header{Name: name, Size: int64(len(content)), Mode: 0o644, Typeflag: tar.TypeReg})
			_, _ = w.Write(content)
		}
	}))
	to, dir := open(t)
	broken, cancel := context.WithCancel(ctx)
	in := to.Begin()
	if _, err := in.Copy(broken, from, a.Digest, func(done int64) {
		if done > 1<<20 {
			cancel()
		}
	}); !errors.Is(err, context.Canceled) {
		t.Fatalf("the copy was not broken off: %v", err)
	}
	in.Close()
	if to.Has(a.Digest) {
		t.Error("half a copy is there")
	}
	if _, err := Open(dir); err != nil { // a restart keeps the half
		t.Fatal(err)
	}
	first := int64(-1)
	in = to.Begin()
	defer in.Close()
	if _, err := in.Copy(ctx, from, a.Digest, func(done int64) {
		if first < 0 {
			first = done
		}
	}); err != nil {
		t.Fatal(err)
	}
	if first <= 1<<20 || !to.Has(a.Digest) {
		t.Errorf("it began again at %d bytes", first)
	}
}
