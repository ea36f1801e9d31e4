package image

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"unitas/internal/caught"
)

// Intake takes in one artifact. What it stores stays only when it is kept.
type Intake struct {
	s       *Store
	err     error // why nothing can be taken in
	pinned  map[digest.Digest]bool
	written []digest.Digest // and not yet known to be on the disk
}

// Begin opens an intake; Close must be called at its end.
func (s *Store) Begin() *Intake {
	return &Intake{s: s, err: s.claims.begin(), pinned: map[digest.Digest]bool{}}
}

func (in *Intake) pin(d digest.Digest) {
	s := in.s
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.doomed, d)
	if !in.pinned[d] {
		in.pinned[d] = true
		s.pins[d]++
	}
}

// Keep says that the artifact is recorded; its blobs are not fresh any more.
func (in *Intake) Keep(a Artifact) {
	in.s.mu.Lock()
	defer in.s.mu.Unlock()
	for _, b := range a.blobs() {
		delete(in.s.fresh, b.Digest)
	}
}

// Close ends the intake. Blobs that it brought and nobody kept are removed, by the sweep
// when another service takes something in.
func (in *Intake) Close() {
	if in.pinned == nil {
		return
	}
	s := in.s
	var unkept []digest.Digest
	s.mu.Lock()
	for d := range in.pinned {
		if s.pins[d]--; s.pins[d] > 0 {
			continue
		}
		delete(s.pins, d)
		if s.fresh[d] {
			unkept = append(unkept, d)
		}
	}
	s.mu.Unlock()
	in.pinned = nil
	if in.err != nil {
		return
	}
	_, _ = s.claims.remove(func() error {
		for _, d := range unkept {
			s.dropFresh(d)
		}
		return nil
	})
	s.claims.end()
}

// dropFresh removes a blob that nobody kept, unless somebody needs it by now.
func (s *Store) dropFresh(d digest.Digest) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fresh[d] && s.pins[d] == 0 {
		delete(s.fresh, d)
		_ = os.Remove(s.path(d))
	}
}

// put stores a blob, streaming. A want that is not "" is what the bytes must
// have as digest. extra, when set, is written the same bytes.
func (in *Intake) put(ctx context.Context, r io.Reader, want digest.Digest, extra io.Writer) (digest.Digest, int64, error) {
	s := in.s
	if in.err != nil {
		return "", 0, fmt.Errorf("take part in the image store: %w", in.err)
	}
	if want != "" {
		in.pin(want)
		if info, err := os.Stat(s.path(want)); err == nil && extra == nil {
			now := time.Now()
			_ = os.Chtimes(s.path(want), now, now)
			return want, info.Size(), nil
		}
	}
	f, err := os.CreateTemp(s.dir, "incoming-*")
	if err != nil {
		return "", 0, fmt.Errorf("store a blob: %w", err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	hash := sha256.New()
	writers := []io.Writer{&roomy{w: f, space: s.Space}, hash}
	if extra != nil {
		writers = append(writers, extra)
	}
	size, err := io.CopyBuffer(io.MultiWriter(writers...), struct{ io.Reader }{&stopped{ctx, r}}, make([]byte, 256<<10))
	if err != nil {
		return "", 0, err
	}
	got := digest.Digest("sha256:" + hex.EncodeToString(hash.Sum(nil)))
	if want != "" && got != want {
		return "", 0, refused("the blob %s is damaged; its bytes have the digest %s", want, got)
	}
	return got, size, in.store(f, got)
}

// stopped reads until its context ends.
type stopped struct {
	ctx context.Context
	r   io.Reader
}

func (s *stopped) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.r.Read(p)
}

// store puts a whole file at its place among the blobs.
func (in *Intake) store(f *os.File, d digest.Digest) error {
	if err := f.Chmod(0o600); err != nil {
		return fmt.Errorf("store a blob: %w", err)
	}
	in.written = append(in.written, d)
	in.pin(d)
	in.s.mu.Lock()
	defer in.s.mu.Unlock()
	if _, err := os.Stat(in.s.path(d)); errors.Is(err, os.ErrNotExist) {
		in.s.fresh[d] = true
	}
	if err := os.Rename(f.Name(), in.s.path(d)); err != nil {
		return fmt.Errorf("store a blob: %w", err)
	}
	return nil
}

// sync waits until what was written is on the disk: all of it at once, since
// the disk takes as long for many files as for one.
func (in *Intake) sync() error {
	faults := make([]error, len(in.written))
	var all sync.WaitGroup
	for i, d := range in.written {
		all.Go(func() {
			defer caught.Into("storing a blob", &faults[i])
			f, err := os.Open(in.s.path(d))
			if err == nil {
				err = errors.Join(f.Sync(), f.Close())
			}
			faults[i] = err
		})
	}
	all.Wait()
	in.written = nil
	if err := errors.Join(faults...); err != nil {
		return fmt.Errorf("store a blob: %w", err)
	}
	return nil
}

// synced is an artifact that is wanted on the disk before it is handed over.
func (in *Intake) synced(a Artifact, err error) (Artifact, error) {
	if err == nil {
		err = in.sync()
	}
	return a, err
}

func (in *Intake) putJSON(ctx context.Context, mediaType string, v any) (ocispec.Descriptor, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return ocispec.Descriptor{}, err
	}
	d, n, err := in.put(ctx, strings.NewReader(string(raw)), "", nil)
	return ocispec.Descriptor{MediaType: mediaType, Digest: d, Size: n}, err
}
