package image

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"unitas/internal/datadir"
)

// Store is an OCI image layout: blobs by digest, and an index of manifests.
type Store struct {
	// Limits bound what is taken in; they are set before the store is used.
	Limits Limits
	// Space says whether there is room on the disk for more; nil when there always is.
	Space *datadir.Space

	dir    string
	claims *claims

	mu     sync.Mutex
	pins   map[digest.Digest]int  // blobs that an intake under way needs
	fresh  map[digest.Digest]bool // blobs that no recorded artifact is known to use
	doomed map[digest.Digest]bool // blobs that a sweep under way would remove
}

// Artifact is one image in a store.
type Artifact struct {
	Digest string // of the manifest, sha256:…
	Size   int64  // bytes of manifest, config and layers
	Layers []ocispec.Descriptor
	// Start is the program and its arguments; Environment, as NAME=VALUE, and
	// Labels are what the image gives every machine.
	Start       []string
	Environment []string
	Labels      map[string]string

	config ocispec.Descriptor
}

// Open opens or makes the store in dir and clears what broken imports left.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(filepath.Join(dir, "blobs", "sha256"), 0o700); err != nil {
		return nil, fmt.Errorf("open the image store: %w", err)
	}
	if err := os.Chmod(dir, 0o700); err != nil { // machines are to read their own files, and no image
		return nil, fmt.Errorf("open the image store: %w", err)
	}
	s := &Store{Limits: DefaultLimits, dir: dir, pins: map[digest.Digest]int{}, fresh: map[digest.Digest]bool{}}
	var err error
	if s.claims, err = openClaims(dir); err != nil {
		return nil, err
	}
	if _, err := s.claims.remove(s.clearHalves); err != nil {
		return nil, fmt.Errorf("clear a broken import: %w", err)
	}
	layout := fmt.Sprintf(`{"imageLayoutVersion":%q}`, ocispec.ImageLayoutVersion)
	if err := s.replace(ocispec.ImageLayoutFile, []byte(layout)); err != nil {
		return nil, fmt.Errorf("open the image store: %w", err)
	}
	if _, err := os.Stat(filepath.Join(dir, ocispec.ImageIndexFile)); errors.Is(err, os.ErrNotExist) {
		if err := s.Index(nil); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// clearHalves removes what broken imports left.
func (s *Store) clearHalves() error {
	halves, err := filepath.Glob(filepath.Join(s.dir, "incoming-*"))
	for _, half := range halves {
		err = errors.Join(err, os.Remove(half))
	}
	return err
}

// roomy writes as long as there is room on the disk.
type roomy struct {
	w     io.Writer
	space *datadir.Space
	left  int // bytes until it is looked again
}

const lookAfter = 4 << 20

func (r *roomy) Write(p []byte) (int, error) {
	if r.left -= len(p); r.left <= 0 {
		r.left = lookAfter
		if err := r.space.Room(); err != nil {
			return 0, err
		}
	}
	return r.w.Write(p)
}

func (s *Store) path(d digest.Digest) string {
	return filepath.Join(s.dir, "blobs", d.Algorithm().String(), d.Encoded())
}

// replace writes a small file at once, so that no reader sees half of it.
func (s *Store) replace(name string, raw []byte) error {
	f, err := os.CreateTemp(s.dir, "incoming-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(raw)
	if err := errors.Join(err, f.Chmod(0o600), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), filepath.Join(s.dir, name))
}

// Index writes the layout's index anew: the manifests of the recorded versions,
// by reference such as timetable@3.
func (s *Store) Index(manifests map[string]string) error {
	index := ocispec.Index{MediaType: ocispec.MediaTypeImageIndex, Manifests: []ocispec.Descriptor{}}
	index.SchemaVersion = 2
	for _, ref := range sortedKeys(manifests) {
		info, err := os.Stat(s.path(digest.Digest(manifests[ref])))
		if err != nil {
			continue // not in this region, or removed meanwhile
		}
		index.Manifests = append(index.Manifests, ocispec.Descriptor{MediaType: ocispec.MediaTypeImageManifest,
			Digest: digest.Digest(manifests[ref]), Size: info.Size(), Annotations: map[string]string{ocispec.AnnotationRefName: ref}})
	}
	raw, err := json.Marshal(index)
	if err != nil {
		return err
	}
	if err := s.replace(ocispec.ImageIndexFile, raw); err != nil {
		return fmt.Errorf("write the index of the image store: %w", err)
	}
	return nil
}

// Has reports whether the artifact is in the store, whole.
func (s *Store) Has(manifest string) bool {
	a, err := s.read(digest.Digest(manifest))
	if err != nil {
		return false
	}
	for _, l := range a.blobs() {
		if info, err := os.Stat(s.path(l.Digest)); err != nil || info.Size() != l.Size {
			return false
		}
	}
	return true
}

// blobs are all of an artifact, the manifest last.
func (a *Artifact) blobs() []ocispec.Descriptor {
	all := append([]ocispec.Descriptor{}, a.Layers...)
	manifest := ocispec.Descriptor{Digest: digest.Digest(a.Digest), Size: a.Size - a.config.Size}
	for _, l := range a.Layers {
		manifest.Size -= l.Size
	}
	return append(all, a.config, manifest)
}

// small reads a blob that must fit into memory and match its digest.
func (s *Store) small(d digest.Digest) ([]byte, error) {
	if err := d.Validate(); err != nil || d.Algorithm() != digest.SHA256 {
		return nil, refused("%q is not a sha256 digest", d)
	}
	f, err := os.Open(s.path(d))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, maxManifest+1))
	switch {
	case err != nil:
		return nil, err
	case len(raw) > maxManifest:
		return nil, refused("the blob %s is longer than %d bytes", d, maxManifest)
	case digest.FromBytes(raw) != d:
		return nil, refused("the blob %s is damaged; its bytes have another digest", d)
	}
	return raw, nil
}

