package image

import (
	"bytes"
	"crypto/sha256"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"
	"time"
)

// sample packs an archive of about n bytes that do not compress, as programs
// that are packed already do not.
func sample(tb testing.TB, n int) string {
	tb.Helper()
	content := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{}).Read(content)
	name := filepath.Join(tb.TempDir(), "sample.tar.gz")
	f, err := os.Create(name)
	if err != nil {
		tb.Fatal(err)
	}
	if err := Pack(f, File{Name: ManifestName, Content: []byte("start: [sh]\n")}, File{Name: "content", Content: content}); err != nil {
		tb.Fatal(err)
	}
	if err := f.Close(); err != nil {
		tb.Fatal(err)
	}
	return name
}

// hashAndWrite is the least that can be done with the bytes.
func hashAndWrite(tb testing.TB, name string) {
	in, err := os.Open(name)
	if err != nil {
		tb.Fatal(err)
	}
	defer in.Close()
	out, err := os.Create(filepath.Join(tb.TempDir(), "out"))
	if err != nil {
		tb.Fatal(err)
	}
	defer out.Close()
	if _, err := io.CopyBuffer(io.MultiWriter(out, sha256.New()), struct{ io.Reader }{in}, make([]byte, 256<<10)); err != nil {
		tb.Fatal(err)
	}
	if err := out.Sync(); err != nil {
		tb.Fatal(err)
	}
}

func importFile(tb testing.TB, name string) {
	s, err := Open(tb.TempDir())
	if err != nil {
		tb.Fatal(err)
	}
	f, err := os.Open(name)
	if err != nil {
		tb.Fatal(err)
	}
	defer f.Close()
	in := s.Begin()
	defer in.Close()
	if _, err := in.Import(ctx, f); err != nil {
		tb.Fatal(err)
	}
}

// BenchmarkImport holds the import of 200 MB against hashing and writing the
// same bytes once, in turns, since the machine is noisy.
func BenchmarkImport(b *testing.B) {
	name := sample(b, 200<<20)
	var bare, whole time.Duration
	for b.Loop() {
		begun := time.Now()
		hashAndWrite(b, name)
		middle := time.Now()
		importFile(b, name)
		bare, whole = bare+middle.Sub(begun), whole+time.Since(middle)
	}
	b.ReportMetric(whole.Seconds()/bare.Seconds(), "ratio")
	b.ReportMetric(200*float64(b.N)/whole.Seconds(), "MiB/s")
}

// TestImportMemory: what an import holds in memory does not grow with the
// archive.
func TestImportMemory(t *testing.T) {
	peak := func(name string) uint64 {
		runtime.GC()
		var most atomic.Uint64
		done := make(chan struct{})
		watched := make(chan struct{})
		go func() {
			defer close(watched)
			tick := time.NewTicker(2 * time.Millisecond)
			defer tick.Stop()
			for {
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most.Store(max(most.Load(), m.HeapAlloc))
				select {
				case <-done:
					return
				case <-tick.C:
				}
			}
		}()
		importFile(t, name)
		close(done)
		<-watched
		return most.Load()
	}
	small, large := sample(t, 4<<20), sample(t, 64<<20)
	runtime.GC()
	a, b := peak(small), peak(large)
	if b > a+16<<20 {
		t.Errorf("4 MiB take %d bytes of memory and 64 MiB take %d", a, b)
	}
}

// BenchmarkUnpack lays an image out as a machine's files.
func BenchmarkUnpack(b *testing.B) {
	s, err := Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	raw, err := os.ReadFile(sample(b, 20<<20))
	if err != nil {
		b.Fatal(err)
	}
	in := s.Begin()
	defer in.Close()
	a, err := in.Import(ctx, bytes.NewReader(raw))
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(len(raw)))
	for b.Loop() {
		if err := s.Unpack(a.Digest, b.TempDir(), -1, 0); err != nil {
			b.Fatal(err)
		}
	}
}
