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
	"slices"
	"strings"
	"testing"
	"testing/iotest"
)

var ctx = context.Background()

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

// bring imports and keeps an archive.
func bring(t *testing.T, s *Store, raw []byte) Artifact {
	t.Helper()
	in := s.Begin()
	defer in.Close()
	a, err := in.Import(ctx, bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	in.Keep(a)
	return a
}

// blobs are the files of a store besides its marker and index.
func blobs(t *testing.T, dir string) []string {
	t.Helper()
	var found []string
	_ = filepath.WalkDir(dir, func(p string, e os.DirEntry, _ error) error {
		if name := e.Name(); !e.IsDir() && name != "oci-layout" && name != "index.json" {
			found = append(found, p)
		}
		return nil
	})
	return found
}

func TestImportAndUnpack(t *testing.T) {
	s, dir := open(t)
	raw := pack(t, tar.Header{Name: "etc/", Mode: 0o755, Typeflag: tar.TypeDir}, tar.Header{Name: "etc/sailings", Mode: 0o600, Typeflag: tar.TypeReg},
		tar.Header{Name: "latest", Linkname: "etc/sailings", Typeflag: tar.TypeSymlink}, tar.Header{Name: "same", Linkname: "etc/sailings", Typeflag: tar.TypeLink})
	a := bring(t, s, raw)
	if again := bring(t, s, raw); again.Digest != a.Digest {
		t.Fatalf("the same bytes are %s and then %s", a.Digest, again.Digest)
	}
	if stored := blobs(t, dir); len(stored) != 3 {
		t.Errorf("equal archives are stored as %v", stored)
	}
	if len(a.Start) != 1 || a.Start[0] != "./timetable" || !s.Has(a.Digest) {
		t.Errorf("the artifact is %+v", a)
	}
	root := t.TempDir()
	if err := s.Unpack(a.Digest, root, -1, 0); err != nil {
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

func gzipped(t *testing.T, write func(w *tar.Writer)) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	write(w)
	_, _ = w.Close(), z.Close()
	return b.Bytes()
}

func TestArchivesThatAreRefused(t *testing.T) {
	good := pack(t)
	damaged := bytes.Clone(good)
	damaged[len(damaged)-6] ^= 0xff
	saying := func(manifest string) []byte {
		return gzipped(t, func(w *tar.Writer) {
			_ = w.WriteHeader(&tar.Header{Name: ManifestName, Size: int64(len(manifest)), Typeflag: tar.TypeReg})
			_, _ = io.WriteString(w, manifest)
		})
	}
	zeros := func(n int64) []byte {
		return gzipped(t, func(w *tar.Writer) {
			_ = w.WriteHeader(&tar.Header{Name: "zeros", Size: n, Typeflag: tar.TypeReg})
			_, _ = io.CopyN(w, zero{}, n)
		})
	}
	entry := func(h tar.Header) []byte { return pack(t, h) }
	for _, c := range []struct {
		name, says string
		archive    []byte
	}{
		{"no archive at all", "neither a gzip-compressed tar archive", []byte("hello")},
		{"nothing", "neither a gzip-compressed tar archive", nil},
		{"cut off", "cut off", good[:len(good)-20]},
		{"damaged", "damaged", damaged},
		{"an absolute path", `"/etc/passwd" has an absolute path`, entry(tar.Header{Name: "/etc/passwd", Typeflag: tar.TypeReg})},
		{"out of the directory", `"../../x" would leave`, entry(tar.Header{Name: "../../x", Typeflag: tar.TypeReg})},
		{"out by a detour", `"a/../../x" would leave`, entry(tar.Header{Name: "a/../../x", Typeflag: tar.TypeReg})},
		{"a link out", "links to", entry(tar.Header{Name: "l", Linkname: "../x", Typeflag: tar.TypeSymlink})},
		{"an absolute link", "links to", entry(tar.Header{Name: "l", Linkname: "/etc/passwd", Typeflag: tar.TypeSymlink})},
		{"a hard link out", "links to", entry(tar.Header{Name: "l", Linkname: "../x", Typeflag: tar.TypeLink})},
		{"a hard link to nothing", "does not come before it", entry(tar.Header{Name: "l", Linkname: "later", Typeflag: tar.TypeLink})},
		{"below a file", `lies below "timetable", which is a file`, entry(tar.Header{Name: "timetable/x", Typeflag: tar.TypeReg})},
		{"through a circle", "lead in a circle", pack(t, tar.Header{Name: "a", Linkname: "b", Typeflag: tar.TypeSymlink}, tar.Header{Name: "b", Linkname: "a", Typeflag: tar.TypeSymlink}, tar.Header{Name: "a/x", Typeflag: tar.TypeReg})},
		{"through a link to nothing", "a link to what is not there", pack(t, tar.Header{Name: "a", Linkname: "b", Typeflag: tar.TypeSymlink}, tar.Header{Name: "a/x", Typeflag: tar.TypeReg})},
		{"through a link to a file", "which is a file", pack(t, tar.Header{Name: "a", Linkname: "timetable", Typeflag: tar.TypeSymlink}, tar.Header{Name: "a/x", Typeflag: tar.TypeReg})},
		{"a long name", "has a name of 300 bytes", entry(tar.Header{Name: strings.Repeat("n", 300), Typeflag: tar.TypeReg})},
		{"a long path", "has a path of 5000 bytes", entry(tar.Header{Name: strings.Repeat("n/", 2500)[:4999] + "n", Typeflag: tar.TypeReg})},
		{"a name that acts", "control character", entry(tar.Header{Name: "a\x1b[2J", Typeflag: tar.TypeReg})},
		{"a link that acts", "control character", entry(tar.Header{Name: "a", Linkname: "b\x07", Typeflag: tar.TypeSymlink})},
		{"a device", "is a device", entry(tar.Header{Name: "d", Typeflag: tar.TypeBlock})},
		{"twice", "twice", entry(workload)},
		{"a bomb", "more than 200 times its size", zeros(80 << 20)},
		{"too much", `"much" makes the archive unpack to more than 8 GiB`, gzipped(t, func(w *tar.Writer) {
			_ = w.WriteHeader(&tar.Header{Name: "much", Size: 9 << 30, Typeflag: tar.TypeReg})
		})},
		{"no manifest", "has no unitas.yaml", gzipped(t, func(*tar.Writer) {})},
		{"a manifest with an unknown field", "unknown field", saying("begin: [x]\n")},
		{"a manifest that starts nothing", "does not say what to start", saying("start: []\n")},
		{"a manifest that starts what is not there", "not in the archive", saying("start: [./nope]\n")},
		{"a plain tar", "no OCI image layout", func() []byte {
			var b bytes.Buffer
			w := tar.NewWriter(&b)
			_ = w.WriteHeader(&tar.Header{Name: "x", Typeflag: tar.TypeReg})
			_ = w.Close()
			return b.Bytes()
		}()},
	} {
		s, dir := open(t)
		in := s.Begin()
		_, err := in.Import(ctx, bytes.NewReader(c.archive))
		in.Close()
		var refused *Refused
		if !errors.As(err, &refused) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want a refusal that says %q", c.name, err, c.says)
		}
		if left := blobs(t, dir); len(left) > 0 {
			t.Errorf("%s: left behind: %v", c.name, left)
		}
	}
}

type zero struct{}

func (zero) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// TestBrokenOffImport ends the upload in the middle, and in the middle of what
// an equal one brought: nothing is left of the first, all of the other.
func TestBrokenOffImport(t *testing.T) {
	s, dir := open(t)
	raw := pack(t)
	in := s.Begin()
	if _, err := in.Import(ctx, io.MultiReader(bytes.NewReader(raw[:len(raw)/2]), iotest.ErrReader(io.ErrUnexpectedEOF))); err == nil {
		t.Error("half an upload was taken")
	}
	in.Close()
	if left := blobs(t, dir); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	first, second := s.Begin(), s.Begin()
	a, err := first.Import(ctx, bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := second.Import(ctx, bytes.NewReader(raw)); err != nil {
		t.Fatal(err)
	}
	second.Keep(a)
	second.Close()
	first.Close() // not kept, but the other one's
	if !s.Has(a.Digest) {
		t.Error("what one intake kept went with the other that did not")
	}
}

// TestExportImportsAgain takes an image to another store and back.
func TestExportImportsAgain(t *testing.T) {
	s, _ := open(t)
	a := bring(t, s, pack(t, tar.Header{Name: "etc/sailings", Mode: 0o644, Typeflag: tar.TypeReg}))
	var layout bytes.Buffer
	if err := s.Export(ctx, &layout, a.Digest, "timetable@1"); err != nil {
		t.Fatal(err)
	}
	other, _ := open(t)
	if b := bring(t, other, layout.Bytes()); b.Digest != a.Digest || b.Size != a.Size || !slices.Equal(b.Start, a.Start) {
		t.Errorf("%+v came back as %+v", a, b)
	}
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, _ = z.Write(layout.Bytes())
	_ = z.Close()
	third, _ := open(t)
	if b := bring(t, third, zipped.Bytes()); b.Digest != a.Digest {
		t.Errorf("compressed, %s came back as %s", a.Digest, b.Digest)
	}
	// Every blob of a layout is held against its digest.
	damaged := 0
	for r := tar.NewReader(bytes.NewReader(layout.Bytes())); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		content, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasPrefix(h.Name, "blobs/") || len(content) == 0 {
			continue
		}
		damaged++
		bad := bytes.Clone(layout.Bytes())
		bad[bytes.Index(bad, content)+len(content)/2] ^= 1
		fourth, dir := open(t)
		in := fourth.Begin()
		var refused *Refused
		if b, err := in.Import(ctx, bytes.NewReader(bad)); !errors.As(err, &refused) || !strings.Contains(err.Error(), "damaged") {
			t.Errorf("with a bit of %s turned it was taken as %s: %v", h.Name, b.Digest, err)
		}
		in.Close()
		if left := blobs(t, dir); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	}
	if damaged != 3 {
		t.Errorf("%d blobs were damaged, not a manifest, a config and a layer", damaged)
	}
}

// TestDerive makes a version from files: the same files give the same digest,
// and what was changed, added and removed is so after unpacking.
func TestDerive(t *testing.T) {
	s, _ := open(t)
	parent := bring(t, s, pack(t, tar.Header{Name: "etc/", Mode: 0o755, Typeflag: tar.TypeDir}, tar.Header{Name: "etc/old", Mode: 0o644, Typeflag: tar.TypeReg},
		tar.Header{Name: "etc/kept", Mode: 0o644, Typeflag: tar.TypeReg}, tar.Header{Name: "var/log/a", Mode: 0o644, Typeflag: tar.TypeReg}))
	derive := func() Artifact {
		dir := t.TempDir()
		if err := s.Unpack(parent.Digest, dir, -1, 0); err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(os.Remove(dir+"/etc/old"), os.WriteFile(dir+"/etc/kept", []byte("changed"), 0o644),
			os.WriteFile(dir+"/new", []byte("new"), 0o755), os.Symlink("new", dir+"/link"), os.RemoveAll(dir+"/var/log"),
			os.WriteFile(dir+"/trace.log", []byte(dir), 0o644)); err != nil {
			t.Fatal(err)
		}
		in := s.Begin()
		defer in.Close()
		a, err := in.Derive(ctx, parent, dir, OwnOfInstance, []string{"./new"}, map[string]string{"service": "timetable"})
		if err != nil {
			t.Fatal(err)
		}
		in.Keep(a)
		return a
	}
	a, b := derive(), derive()
	if a.Digest != b.Digest {
		t.Errorf("the same files are %s and %s", a.Digest, b.Digest)
	}
	if len(a.Layers) != 2 || a.Layers[0].Digest != parent.Layers[0].Digest || a.Labels["service"] != "timetable" || a.Start[0] != "./new" {
		t.Errorf("the artifact is %+v", a)
	}
	root := t.TempDir()
	if err := s.Unpack(a.Digest, root, -1, 0); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"etc/kept": "changed", "new": "new", "link": "new", "var/log/a": "x"} {
		if got, _ := os.ReadFile(filepath.Join(root, name)); string(got) != want {
			t.Errorf("%s holds %q", name, got)
		}
	}
	for _, name := range []string{"etc/old", "trace.log"} {
		if _, err := os.Lstat(filepath.Join(root, name)); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s is there: %v", name, err)
		}
	}
}

