package image

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const manifest = "start: [./timetable]\n"

var workload = tar.Header{Name: "timetable", Mode: 0o755, Typeflag: tar.TypeReg}

// pack makes an archive of the good entries and then those given.
func pack(t *testing.T, entries ...tar.Header) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	write := func(h tar.Header, content string) {
		if h.Typeflag == tar.TypeReg {
			h.Size = int64(len(content))
		}
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, content); err != nil && h.Size > 0 {
			t.Fatal(err)
		}
	}
	write(tar.Header{Name: ManifestName, Mode: 0o644, Typeflag: tar.TypeReg}, manifest)
	write(workload, "#!/bin/sh\n")
	for _, h := range entries {
		content := ""
		if h.Typeflag == tar.TypeReg {
			content = "x"
		}
		write(h, content)
	}
	if err := errors.Join(w.Close(), z.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func open(t *testing.T) (*Store, string) {
	t.Helper()
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return s, dir
}

func TestPutAndUnpack(t *testing.T) {
	s, dir := open(t)
	raw := pack(t, tar.Header{Name: "etc/", Mode: 0o755, Typeflag: tar.TypeDir}, tar.Header{Name: "etc/sailings", Mode: 0o600, Typeflag: tar.TypeReg},
		tar.Header{Name: "latest", Linkname: "etc/sailings", Typeflag: tar.TypeSymlink}, tar.Header{Name: "same", Linkname: "etc/sailings", Typeflag: tar.TypeLink})
	a, err := s.Put(context.Background(), bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	again, err := s.Put(context.Background(), bytes.NewReader(raw))
	if err != nil || again.Digest != a.Digest {
		t.Fatalf("the same bytes are %s and then %s: %v", a.Digest, again.Digest, err)
	}
	if stored, _ := os.ReadDir(filepath.Join(dir, "sha256")); len(stored) != 1 {
		t.Errorf("equal archives are stored %d times", len(stored))
	}
	if a.Size != int64(len(raw)) || len(a.Manifest.Start) != 1 || a.Manifest.Start[0] != "./timetable" {
		t.Errorf("the artifact is %+v", a)
	}
	root := t.TempDir()
	if err := s.Unpack(a.Digest, root, -1); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"etc/sailings", "latest", "same"} {
		if got, err := os.ReadFile(filepath.Join(root, name)); err != nil || string(got) != "x" {
			t.Errorf("%s holds %q: %v", name, got, err)
		}
	}
	if info, _ := os.Stat(filepath.Join(root, "timetable")); info.Mode().Perm()&0o111 == 0 {
		t.Error("the workload is not executable")
	}
}

func TestArchivesThatAreRefused(t *testing.T) {
	good := pack(t)
	damaged := bytes.Clone(good)
	damaged[len(damaged)-6] ^= 0xff
	empty := func(manifest string) []byte {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		w := tar.NewWriter(z)
		_ = w.WriteHeader(&tar.Header{Name: ManifestName, Size: int64(len(manifest)), Typeflag: tar.TypeReg})
		_, _ = io.WriteString(w, manifest)
		_, _ = w.Close(), z.Close()
		return b.Bytes()
	}
	entry := func(h tar.Header) []byte { return pack(t, h) }
	for _, c := range []struct {
		name, says string
		archive    []byte
	}{
		{"no archive at all", "not a gzip-compressed tar archive", []byte("hello")},
		{"cut off", "cut off", good[:len(good)-20]},
		{"damaged", "damaged", damaged},
		{"an absolute path", `"/etc/passwd" has an absolute path`, entry(tar.Header{Name: "/etc/passwd", Typeflag: tar.TypeReg})},
		{"out of the directory", `"../../x" would leave`, entry(tar.Header{Name: "../../x", Typeflag: tar.TypeReg})},
		{"out by a detour", `"a/../../x" would leave`, entry(tar.Header{Name: "a/../../x", Typeflag: tar.TypeReg})},
		{"a link out", "links to", entry(tar.Header{Name: "l", Linkname: "../x", Typeflag: tar.TypeSymlink})},
		{"an absolute link", "links to", entry(tar.Header{Name: "l", Linkname: "/etc/passwd", Typeflag: tar.TypeSymlink})},
		{"a hard link out", "links to", entry(tar.Header{Name: "l", Linkname: "../x", Typeflag: tar.TypeLink})},
		{"a device", "is a device", entry(tar.Header{Name: "d", Typeflag: tar.TypeBlock})},
		{"twice", "twice", entry(workload)},
		{"no manifest", "has no unitas.yaml", func() []byte {
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			w := tar.NewWriter(z)
			_, _ = w.Close(), z.Close()
			return b.Bytes()
		}()},
		{"a manifest with an unknown field", "unknown field", empty("begin: [x]\n")},
		{"a manifest that starts nothing", "does not say what to start", empty("start: []\n")},
		{"a manifest that starts what is not there", "not in the archive", empty("start: [./nope]\n")},
	} {
		s, dir := open(t)
		_, err := s.Put(context.Background(), bytes.NewReader(c.archive))
		var refused *Refused
		if !errors.As(err, &refused) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want a refusal that says %q", c.name, err, c.says)
		}
		left := 0
		_ = filepath.WalkDir(dir, func(_ string, e os.DirEntry, _ error) error {
			if !e.IsDir() {
				left++
			}
			return nil
		})
		if left > 0 {
			t.Errorf("%s: %d files are left behind", c.name, left)
		}
	}
}

// TestLinksCannotLeadOut unpacks through a link that an earlier entry made:
// the root confines it whatever the entries say.
func TestLinksCannotLeadOut(t *testing.T) {
	outside := t.TempDir()
	dir := t.TempDir()
	if err := os.Symlink(outside, filepath.Join(dir, "way")); err != nil {
		t.Fatal(err)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	if err := unpack(bytes.NewReader(pack(t, tar.Header{Name: "way/x", Typeflag: tar.TypeReg})), root, -1); err == nil {
		t.Error("an entry was written through a link that leads out")
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Error("something was written outside")
	}
}

func TestOpenClearsBrokenImports(t *testing.T) {
	_, dir := open(t)
	half := filepath.Join(dir, "incoming-123")
	if err := os.WriteFile(half, []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(half); !os.IsNotExist(err) {
		t.Error("a half import is still there")
	}
}

func FuzzInspect(f *testing.F) {
	f.Add([]byte("hello"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		_, _ = z.Write(raw)
		_ = z.Close()
		if m, err := inspect(&b); err == nil && len(m.Start) == 0 {
			t.Error("an archive that starts nothing was taken")
		}
	})
}
