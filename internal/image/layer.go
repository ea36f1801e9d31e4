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
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	kgzip "github.com/klauspost/compress/gzip"
	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"unitas/internal/caught"
	"unitas/internal/fleet/words"
	"unitas/internal/wary"
)

// Derive makes the artifact whose files are those in dir: the parent's layers,
// and one more with what is different. The same files make the same digest,
// whenever and wherever: times and owners are left out, and paths are sorted.
// Paths for which skip is true are as in the parent. A start that is empty is
// the parent's; labels are added to the parent's.
func (in *Intake) Derive(ctx context.Context, parent Artifact, dir string, skip func(string) bool, start []string, labels map[string]string) (Artifact, error) {
	var config ocispec.Image
	raw, err := in.s.small(parent.config.Digest)
	if err == nil {
		err = json.Unmarshal(raw, &config)
	}
	if err != nil {
		return Artifact{}, fmt.Errorf("read the parent's config: %w", err)
	}
	for _, l := range parent.Layers {
		in.pin(l.Digest)
	}
	before := newTree(true)
	if err := in.s.walk(parent, in.s.Limits, in.s.openLayer, before.layer); err != nil {
		return Artifact{}, fmt.Errorf("read the parent: %w", err)
	}
	layer, diff, after, err := in.difference(ctx, before, dir, skip)
	if err != nil {
		return Artifact{}, err
	}
	c := config.Config
	if len(start) == 0 {
		start = append(slices.Clone(c.Entrypoint), c.Cmd...)
	}
	if c.Entrypoint, err = after.runnable("start", start); err != nil {
		return Artifact{}, err
	}
	c.Cmd = nil
	if c.Labels == nil {
		c.Labels = map[string]string{}
	}
	for k, v := range labels {
		c.Labels[k] = v
	}
	if len(c.Labels) == 0 {
		c.Labels = nil
	}
	diffs := config.RootFS.DiffIDs
	if len(diffs) > 0 { // the parent is an ordinary OCI image, and so is the child
		diffs = append(slices.Clone(diffs), diff)
	}
	return in.synced(in.compose(ctx, append(slices.Clone(parent.Layers), layer), diffs, c))
}

// difference stores the layer that makes the tree before into the files of dir.
func (in *Intake) difference(ctx context.Context, before *tree, dir string, skip func(string) bool) (layer ocispec.Descriptor, diff digest.Digest, after *tree, err error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return layer, "", nil, err
	}
	defer root.Close()
	spool, err := os.CreateTemp(in.s.dir, "incoming-*")
	if err != nil {
		return layer, "", nil, err
	}
	defer os.Remove(spool.Name())
	defer spool.Close()

	pr, pw := io.Pipe()
	w := &layerWriter{root: root, before: before, after: newTree(false), spool: spool, plain: sha256.New(), skip: skip, limits: in.s.Limits}
	written := make(chan error, 1)
	go func() {
		defer caught.Told("writing a layer", func(err error) {
			pw.CloseWithError(err)
			written <- err
		})
		err := w.write(ctx, pw)
		pw.CloseWithError(err)
		written <- err
	}()
	d, size, err := in.put(ctx, pr, "", nil)
	pr.CloseWithError(err)
	if err := cmp.Or(<-written, err); err != nil {
		return layer, "", nil, err
	}
	layer = ocispec.Descriptor{MediaType: ocispec.MediaTypeImageLayerGzip, Digest: d, Size: size}
	return layer, digest.NewDigestFromBytes(digest.SHA256, w.plain.Sum(nil)), w.after, nil
}

type layerWriter struct {
	root          *os.Root
	before, after *tree
	spool         *os.File
	plain         hash.Hash
	skip          func(string) bool
	tar           *tar.Writer
	limits        Limits
	total         int64 // bytes of the files so far
	piece         [len(zeros)]byte
}

func (w *layerWriter) write(ctx context.Context, out io.Writer) error {
	b := bufio.NewWriterSize(out, 256<<10)
	z, err := kgzip.NewWriterLevel(b, kgzip.BestSpeed)
	if err != nil {
		return err
	}
	w.tar = tar.NewWriter(io.MultiWriter(z, w.plain))
	if err := fs.WalkDir(w.root.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		switch {
		case err != nil && errors.Is(err, fs.ErrNotExist) && name != ".":
			return nil // it went while it was read
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		case name == ".":
			return nil
		case w.skip(name):
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		return w.entry(ctx, name)
	}); err != nil {
		return fmt.Errorf("read the files: %w", err)
	}
	for name := range w.before.nodes { // what was skipped is as it was, and the way to it
		for ; w.skip(name); name = path.Dir(name) {
			w.after.nodes[name] = w.before.nodes[name]
			if dir := path.Dir(name); dir != "." && !w.skip(dir) {
				w.keep(dir)
			}
		}
	}
	if err := w.removed(); err != nil {
		return err
	}
	return errors.Join(w.tar.Close(), z.Close(), b.Flush())
}

// keep has a directory stay that would only hold what was skipped.
func (w *layerWriter) keep(dir string) {
	for ; dir != "."; dir = path.Dir(dir) {
		if _, there := w.after.nodes[dir]; !there {
			w.after.nodes[dir] = w.before.nodes[dir]
		}
	}
}

