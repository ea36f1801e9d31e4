package image

import (
	"archive/tar"
	"cmp"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"
	"syscall"
)

// node is one path of an artifact's files.
type node struct {
	kind byte // a tar type: TypeReg, TypeDir or TypeSymlink
	mode int64
	link string
	sum  [sha256.Size]byte // of a file's content, when sums are taken
}

// tree is what the layers of an artifact unpack to.
type tree struct {
	nodes    map[string]node
	sums     bool
	manifest []byte // the content of ManifestName
	comesIn  bool   // what could not be laid out is refused
}

func newTree(sums bool) *tree { return &tree{nodes: map[string]node{}, sums: sums} }

// layer returns what takes the entries of the next layer in.
func (t *tree) layer() visit {
	fresh := map[string]bool{}
	return func(name string, h *tar.Header, content io.Reader) error {
		dir, base := path.Split(name)
		dir = path.Clean(dir)
		switch {
		case base == opaqueWhiteout:
			t.remove(dir, func(below string) bool { return below != dir && !fresh[below] })
			return nil
		case strings.HasPrefix(base, whiteout):
			gone := path.Join(dir, strings.TrimPrefix(base, whiteout))
			t.remove(gone, func(string) bool { return true })
			return nil
		}
		n := node{kind: h.Typeflag, mode: h.Mode & 0o777, link: h.Linkname}
		switch h.Typeflag {
		case tar.TypeLink:
			target, ok := t.nodes[path.Clean(h.Linkname)]
			if !ok {
				return &Refused{h.Name, fmt.Sprintf("is a hard link to %q, which does not come before it", h.Linkname)}
			}
			n = target
		case tar.TypeReg:
			if err := t.read(name, content, &n); err != nil {
				return err
			}
		}
		if old, ok := t.nodes[name]; ok && (old.kind != tar.TypeDir || n.kind != tar.TypeDir) {
			t.remove(name, func(string) bool { return true })
		}
		if t.comesIn {
			if why := cmp.Or(unfit(name, h), t.unreachable(dir)); why != "" {
				return &Refused{h.Name, why}
			}
		}
		for d := dir; d != "."; d = path.Dir(d) {
			if _, ok := t.nodes[d]; !ok {
				t.nodes[d] = node{kind: tar.TypeDir, mode: 0o755}
			}
		}
		t.nodes[name], fresh[name] = n, true
		return nil
	}
}

// mostLinks is how many links a path may go through, as on a machine.
const mostLinks = 40

// unreachable says why nothing can be laid out in a directory, or "": a part of its path is a file, or
// a link to what is none, or to nothing yet.
func (t *tree) unreachable(dir string) string {
	left := strings.Split(dir, "/")
	at, links := ".", 0
	for len(left) > 0 {
		part := left[0]
		left = left[1:]
		if part == "." || part == "" {
			continue
		}
		if at = path.Join(at, part); outside(at) {
			return fmt.Sprintf("goes through %q, a link out of the machine's directory", dir)
		}
		n, ok := t.nodes[at]
		switch {
		case !ok && links > 0:
			return fmt.Sprintf("goes through %q, a link to what is not there", dir)
		case !ok || n.kind == tar.TypeDir:
		case n.kind != tar.TypeSymlink:
			return fmt.Sprintf("lies below %q, which is a file", at)
		default:
			if links++; links > mostLinks {
				return fmt.Sprintf("goes through %q, whose links lead in a circle", dir)
			}
			left = append(strings.Split(n.link, "/"), left...)
			at = path.Dir(at)
		}
	}
	return ""
}

func (t *tree) read(name string, content io.Reader, n *node) error {
	if name == ManifestName {
		raw, err := io.ReadAll(io.LimitReader(content, maxManifest))
		if err != nil {
			return damaged(err)
		}
		t.manifest = raw
		n.sum = sha256.Sum256(raw)
		return nil
	}
	if !t.sums {
		return nil
	}
	h := sha256.New()
	if _, err := io.Copy(h, content); err != nil {
		return damaged(err)
	}
	h.Sum(n.sum[:0])
	return nil
}

