package image

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
)

// Store is a directory of artifacts by digest.
type Store struct {
	dir string
}

// Artifact is one stored archive.
type Artifact struct {
	Digest   string // sha256:… of the bytes as they came
	Size     int64  // bytes
	Manifest Manifest
}

// Open opens or makes the store in dir and clears what broken imports left.
func Open(dir string) (*Store, error) {
	for _, d := range []string{dir, filepath.Join(dir, "sha256")} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return nil, fmt.Errorf("open the image store: %w", err)
		}
	}
	halves, err := filepath.Glob(filepath.Join(dir, "incoming-*"))
	if err != nil {
		return nil, err
	}
	for _, half := range halves {
		if err := os.Remove(half); err != nil {
			return nil, fmt.Errorf("clear a broken import: %w", err)
		}
	}
	return &Store{dir: dir}, nil
}

// Put stores an archive and returns what it is. A *Refused error names what is
// wrong with it; nothing is kept then. Memory does not grow with the archive.
func (s *Store) Put(ctx context.Context, r io.Reader) (Artifact, error) {
	f, err := os.CreateTemp(s.dir, "incoming-*")
	if err != nil {
		return Artifact{}, fmt.Errorf("import: %w", err)
	}
	defer os.Remove(f.Name())
	defer f.Close()

	hash := sha256.New()
	size, err := io.Copy(io.MultiWriter(f, hash), r)
	if err != nil {
		return Artifact{}, fmt.Errorf("receive the archive: %w", err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return Artifact{}, err
	}
	m, err := inspect(f)
	if err != nil {
		return Artifact{}, err
	}
	if err := errors.Join(ctx.Err(), f.Chmod(0o644), f.Sync()); err != nil {
		return Artifact{}, err
	}
	digest := "sha256:" + hex.EncodeToString(hash.Sum(nil))
	if err := os.Rename(f.Name(), s.path(digest)); err != nil {
		return Artifact{}, fmt.Errorf("store the archive: %w", err)
	}
	return Artifact{Digest: digest, Size: size, Manifest: m}, nil
}

func (s *Store) path(digest string) string {
	return filepath.Join(s.dir, "sha256", strings.TrimPrefix(digest, "sha256:")+".tar.gz")
}

// Unpack writes the files of an artifact into dir, owned by uid when that is
// not negative.
func (s *Store) Unpack(digest, dir string, uid int) error {
	f, err := os.Open(s.path(digest))
	if err != nil {
		return fmt.Errorf("unpack %s: %w", digest, err)
	}
	defer f.Close()
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := unpack(f, root, uid); err != nil {
		return fmt.Errorf("unpack %s: %w", digest, err)
	}
	return nil
}
