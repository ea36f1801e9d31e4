// Package image keeps the artifacts that machines start from.
//
// An artifact is an OCI image: a manifest, a config that says what to start,
// and layers, each a tar archive of files. Everything is a blob under the
// SHA-256 digest of its bytes in an OCI image layout, one [Store] for each
// region, and is an artifact only after every entry of every layer was read to
// its end and found harmless.
//
// An intake is the taking in of one image: what it brought stays only when it is kept. A claim says
// that something comes in, so that no other service removes.
package image

import (
	"archive/tar"
	"compress/flate"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode"

	kflate "github.com/klauspost/compress/flate"
	kgzip "github.com/klauspost/compress/gzip"
	"sigs.k8s.io/yaml"

	"unitas/internal/fleet/words"
)

// ManifestName is the file at the root of an archive that says what to start.
const ManifestName = "unitas.yaml"

// maxManifest bounds the files and blobs that are read into memory.
const maxManifest = 4 << 20

// Limits are the bounds of what an artifact may unpack to.
type Limits struct {
	Unpacked int64 // bytes
	Entries  int
	// Ratio of unpacked to packed bytes that is refused beyond RatioFrom bytes.
	Ratio     int64
	RatioFrom int64
}

// DefaultLimits let real machine images pass and bombs not.
var DefaultLimits = Limits{Unpacked: 8 << 30, Entries: 200_000, Ratio: 200, RatioFrom: 64 << 20}

// Manifest says what a machine started from an archive runs.
type Manifest struct {
	// Start is the program and its arguments. A program with a slash that does
	// not begin with one is a file of the archive.
	Start []string `json:"start"`
}

// Refused is an artifact that cannot be used, with the entry at fault.
type Refused struct {
	Entry string
	Why   string
}

func (r *Refused) Error() string {
	if r.Entry == "" {
		return r.Why
	}
	return fmt.Sprintf("entry %q %s", r.Entry, r.Why)
}

func refused(format string, args ...any) error { return &Refused{Why: fmt.Sprintf(format, args...)} }

// Marks of removed files in a layer, of the OCI image specification.
const (
	whiteout       = ".wh."
	opaqueWhiteout = ".wh..wh..opq"
)

// walk reads the layers of one artifact and counts what they unpack to.
type walk struct {
	limits   Limits
	foreign  bool // absolute links mean the root of the image, as in images of others
	unpacked int64
	entries  int
}

// visit is called for a harmless entry, with the cleaned path.
type visit func(name string, h *tar.Header, content io.Reader) error

// layer reads an uncompressed layer to its end.
func (w *walk) layer(r io.Reader, see visit) error {
	archive := tar.NewReader(r)
	seen := map[string]bool{}
	for {
		h, err := archive.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return damaged(err)
		}
		name := path.Clean(h.Name)
		if h.Typeflag == tar.TypeSymlink && w.foreign && path.IsAbs(h.Linkname) {
			h.Linkname = fromRoot(name, h.Linkname)
		}
		if why := harm(name, h); why != "" {
			return &Refused{h.Name, why}
		}
		if name == "." {
			continue
		}
		if seen[name] && h.Typeflag != tar.TypeDir {
			return &Refused{h.Name, "is in the archive twice"}
		}
		seen[name] = true
		if w.unpacked += h.Size; w.unpacked > w.limits.Unpacked {
			return &Refused{h.Name, fmt.Sprintf("makes the archive unpack to more than %s", words.Bytes(w.limits.Unpacked))}
		}
		if w.entries++; w.entries > w.limits.Entries {
			return &Refused{h.Name, fmt.Sprintf("is one of more than %d entries", w.limits.Entries)}
		}
		if err := see(name, h, archive); err != nil {
			return err
		}
	}
	// The checksum at the end of a gzip stream is only looked at there.
	if _, err := io.Copy(io.Discard, r); err != nil {
		return damaged(err)
	}
	return nil
}

// fromRoot writes a link to a path from the image's root as one from the
// directory of name.
func fromRoot(name, target string) string {
	up := strings.Repeat("../", strings.Count(name, "/"))
	return up + strings.TrimPrefix(path.Clean(target), "/")
}