func (t *tree) remove(name string, if_ func(string) bool) {
	for below := range t.nodes {
		if (below == name || strings.HasPrefix(below, name+"/") || name == ".") && if_(below) {
			delete(t.nodes, below)
		}
	}
}

// runnable checks what an artifact starts against its files, and returns it as
// machines start it: a file of the image as a path from its root.
func (t *tree) runnable(where string, start []string) ([]string, error) {
	program := start[0]
	if !strings.Contains(program, "/") {
		return start, nil
	}
	if path.IsAbs(program) {
		if _, ok := t.nodes[strings.TrimPrefix(path.Clean(program), "/")]; !ok {
			return start, nil // a program of the machine's own system
		}
		program = "." + path.Clean(program)
		start = append([]string{program}, start[1:]...)
	}
	n, ok := t.nodes[path.Clean(program)]
	switch {
	case !ok:
		return nil, &Refused{where, fmt.Sprintf("starts %q, which is not in the archive", program)}
	case n.kind == tar.TypeReg && n.mode&0o111 == 0:
		return nil, &Refused{program, "is what the image starts, and is not executable; chmod +x it"}
	}
	return start, nil
}

// unpacker writes the entries of layers below root, which confines every path,
// whatever links say. Files belong to uid when it is not negative.
type unpacker struct {
	root *os.Root
	uid  int
}

func (u *unpacker) own(name string) error {
	if u.uid < 0 {
		return nil
	}
	return u.root.Lchown(name, u.uid, u.uid)
}

// dir makes a directory and those above it.
func (u *unpacker) dir(name string) error {
	if name == "." {
		return nil
	}
	if info, err := u.root.Lstat(name); err == nil && info.IsDir() {
		return nil
	}
	if err := u.dir(path.Dir(name)); err != nil {
		return err
	}
	if err := u.root.Mkdir(name, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	return u.own(name)
}

func (u *unpacker) layer() visit {
	fresh := map[string]bool{}
	return func(name string, h *tar.Header, content io.Reader) error {
		dir, base := path.Split(name)
		dir = path.Clean(dir)
		switch {
		case base == opaqueWhiteout:
			return u.clear(dir, fresh)
		case strings.HasPrefix(base, whiteout):
			return u.root.RemoveAll(path.Join(dir, strings.TrimPrefix(base, whiteout)))
		}
		if err := u.dir(dir); err != nil {
			return err
		}
		fresh[name] = true
		if info, err := u.root.Lstat(name); err == nil && (!info.IsDir() || h.Typeflag != tar.TypeDir) {
			if err := u.root.RemoveAll(name); err != nil {
				return err
			}
		}
		return u.write(name, h, content)
	}
}

func (u *unpacker) clear(dir string, but map[string]bool) error {
	d, err := u.root.Open(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Close()
	names, err := d.Readdirnames(-1)
	for _, n := range names {
		if below := path.Join(dir, n); !but[below] {
			err = errors.Join(err, u.root.RemoveAll(below))
		}
	}
	return err
}

func (u *unpacker) write(name string, h *tar.Header, content io.Reader) error {
	mode := os.FileMode(h.Mode) & 0o777
	switch h.Typeflag {
	case tar.TypeDir:
		if err := u.dir(name); err != nil {
			return err
		}
		if err := u.root.Chmod(name, mode|0o700); err != nil {
			return err
		}
	case tar.TypeSymlink:
		if err := u.root.Symlink(h.Linkname, name); err != nil {
			return err
		}
	case tar.TypeLink:
		return u.root.Link(path.Clean(h.Linkname), name)
	default:
		if mode&0o111 != 0 {
			// A fork that holds the file open for writing would keep it from being run.
			syscall.ForkLock.RLock()
			defer syscall.ForkLock.RUnlock()
		}
		f, err := u.root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode|0o600)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, content)
		if err := errors.Join(err, f.Chmod(mode|0o600), f.Close()); err != nil {
			return err
		}
	}
	return u.own(name)
}