// read reads the manifest and config of an artifact, not its layers.
func (s *Store) read(d digest.Digest) (Artifact, error) {
	a := Artifact{Digest: d.String()}
	raw, err := s.small(d)
	if err != nil {
		return a, err
	}
	var m ocispec.Manifest
	if err := json.Unmarshal(raw, &m); err != nil {
		return a, refused("the manifest cannot be read: %v", err)
	}
	if len(m.Layers) == 0 || m.Config.Digest == "" {
		return a, refused("the manifest %s has no layers or no config", d)
	}
	a.Layers, a.config = m.Layers, m.Config
	a.Size = int64(len(raw)) + m.Config.Size
	for _, l := range m.Layers {
		a.Size += l.Size
	}
	config, err := s.small(m.Config.Digest)
	if err != nil {
		return a, fmt.Errorf("read the config: %w", err)
	}
	var c ocispec.Image
	if err := json.Unmarshal(config, &c); err != nil {
		return a, refused("the config cannot be read: %v", err)
	}
	a.Start = append(append([]string{}, c.Config.Entrypoint...), c.Config.Cmd...)
	a.Environment, a.Labels = c.Config.Env, c.Config.Labels
	return a, nil
}

// Read returns an artifact of the store.
func (s *Store) Read(manifest string) (Artifact, error) { return s.read(digest.Digest(manifest)) }

// openLayer opens a layer and unpacks its compression.
func (s *Store) openLayer(l ocispec.Descriptor) (io.ReadCloser, error) {
	f, err := os.Open(s.path(l.Digest))
	if err != nil {
		return nil, err
	}
	switch {
	case strings.HasSuffix(l.MediaType, "gzip"):
		z, err := s.Limits.unzip(f)
		if err != nil {
			f.Close()
			return nil, err
		}
		return struct {
			io.Reader
			io.Closer
		}{z, f}, nil
	case strings.HasSuffix(l.MediaType, ".tar"):
		return f, nil
	}
	f.Close()
	return nil, refused("the layer %s is of the type %s; layers must be tar or tar+gzip", l.Digest, l.MediaType)
}

