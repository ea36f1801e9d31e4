package image

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestWhatCameInBefore goes on being laid out, whatever is refused of what comes in now.
func TestWhatCameInBefore(t *testing.T) {
	h := &tar.Header{Name: "night\x1b[2J", Mode: 0o644, Typeflag: tar.TypeReg}
	if why := harm(h.Name, h); why != "" {
		t.Errorf("it is not laid out: it %s", why)
	}
	if err := newTree(false).layer()(h.Name, h, strings.NewReader("")); err != nil {
		t.Errorf("it is not read: %v", err)
	}
	strict := newTree(false)
	strict.comesIn = true
	if err := strict.layer()(h.Name, h, strings.NewReader("")); err == nil {
		t.Error("it comes in")
	}
}

// TestDeriveIsNotHeldUp by files of a workload: one that became a pipe or went while it was read is
// left out, one that holds nothing takes no room, one that is too long is refused by its size, and
// it stops when its context does.
func TestDeriveIsNotHeldUp(t *testing.T) {
	s, _ := open(t)
	parent := bring(t, s, pack(t, tar.Header{Name: "sailings", Mode: 0o755, Typeflag: tar.TypeReg}))
	derive := func(ctx context.Context, change func(dir string) error) (Artifact, error) {
		t.Helper()
		dir := t.TempDir()
		if err := errors.Join(s.Unpack(parent.Digest, dir, -1, 0), change(dir)); err != nil {
			t.Fatal(err)
		}
		in := s.Begin()
		defer in.Close()
		return in.Derive(ctx, parent, dir, SkipNothing, []string{"./sailings"}, nil)
	}
	sparse := func(bytes int64) func(dir string) error {
		return func(dir string) error {
			return errors.Join(os.WriteFile(dir+"/hole", []byte("begins"), 0o644), os.Truncate(dir+"/hole", bytes))
		}
	}
	if _, err := derive(ctx, func(dir string) error { return syscall.Mkfifo(dir+"/pipe", 0o600) }); err != nil {
		t.Errorf("with a pipe: %v", err)
	}
	if _, err := derive(ctx, sparse(DefaultLimits.Unpacked+1)); err == nil || !strings.Contains(err.Error(), `entry "hole" brings the files over the 8 GiB`) {
		t.Errorf("with a file that is too long: %v", err)
	}
	a, err := derive(ctx, sparse(40<<20))
	if err != nil {
		t.Fatal(err)
	}
	if size := a.Layers[len(a.Layers)-1].Size; size > 1<<20 {
		t.Errorf("a hole of 40 MiB takes %d bytes", size)
	}
	over, stop := context.WithCancel(ctx)
	stop()
	if _, err := derive(over, sparse(4<<30)); !errors.Is(err, context.Canceled) {
		t.Errorf("told to stop: %v", err)
	}
	root, err := os.OpenRoot(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	spool, err := os.CreateTemp(t.TempDir(), "")
	if err != nil {
		t.Fatal(err)
	}
	defer spool.Close()
	if err := syscall.Mkfifo(filepath.Join(root.Name(), "became"), 0o600); err != nil {
		t.Fatal(err)
	}
	w := &layerWriter{root: root, spool: spool, limits: DefaultLimits}
	if _, _, err := w.read(ctx, "became"); !errors.Is(err, errGone) { // a file a moment ago
		t.Errorf("what became a pipe: %v", err)
	}
	content := append(make([]byte, 70<<10), "the night boat"...)
	if err := root.WriteFile("night", content, 0o600); err != nil {
		t.Fatal(err)
	}
	if size, sum, err := w.read(ctx, "night"); size != int64(len(content)) || sum != sha256.Sum256(content) || err != nil {
		t.Errorf("zeros and text: %d bytes, %v", size, err)
	}
	if kept, err := os.ReadFile(spool.Name()); !bytes.Equal(kept, content) {
		t.Errorf("the spool holds %d bytes (%v)", len(kept), err)
	}
}
