// Package image keeps the artifacts that machines start from.
//
// An artifact is a gzip-compressed tar archive with a manifest, unitas.yaml,
// at its root. It is stored once under the SHA-256 digest of its bytes, and
// only after every entry was read to its end and found harmless.
package image

import (
	"archive/tar"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"sigs.k8s.io/yaml"
)

// ManifestName is the file at the root of an archive that says what to start.
const ManifestName = "unitas.yaml"

// Bounds of what an archive may unpack to.
const (
	maxUnpacked = 8 << 30
	maxEntries  = 200_000
	maxManifest = 64 << 10
)

// Manifest says what a machine started from the archive runs.
type Manifest struct {
	// Start is the program and its arguments. A program with a slash that does
	// not begin with one is a file of the archive.
	Start []string `json:"start"`
}

// Refused is an archive that cannot be used, with the entry at fault.
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

// walk reads the archive to its end and calls visit for every harmless entry,
// with the cleaned path.
func walk(r io.Reader, visit func(name string, h *tar.Header, content io.Reader) error) error {
	packed, err := gzip.NewReader(r)
	if err != nil {
		return &Refused{Why: "it is not a gzip-compressed tar archive; make one with: tar -czf FILE -C DIR ."}
	}
	archive := tar.NewReader(packed)
	seen := map[string]bool{}
	var unpacked int64
	for {
		h, err := archive.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return damaged(err)
		}
		name := path.Clean(h.Name)
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
		if unpacked += h.Size; unpacked > maxUnpacked {
			return &Refused{h.Name, "makes the archive unpack to more than 8 GiB"}
		}
		if len(seen) > maxEntries {
			return &Refused{h.Name, fmt.Sprintf("is one of more than %d entries", maxEntries)}
		}
		if err := visit(name, h, archive); err != nil {
			return err
		}
	}
	// The checksum at the end of the gzip stream is only looked at there.
	if _, err := io.Copy(io.Discard, packed); err != nil {
		return damaged(err)
	}
	return nil
}

func damaged(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return &Refused{Why: "the archive ends too early; it was cut off"}
	}
	return &Refused{Why: "the archive is damaged: " + err.Error()}
}

// harm says what is wrong with an entry, or nothing.
func harm(name string, h *tar.Header) string {
	switch {
	case path.IsAbs(h.Name):
		return "has an absolute path; paths must lie inside the archive"
	case name == ".." || strings.HasPrefix(name, "../"):
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

// inspect reads an archive to its end and returns its manifest.
func inspect(r io.Reader) (Manifest, error) {
	var raw []byte
	files := map[string]int64{} // mode by path
	err := walk(r, func(name string, h *tar.Header, content io.Reader) error {
		files[name] = h.Mode
		if name != ManifestName {
			return nil
		}
		var err error
		raw, err = io.ReadAll(io.LimitReader(content, maxManifest))
		if err != nil {
			return damaged(err)
		}
		return nil
	})
	if err != nil {
		return Manifest{}, err
	}
	if raw == nil {
		return Manifest{}, &Refused{Why: "the archive has no " + ManifestName + " at its root; it says what to start, such as: start: [./timetable]"}
	}
	var m Manifest
	if err := yaml.UnmarshalStrict(raw, &m); err != nil {
		return Manifest{}, &Refused{ManifestName, "cannot be read: " + err.Error()}
	}
	if len(m.Start) == 0 || m.Start[0] == "" {
		return Manifest{}, &Refused{ManifestName, "does not say what to start; give start: [./PROGRAM, ARGUMENT…]"}
	}
	if program := m.Start[0]; strings.Contains(program, "/") && !path.IsAbs(program) {
		mode, ok := files[path.Clean(program)]
		if !ok {
			return Manifest{}, &Refused{ManifestName, fmt.Sprintf("starts %q, which is not in the archive", program)}
		}
		if mode&0o111 == 0 {
			return Manifest{}, &Refused{program, "is what the manifest starts, and is not executable; chmod +x it"}
		}
	}
	return m, nil
}

// unpack writes the entries of an archive below root, which confines every
// path, whatever links say. Files belong to uid when it is not negative.
func unpack(r io.Reader, root *os.Root, uid int) error {
	own := func(name string) error {
		if uid < 0 {
			return nil
		}
		return root.Lchown(name, uid, uid)
	}
	return walk(r, func(name string, h *tar.Header, content io.Reader) error {
		if dir := path.Dir(name); dir != "." {
			if err := root.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			if err := own(dir); err != nil {
				return err
			}
		}
		mode := os.FileMode(h.Mode) & 0o777
		switch h.Typeflag {
		case tar.TypeDir:
			if err := root.MkdirAll(name, mode|0o700); err != nil {
				return err
			}
		case tar.TypeSymlink:
			if err := root.Symlink(h.Linkname, name); err != nil {
				return err
			}
		case tar.TypeLink:
			return root.Link(path.Clean(h.Linkname), name)
		default:
			f, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode|0o600)
			if err != nil {
				return err
			}
			_, err = io.Copy(f, content)
			if err := errors.Join(err, f.Close()); err != nil {
				return err
			}
		}
		return own(name)
	})
}
