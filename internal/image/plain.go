package image

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Compressed layers that machines are made from are kept uncompressed beside the blobs as well, since
// most of what a launch takes is unpacking the compression. They are only of use: what is lost or has
// no room is read from the blob.

// plainMost is how many bytes of uncompressed layers a store keeps; those that were read last.
const plainMost = 2 << 30

// plain is where a layer is kept uncompressed.
func (s *Store) plain(d digest.Digest) string {
	return filepath.Join(s.dir, "plain-"+d.Encoded()+".tar")
}

// openPlain opens a layer uncompressed, which it is from then on.
func (s *Store) openPlain(l ocispec.Descriptor) (io.ReadCloser, error) {
	if !strings.HasSuffix(l.MediaType, "gzip") || l.Size > plainMost/8 {
		return s.openLayer(l)
	}
	name := s.plain(l.Digest)
	f, err := os.Open(name)
	if err != nil {
		if s.makePlain(l, name) != nil {
			return s.openLayer(l)
		}
		if f, err = os.Open(name); err != nil {
			return s.openLayer(l)
		}
	}
	now := time.Now()
	_ = os.Chtimes(name, now, now) // which is how the last ones are known
	return f, nil
}

// makePlain writes a layer uncompressed, whole or not at all.
func (s *Store) makePlain(l ocispec.Descriptor, name string) error {
	if err := s.Space.Room(); err != nil {
		return err
	}
	layer, err := s.openLayer(l)
	if err != nil {
		return err
	}
	defer layer.Close()
	f, err := os.CreateTemp(s.dir, "incoming-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	n, err := io.Copy(&roomy{w: f, space: s.Space}, io.LimitReader(layer, plainMost/2+1))
	if err != nil {
		return err
	}
	if n > plainMost/2 {
		return refused("the layer %s is too large to be kept uncompressed", l.Digest)
	}
	return os.Rename(f.Name(), name)
}

// sweepPlain removes uncompressed layers whose blob is gone, and those that were read longest ago while
// there is more than may be: none when there is no room for anything else.
func (s *Store) sweepPlain(ctx context.Context) {
	names, _ := filepath.Glob(filepath.Join(s.dir, "plain-*.tar"))
	var kept []os.FileInfo
	for _, name := range names {
		hex := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(name), "plain-"), ".tar")
		info, err := os.Stat(name)
		if err != nil || ctx.Err() != nil {
			continue
		}
		if _, err := os.Stat(s.path(digest.NewDigestFromEncoded(digest.SHA256, hex))); os.IsNotExist(err) {
			os.Remove(name)
			continue
		}
		kept = append(kept, info)
	}
	slices.SortFunc(kept, func(a, b os.FileInfo) int { return b.ModTime().Compare(a.ModTime()) })
	left := int64(plainMost)
	if s.Space.Room() != nil {
		left = 0
	}
	for _, info := range kept {
		if left -= info.Size(); left < 0 {
			os.Remove(filepath.Join(s.dir, info.Name()))
		}
	}
}