// entry writes one path unless it is as before.
func (w *layerWriter) entry(ctx context.Context, name string) error {
	info, err := w.root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	n := node{mode: int64(info.Mode().Perm())}
	h := &tar.Header{Name: name, Mode: n.mode, Format: tar.FormatPAX}
	switch {
	case info.IsDir():
		n.kind, h.Name = tar.TypeDir, name+"/"
	case info.Mode()&fs.ModeSymlink != 0:
		n.kind, n.mode = tar.TypeSymlink, 0o777
		if n.link, err = w.root.Readlink(name); err != nil {
			return err
		}
		h.Linkname, h.Mode = n.link, 0o777
		if why := harm(name, &tar.Header{Name: name, Typeflag: tar.TypeSymlink, Linkname: n.link}); why != "" {
			return &Refused{name, why}
		}
	case info.Mode().IsRegular():
		n.kind = tar.TypeReg
		if h.Size, n.sum, err = w.read(ctx, name); errors.Is(err, errGone) {
			return nil
		} else if err != nil {
			return err
		}
		w.total += h.Size
	default:
		return nil // a socket or pipe belongs to whoever made it
	}
	h.Typeflag = n.kind
	w.after.nodes[name] = n
	if old, ok := w.before.nodes[name]; ok && old.same(n) {
		return nil
	}
	if err := w.tar.WriteHeader(h); err != nil {
		return err
	}
	if n.kind == tar.TypeReg {
		if _, err := w.spool.Seek(0, io.SeekStart); err != nil {
			return err
		}
		_, err = io.CopyN(w.tar, w.spool, h.Size)
	}
	return err
}

// same reports whether a path needs no entry. Owners may always write.
func (n node) same(o node) bool {
	if n.kind == tar.TypeSymlink {
		return o.kind == n.kind && o.link == n.link
	}
	always := int64(0o600)
	if n.kind == tar.TypeDir {
		always = 0o700
	}
	return n.kind == o.kind && n.mode|always == o.mode|always && n.sum == o.sum
}

// read takes one look at a file that may change, into the spool, where what is only zeros takes no
// room. One that went or became something else meanwhile is errGone.
func (w *layerWriter) read(ctx context.Context, name string) (size int64, sum [sha256.Size]byte, err error) {
	f, err := wary.OpenIn(w.root, name)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, wary.ErrOther) {
		return 0, sum, errGone
	}
	if err != nil {
		return 0, sum, err
	}
	defer f.Close()
	full := func(bytes int64) error { // a size first: a file may be long and hold nothing
		if w.total+bytes <= w.limits.Unpacked {
			return nil
		}
		return &Refused{name, fmt.Sprintf("brings the files over the %s that an image may unpack to", words.Bytes(w.limits.Unpacked))}
	}
	info, err := f.Stat()
	if err == nil {
		err = full(info.Size())
	}
	if err := errors.Join(err, w.spool.Truncate(0)); err != nil {
		return 0, sum, err
	}
	h := sha256.New()
	for piece := w.piece[:]; ; {
		n, err := io.ReadFull(f, piece)
		if n > 0 && !bytes.Equal(piece[:n], zeros[:n]) {
			if _, err := w.spool.WriteAt(piece[:n], size); err != nil {
				return 0, sum, err
			}
		}
		h.Write(piece[:n])
		size += int64(n)
		switch {
		case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
			h.Sum(sum[:0])
			return size, sum, w.spool.Truncate(size)
		case err != nil:
			return 0, sum, err
		case ctx.Err() != nil:
			return 0, sum, ctx.Err()
		}
		if err := full(size); err != nil { // it grows while it is read
			return 0, sum, err
		}
	}
}

// errGone is that a file is not what it was when its directory was read.
var errGone = errors.New("it went while it was read")

var zeros [64 << 10]byte

// removed writes the whiteouts of what was before and is no more.
func (w *layerWriter) removed() error {
	for _, name := range sortedKeys(w.before.nodes) {
		if _, there := w.after.nodes[name]; there || w.skip(name) {
			continue
		}
		dir, base := path.Split(name)
		if _, there := w.after.nodes[path.Clean(dir)]; !there && dir != "" {
			continue // it went with its directory
		}
		if n, ok := w.after.nodes[path.Clean(dir)]; ok && n.kind != tar.TypeDir {
			continue // its directory is a file now
		}
		if err := w.tar.WriteHeader(&tar.Header{Name: dir + whiteout + base, Typeflag: tar.TypeReg, Mode: 0o644, Format: tar.FormatPAX}); err != nil {
			return err
		}
	}
	return nil
}

// SkipNothing leaves nothing out.
func SkipNothing(string) bool { return false }

// OwnOfInstance reports whether a path is of one instance alone: its logs, its
// sockets' directories, its name and what it made while it ran.
func OwnOfInstance(name string) bool {
	for _, own := range []string{"run", "tmp", "log", "logs", "var/run", "var/tmp", "var/log", "etc/hostname", "etc/hosts", "etc/machine-id"} {
		if strings.HasPrefix(name, own+"/") || (name == own && strings.HasPrefix(own, "etc/")) {
			return true
		}
	}
	return strings.HasSuffix(name, ".log") || strings.HasSuffix(name, ".pid") || strings.HasSuffix(name, ".sock")
}

// UnpackArchive writes the files of a compressed tar archive into dir, within
// the usual limits.
func UnpackArchive(r io.Reader, dir string, limits Limits) error {
	z, err := limits.unzip(r)
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	u, w := unpacker{root, -1}, walk{limits: limits}
	return w.layer(z, u.layer())
}
