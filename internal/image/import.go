package image

import (
	"archive/tar"
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"unitas/internal/caught"
	"unitas/internal/fleet/words"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// Import takes in a gzip-compressed tar archive with a manifest, or a tar of
// an OCI image layout, compressed or not. A *Refused error names what is wrong
// with it. Memory does not grow with the archive.
func (in *Intake) Import(ctx context.Context, r io.Reader) (Artifact, error) {
	b := bufio.NewReaderSize(r, 64<<10)
	head, _ := b.Peek(512)
	switch {
	case len(head) > 2 && head[0] == 0x1f && head[1] == 0x8b:
		return in.synced(in.archive(ctx, b))
	case len(head) == 512 && string(head[257:262]) == "ustar":
		return in.synced(in.layout(ctx, b))
	}
	return Artifact{}, refused("it is neither a gzip-compressed tar archive nor the tar of an OCI image layout; make an archive with: tar -czf FILE -C DIR .")
}

// ConfigType is the type of the config of artifacts that are made here. It has
// the form of an OCI image's config, but for the digests of the layers as they
// are unpacked: to take those would be to hash everything a second time, and the
// layers' own digests say as much.
const ConfigType = "application/vnd.unitas.image.config.v1+json"

// archive takes in a compressed archive as the only layer of a new artifact.
// It is hashed, written and inspected at the same time.
func (in *Intake) archive(ctx context.Context, r io.Reader) (Artifact, error) {
	inspected := make(chan error, 1)
	pr, pw := io.Pipe()
	t := newTree(false)
	t.comesIn = true
	go func() {
		defer caught.Told("looking at an archive", func(err error) {
			pr.CloseWithError(err)
			inspected <- err
		})
		err := in.s.inspect(bufio.NewReaderSize(pr, 256<<10), t)
		pr.CloseWithError(errors.Join(err, io.ErrClosedPipe))
		inspected <- err
	}()
	d, size, err := in.put(ctx, r, "", pw)
	pw.CloseWithError(err) // a nil error is the end of the file
	if verdict := <-inspected; verdict != nil && (err == nil || errors.Is(err, io.ErrClosedPipe)) {
		err = verdict
	}
	if err != nil {
		return Artifact{}, err
	}
	if _, ok := t.nodes[ocispec.ImageLayoutFile]; ok && t.nodes[ocispec.ImageIndexFile].kind == tar.TypeReg {
		f, err := os.Open(in.s.path(d))
		if err != nil {
			return Artifact{}, err
		}
		defer f.Close()
		z, err := in.s.Limits.unzip(f)
		if err != nil {
			return Artifact{}, err
		}
		return in.layout(ctx, z)
	}
	m, err := readManifest(t.manifest)
	if err != nil {
		return Artifact{}, err
	}
	start, err := t.runnable(ManifestName, m.Start)
	if err != nil {
		return Artifact{}, err
	}
	layer := ocispec.Descriptor{MediaType: ocispec.MediaTypeImageLayerGzip, Digest: d, Size: size}
	return in.compose(ctx, []ocispec.Descriptor{layer}, nil, ocispec.ImageConfig{Entrypoint: start})
}

// inspect reads a compressed archive to its end.
func (s *Store) inspect(r io.Reader, t *tree) error {
	z, err := s.Limits.unzip(r)
	if err != nil {
		return err
	}
	w := walk{limits: s.Limits}
	return w.layer(z, t.layer())
}

// compose makes the config and manifest over layers that are stored. With the
// digests of all layers as they are unpacked it is an ordinary OCI image.
func (in *Intake) compose(ctx context.Context, layers []ocispec.Descriptor, diffs []digest.Digest, c ocispec.ImageConfig) (Artifact, error) {
	kind, config := ConfigType, ocispec.Image{Config: c, RootFS: ocispec.RootFS{Type: "layers", DiffIDs: []digest.Digest{}}}
	if len(diffs) == len(layers) {
		kind, config.RootFS.DiffIDs = ocispec.MediaTypeImageConfig, diffs
	}
	config.Architecture, config.OS = runtime.GOARCH, "linux"
	cd, err := in.putJSON(ctx, kind, config)
	if err != nil {
		return Artifact{}, err
	}
	m := ocispec.Manifest{MediaType: ocispec.MediaTypeImageManifest, Config: cd, Layers: layers}
	m.SchemaVersion = 2
	md, err := in.putJSON(ctx, m.MediaType, m)
	if err != nil {
		return Artifact{}, err
	}
	return in.s.read(md.Digest)
}

// layout takes in the tar of an OCI image layout with one image for this
// machine.
func (in *Intake) layout(ctx context.Context, r io.Reader) (Artifact, error) {
	var index, marker []byte
	archive := tar.NewReader(r)
	var total int64
	for entries := 0; ; entries++ {
		h, err := archive.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Artifact{}, damaged(err)
		}
		name := path.Clean(h.Name)
		if total += h.Size; total > in.s.Limits.Unpacked || entries > in.s.Limits.Entries {
			return Artifact{}, &Refused{h.Name, "makes the layout larger than " + words.Bytes(in.s.Limits.Unpacked)}
		}
		if h.Typeflag == tar.TypeDir {
			continue
		}
		if why := harm(name, h); why != "" || h.Typeflag != tar.TypeReg {
			return Artifact{}, &Refused{h.Name, cmp.Or(why, "is not a file; a layout has files and directories only")}
		}
		encoded, isBlob := strings.CutPrefix(name, "blobs/sha256/")
		switch {
		case name == ocispec.ImageIndexFile:
			index, err = io.ReadAll(io.LimitReader(archive, maxManifest))
		case name == ocispec.ImageLayoutFile:
			marker, err = io.ReadAll(io.LimitReader(archive, maxManifest))
		case isBlob:
			d := digest.NewDigestFromEncoded(digest.SHA256, encoded)
			if d.Validate() != nil {
				return Artifact{}, &Refused{h.Name, "is not named by a digest"}
			}
			_, _, err = in.put(ctx, archive, d, nil)
		}
		if err != nil {
			return Artifact{}, damaged(err)
		}
	}
	switch {
	case marker == nil:
		return Artifact{}, refused("it is a tar archive, but no OCI image layout: it has no oci-layout at its root. Compress a plain archive with: tar -czf FILE -C DIR .")
	case index == nil:
		return Artifact{}, refused("the OCI image layout has no index.json")
	}
	d, err := in.choose(index)
	if err != nil {
		return Artifact{}, err
	}
	return in.check(ctx, d)
}