// damaged gives a fault of the bytes the words of this package.
func damaged(err error) error {
	var r *Refused
	var stream flate.CorruptInputError
	var fast kflate.CorruptInputError
	switch {
	case errors.As(err, &r):
		return r
	case errors.Is(err, io.ErrUnexpectedEOF):
		return refused("the archive ends too early; it was cut off")
	case errors.Is(err, gzip.ErrHeader), errors.Is(err, gzip.ErrChecksum), errors.Is(err, kgzip.ErrHeader), errors.Is(err, kgzip.ErrChecksum),
		errors.Is(err, tar.ErrHeader), errors.Is(err, tar.ErrFieldTooLong), errors.As(err, &stream), errors.As(err, &fast):
		return refused("the archive is damaged: %v", err)
	}
	return err
}

// unfit says why an entry that comes in is not taken, or nothing: a machine could not lay it out, or its
// name would act on whoever reads it. Images that came in before are not asked.
func unfit(name string, h *tar.Header) string {
	switch {
	case len(name) > longestPath:
		return fmt.Sprintf("has a path of %d bytes; a machine takes at most %d", len(name), longestPath)
	case len(h.Linkname) > longestPath:
		return fmt.Sprintf("links to a path of %d bytes; a machine takes at most %d", len(h.Linkname), longestPath)
	case strings.ContainsFunc(name+h.Linkname, unicode.IsControl):
		return "has a control character in its name or in what it links to"
	}
	for part := range strings.SplitSeq(name, "/") {
		if len(part) > longestName {
			return fmt.Sprintf("has a name of %d bytes in its path; a machine takes at most %d", len(part), longestName)
		}
	}
	return ""
}

// What a machine's file system takes, in bytes: a path below its directory, and one name of it.
const (
	longestPath = 3072
	longestName = 255
)

// harm says what is wrong with an entry, or nothing.
func harm(name string, h *tar.Header) string {
	switch {
	case path.IsAbs(h.Name):
		return "has an absolute path; paths must lie inside the archive"
	case outside(name):
		return "would leave the machine's directory"
	case strings.ContainsRune(h.Name, 0):
		return "has a zero byte in its name"
	}
	switch h.Typeflag {
	case tar.TypeReg, tar.TypeDir:
	case tar.TypeSymlink:
		if path.IsAbs(h.Linkname) || outside(path.Join(path.Dir(name), h.Linkname)) {
			return fmt.Sprintf("links to %q outside the machine's directory", h.Linkname)
		}
	case tar.TypeLink:
		if path.IsAbs(h.Linkname) || outside(path.Clean(h.Linkname)) {
			return fmt.Sprintf("links to %q outside the machine's directory", h.Linkname)
		}
	default:
		return "is a device or another special file; only files, directories and links are allowed"
	}
	return ""
}

func outside(name string) bool { return name == ".." || strings.HasPrefix(name, "../") }

// unzip reads a layer through gzip and refuses a bomb while it goes off.
func (l Limits) unzip(r io.Reader) (io.Reader, error) {
	packed := &counter{r: r}
	z, err := kgzip.NewReader(packed)
	if err != nil {
		return nil, refused("it is not a gzip-compressed tar archive; make one with: tar -czf FILE -C DIR .")
	}
	return &unzipped{z: z, packed: packed, limits: l}, nil
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

type unzipped struct {
	z      io.Reader
	packed *counter
	limits Limits
	n      int64
}

func (u *unzipped) Read(p []byte) (int, error) {
	n, err := u.z.Read(p)
	u.n += int64(n)
	// Besides the files there are their headers: at most as much again and some.
	if u.n > u.limits.Unpacked+int64(u.limits.Entries)*2048 {
		return 0, refused("the archive unpacks to more than %s", words.Bytes(u.limits.Unpacked))
	}
	if u.n > u.limits.RatioFrom && u.n > u.limits.Ratio*u.packed.n {
		return 0, refused("the archive unpacks to more than %d times its size; nothing real does", u.limits.Ratio)
	}
	return n, err
}

// readManifest reads the file that says what to start.
func readManifest(raw []byte) (Manifest, error) {
	var m Manifest
	if raw == nil {
		return m, refused("the archive has no %s at its root; it says what to start, such as: start: [./timetable]", ManifestName)
	}
	if err := yaml.UnmarshalStrict(raw, &m); err != nil {
		return m, &Refused{ManifestName, "cannot be read: " + err.Error()}
	}
	if len(m.Start) == 0 || m.Start[0] == "" {
		return m, &Refused{ManifestName, "does not say what to start; give start: [./PROGRAM, ARGUMENT…]"}
	}
	return m, nil
}