// walk reads all layers of an artifact, which open opens, bottom first.
func (s *Store) walk(a Artifact, limits Limits, open func(ocispec.Descriptor) (io.ReadCloser, error), next func() visit) error {
	w := walk{limits: limits, foreign: true}
	for _, l := range a.Layers {
		r, err := open(l)
		if err != nil {
			return err
		}
		err = w.layer(r, next())
		r.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// Unpack writes the files of an artifact into dir, owned by uid when that is
// not negative. They may take most bytes, or as many as any when it is 0.
func (s *Store) Unpack(manifest, dir string, uid int, most int64) error {
	a, err := s.read(digest.Digest(manifest))
	if err != nil {
		return fmt.Errorf("unpack %s: %w", manifest, err)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	u := unpacker{root, uid}
	limits := s.Limits
	if most > 0 {
		limits.Unpacked = min(limits.Unpacked, most)
	}
	if err := s.walk(a, limits, s.openPlain, u.layer); err != nil {
		return fmt.Errorf("unpack %s: %w", manifest, err)
	}
	return nil
}

// Sweep removes the blobs that no artifact uses. used returns the digests of
// the manifests that are recorded for this region; it is asked after the blobs
// were listed, so that what is recorded meanwhile is not lost. Blobs younger
// than grace are left alone. It returns how many bytes were freed.
func (s *Store) Sweep(ctx context.Context, grace time.Duration, used func(context.Context) ([]string, error)) (freed int64, err error) {
	_, err = s.claims.remove(func() (err error) {
		freed, err = s.sweep(ctx, grace, used)
		return err
	})
	return freed, err
}

func (s *Store) sweep(ctx context.Context, grace time.Duration, used func(context.Context) ([]string, error)) (freed int64, err error) {
	entries, err := os.ReadDir(filepath.Join(s.dir, "blobs", "sha256"))
	if err != nil {
		return 0, fmt.Errorf("sweep the image store: %w", err)
	}
	s.mu.Lock()
	s.doomed = map[digest.Digest]bool{}
	for _, e := range entries {
		if d := digest.NewDigestFromEncoded(digest.SHA256, e.Name()); s.pins[d] == 0 {
			s.doomed[d] = true
		}
	}
	s.mu.Unlock()
	manifests, err := used(ctx)
	if err != nil {
		return 0, fmt.Errorf("sweep the image store: %w", err)
	}
	for _, m := range manifests {
		a, err := s.read(digest.Digest(m))
		if errors.Is(err, os.ErrNotExist) {
			continue // it is recorded here, and its files are gone: nothing more to lose
		}
		if err != nil {
			return 0, fmt.Errorf("sweep the image store: %w", err)
		}
		s.mu.Lock()
		for _, b := range a.blobs() {
			delete(s.doomed, b.Digest)
		}
		s.mu.Unlock()
	}
	s.mu.Lock()
	doomed := slices.Collect(maps.Keys(s.doomed))
	s.mu.Unlock()
	for _, d := range doomed {
		info, err := os.Stat(s.path(d))
		if err != nil || time.Since(info.ModTime()) < grace {
			continue
		}
		went, err := s.drop(d)
		if err != nil {
			return freed, fmt.Errorf("sweep the image store: %w", err)
		}
		if went {
			freed += info.Size()
		}
	}
	s.sweepPlain(ctx)
	return freed, s.sweepParts(24 * time.Hour)
}

// drop removes a blob that is still doomed.
func (s *Store) drop(d digest.Digest) (went bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.doomed[d] { // needed meanwhile
		return false, nil
	}
	delete(s.doomed, d)
	delete(s.fresh, d)
	return true, os.Remove(s.path(d))
}

// sweepParts removes halves of copies that nobody went on with.
func (s *Store) sweepParts(grace time.Duration) error {
	parts, err := filepath.Glob(filepath.Join(s.dir, "copying-*"))
	for _, p := range parts {
		if info, statErr := os.Stat(p); statErr == nil && time.Since(info.ModTime()) > grace {
			err = errors.Join(err, os.Remove(p))
		}
	}
	return err
}