// choose returns the manifest of an index that this machine can run.
func (in *Intake) choose(raw []byte) (digest.Digest, error) {
	for depth := 0; depth < 4; depth++ {
		var index ocispec.Index
		if err := json.Unmarshal(raw, &index); err != nil {
			return "", refused("the index cannot be read: %v", err)
		}
		d, err := pick(index)
		if err != nil {
			return "", err
		}
		if !isIndex(d.MediaType) {
			return d.Digest, nil
		}
		if raw, err = in.s.small(d.Digest); err != nil {
			return "", missing(d.Digest, err)
		}
	}
	return "", refused("the index leads to indexes only")
}

func isIndex(mediaType string) bool {
	return mediaType == ocispec.MediaTypeImageIndex || strings.HasSuffix(mediaType, "manifest.list.v2+json")
}

func pick(index ocispec.Index) (ocispec.Descriptor, error) {
	var fitting []ocispec.Descriptor
	for _, m := range index.Manifests {
		if p := m.Platform; p == nil || (p.OS == "linux" && p.Architecture == runtime.GOARCH) {
			fitting = append(fitting, m)
		}
	}
	switch {
	case len(index.Manifests) == 0:
		return ocispec.Descriptor{}, refused("the index names no image")
	case len(fitting) == 0:
		return ocispec.Descriptor{}, refused("none of the %d images of the index is for linux on %s", len(index.Manifests), runtime.GOARCH)
	case len(fitting) > 1:
		return ocispec.Descriptor{}, refused("the index names %d images; keep one in the layout", len(fitting))
	}
	return fitting[0], nil
}

func missing(d digest.Digest, err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return refused("the blob %s is not there", d)
	}
	return err
}