func TestSweep(t *testing.T) {
	s, dir := open(t)
	kept := bring(t, s, pack(t))
	gone := bring(t, s, pack(t, tar.Header{Name: "x", Mode: 0o644, Typeflag: tar.TypeReg}))
	in := s.Begin()
	open, err := in.Import(ctx, bytes.NewReader(pack(t, tar.Header{Name: "y", Mode: 0o644, Typeflag: tar.TypeReg})))
	if err != nil {
		t.Fatal(err)
	}
	freed, err := s.Sweep(ctx, 0, func(context.Context) ([]string, error) { return []string{kept.Digest}, nil })
	if err != nil || freed == 0 {
		t.Fatalf("%d bytes were freed: %v", freed, err)
	}
	if !s.Has(kept.Digest) || s.Has(gone.Digest) || !s.Has(open.Digest) {
		t.Errorf("kept %v, gone %v, under way %v", s.Has(kept.Digest), !s.Has(gone.Digest), s.Has(open.Digest))
	}
	in.Close()
	if left := blobs(t, dir); len(left) != 3 {
		t.Errorf("there are %v", left)
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
	if err := UnpackArchive(bytes.NewReader(pack(t, tar.Header{Name: "way/x", Typeflag: tar.TypeReg})), dir, DefaultLimits); err == nil {
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

// FuzzImport hands over bytes as an archive's content and as they are.
func FuzzImport(f *testing.F) {
	f.Add([]byte("hello"))
	var layout bytes.Buffer
	w := tar.NewWriter(&layout)
	_ = w.WriteHeader(&tar.Header{Name: "oci-layout", Size: 2, Typeflag: tar.TypeReg})
	_, _ = io.WriteString(w, "{}")
	_ = w.Close()
	f.Add(layout.Bytes())
	f.Fuzz(func(t *testing.T, raw []byte) {
		s, dir := open(t)
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		_, _ = z.Write(raw)
		_ = z.Close()
		for _, upload := range [][]byte{raw, b.Bytes()} {
			in := s.Begin()
			if a, err := in.Import(ctx, bytes.NewReader(upload)); err == nil && len(a.Start) == 0 {
				t.Error("an archive that starts nothing was taken")
			}
			in.Close()
		}
		if left := blobs(t, dir); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	})
}
