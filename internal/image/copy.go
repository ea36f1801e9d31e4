package image

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"oras.land/oras-go/v2/registry"
	"oras.land/oras-go/v2/registry/remote"

	"unitas/internal/fleet/words"
)

// Copy takes an artifact over from the store of another region. What was
// copied when it breaks off stays, and the next try goes on there. progress is
// told the bytes done of the artifact's size.
func (in *Intake) Copy(ctx context.Context, from *Store, manifest string, progress func(done int64)) (Artifact, error) {
	a, err := from.Read(manifest)
	if err != nil {
		return a, fmt.Errorf("read %s: %w", manifest, err)
	}
	var done int64
	for _, b := range a.blobs() {
		in.pin(b.Digest)
		if info, err := os.Stat(in.s.path(b.Digest)); err == nil && info.Size() == b.Size {
			done += b.Size
			progress(done)
			continue
		}
		if err := in.copyBlob(ctx, from, b, func(n int64) { progress(done + n) }); err != nil {
			return a, err
		}
		done += b.Size
	}
	return in.synced(a, nil)
}

func (in *Intake) copyBlob(ctx context.Context, from *Store, b ocispec.Descriptor, progress func(int64)) error {
	source, err := os.Open(from.path(b.Digest))
	if err != nil {
		return err
	}
	defer source.Close()
	part := filepath.Join(in.s.dir, "copying-"+b.Digest.Encoded())
	f, err := os.OpenFile(part, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	hash := sha256.New()
	had, err := io.Copy(hash, f) // what is there already counts only when it fits in the end
	if err != nil {
		return err
	}
	if had > b.Size {
		return errors.Join(refused("the half of %s is too long; it is thrown away, try again", b.Digest), os.Remove(part))
	}
	if _, err := source.Seek(had, io.SeekStart); err != nil {
		return err
	}
	told := &telling{w: io.MultiWriter(&roomy{w: f, space: in.s.Space}, hash), n: had, tell: progress}
	if _, err := io.CopyBuffer(told, struct{ io.Reader }{&stopped{ctx, source}}, make([]byte, 256<<10)); err != nil {
		return err
	}
	if got := digest.NewDigestFromBytes(digest.SHA256, hash.Sum(nil)); got != b.Digest {
		return errors.Join(refused("the blob %s is damaged on its way; its half is thrown away, try again", b.Digest), os.Remove(part))
	}
	return in.store(f, b.Digest)
}

type telling struct {
	w    io.Writer
	n    int64
	tell func(int64)
}

func (t *telling) Write(p []byte) (int, error) {
	n, err := t.w.Write(p)
	t.n += int64(n)
	t.tell(t.n)
	return n, err
}

// Credentials sign in to a registry; without them it is asked as anybody.
type Credentials struct{ User, Password string }

// Fetch takes in an image from a registry that speaks the OCI distribution
// protocol, by a reference such as registry.example/ferries/timetable:7, as far as from
// allows. It takes half an hour at most.
func (in *Intake) Fetch(ctx context.Context, reference string, c Credentials, from Registries) (Artifact, error) {
	ref, err := registry.ParseReference(reference)
	if err != nil {
		return Artifact{}, refused("%q is not a reference in a registry, such as registry.example/ferries/timetable:7", reference)
	}
	ctx, over := context.WithTimeoutCause(ctx, fetchLimit, fmt.Errorf("it took more than %s", fetchLimit))
	defer over()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	repo, err := from.repository(ref, c, func() { stop(fmt.Errorf("the registry sent nothing for %s", stallLimit)) })
	if err != nil {
		return Artifact{}, refused("%q is not a reference in a registry, such as registry.example/ferries/timetable:7", reference)
	}
	d, r, err := repo.FetchReference(ctx, ref.ReferenceOrDefault())
	if err != nil {
		return Artifact{}, unfetched(ctx, reference, err)
	}
	raw, err := in.putSmall(ctx, r, d)
	for depth := 0; err == nil && isIndex(d.MediaType) && depth < 4; depth++ {
		var next digest.Digest
		if next, err = in.choose(raw); err != nil {
			return Artifact{}, err
		}
		if d, r, err = repo.FetchReference(ctx, next.String()); err != nil {
			return Artifact{}, unfetched(ctx, reference, err)
		}
		raw, err = in.putSmall(ctx, r, d)
	}
	if err != nil {
		return Artifact{}, err
	}
	if err := in.fetchBlobs(ctx, repo, raw); err != nil {
		return Artifact{}, err
	}
	return in.synced(in.check(ctx, d.Digest))
}

// putSmall stores a manifest and returns it.
func (in *Intake) putSmall(ctx context.Context, r io.ReadCloser, d ocispec.Descriptor) ([]byte, error) {
	defer r.Close()
	if d.Size > maxManifest {
		return nil, refused("the manifest %s is longer than %d bytes", d.Digest, maxManifest)
	}
	if _, _, err := in.put(ctx, io.LimitReader(r, maxManifest), d.Digest, nil); err != nil {
		return nil, err
	}
	return in.s.small(d.Digest)
}

func (in *Intake) fetchBlobs(ctx context.Context, repo *remote.Repository, manifest []byte) error {
	var m ocispec.Manifest
	if err := json.Unmarshal(manifest, &m); err != nil {
		return refused("the manifest is not one of an image")
	}
	var total int64
	for _, b := range append([]ocispec.Descriptor{m.Config}, m.Layers...) {
		if total += b.Size; b.Size < 0 || total > in.s.Limits.Unpacked {
			return refused("the image is larger than %s", words.Bytes(in.s.Limits.Unpacked))
		}
		r, err := repo.Blobs().Fetch(ctx, b)
		if err != nil {
			return unfetched(ctx, "the blob "+b.Digest.String(), err)
		}
		_, _, err = in.put(ctx, io.LimitReader(r, b.Size+1), b.Digest, nil)
		r.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