// check reads every layer of an artifact of somebody else's making, and
// returns it when all is whole and harmless.
func (in *Intake) check(ctx context.Context, d digest.Digest) (Artifact, error) {
	a, err := in.s.read(d)
	if err != nil {
		return a, missing(d, err)
	}
	raw, err := in.s.small(a.config.Digest)
	if err != nil {
		return a, missing(a.config.Digest, err)
	}
	var config ocispec.Image
	if err := json.Unmarshal(raw, &config); err != nil {
		return a, refused("the config cannot be read: %v", err)
	}
	own := a.config.MediaType == ConfigType && len(config.RootFS.DiffIDs) == 0
	if !own && len(config.RootFS.DiffIDs) != len(a.Layers) {
		return a, refused("the config names %d layers and the manifest %d", len(config.RootFS.DiffIDs), len(a.Layers))
	}
	t := newTree(false)
	t.comesIn = true
	w := walk{limits: in.s.Limits, foreign: true}
	for i, l := range a.Layers {
		if err := ctx.Err(); err != nil {
			return a, err
		}
		info, err := os.Stat(in.s.path(l.Digest))
		if err != nil {
			return a, missing(l.Digest, err)
		}
		if info.Size() != l.Size {
			return a, refused("the layer %s has %d bytes and the manifest says %d", l.Digest, info.Size(), l.Size)
		}
		r, err := in.s.openLayer(l)
		if err != nil {
			return a, err
		}
		plain := sha256.New()
		var whole io.Reader = r
		if !own {
			whole = io.TeeReader(r, plain)
		}
		err = w.layer(whole, t.layer())
		r.Close()
		if err != nil {
			return a, err
		}
		if own {
			continue
		}
		if got := digest.NewDigestFromBytes(digest.SHA256, plain.Sum(nil)); got != config.RootFS.DiffIDs[i] {
			return a, refused("the layer %s unpacks to %s and the config says %s", l.Digest, got, config.RootFS.DiffIDs[i])
		}
	}
	if len(a.Start) == 0 {
		m, err := readManifest(t.manifest)
		if err != nil {
			return a, refused("the image does not say what to start: neither an entry point in its config nor a %s", ManifestName)
		}
		a.Start = m.Start
	}
	a.Start, err = t.runnable("config", a.Start)
	return a, err
}

// Export writes an artifact as the tar of an OCI image layout that imports
// again with the same digest.
func (s *Store) Export(ctx context.Context, w io.Writer, manifest, ref string) error {
	a, err := s.Read(manifest)
	if err != nil {
		return err
	}
	blobs := a.blobs()
	m := blobs[len(blobs)-1]
	m.MediaType, m.Annotations = ocispec.MediaTypeImageManifest, map[string]string{ocispec.AnnotationRefName: ref}
	index := ocispec.Index{MediaType: ocispec.MediaTypeImageIndex, Manifests: []ocispec.Descriptor{m}}
	index.SchemaVersion = 2
	raw, err := json.Marshal(index)
	if err != nil {
		return err
	}
	marker, err := os.ReadFile(s.dir + "/" + ocispec.ImageLayoutFile)
	if err != nil {
		return err
	}
	t := tar.NewWriter(w)
	small := func(name string, content []byte) error {
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(content)), Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		_, err := io.Copy(t, bytes.NewReader(content))
		return err
	}
	if err := errors.Join(small(ocispec.ImageLayoutFile, marker), small(ocispec.ImageIndexFile, raw)); err != nil {
		return err
	}
	written := map[digest.Digest]bool{}
	for _, b := range blobs {
		if written[b.Digest] {
			continue
		}
		written[b.Digest] = true
		if err := s.exportBlob(ctx, t, b); err != nil {
			return err
		}
	}
	return t.Close()
}

func (s *Store) exportBlob(ctx context.Context, t *tar.Writer, b ocispec.Descriptor) error {
	f, err := os.Open(s.path(b.Digest))
	if err != nil {
		return err
	}
	defer f.Close()
	if err := t.WriteHeader(&tar.Header{Name: "blobs/sha256/" + b.Digest.Encoded(), Mode: 0o644, Size: b.Size, Typeflag: tar.TypeReg}); err != nil {
		return err
	}
	_, err = io.Copy(t, &stopped{ctx, f})
	return err
}
