// Package wary opens and reads files in places where somebody else may write: a workload, an
// image, a recipe. Such a name may be a link to anywhere, a pipe that nobody fills, or a file
// without end; none of these is followed, waited for, or read whole.
package wary

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"
)

// ErrOther is that a name is there and is no regular file, or another than it was a moment ago.
var ErrOther = errors.New("it is no file")

// Open opens a regular file for reading. A link as the last part of the name is not followed, and
// a pipe is not waited for; either is [ErrOther]. The way to it must be our own.
func Open(name string) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if errors.Is(err, syscall.ELOOP) || errors.Is(err, syscall.ENXIO) {
		return nil, fmt.Errorf("%s: %w", filepath.Base(name), ErrOther)
	}
	if err != nil {
		return nil, err
	}
	return regular(f, nil)
}

// OpenIn opens a regular file below a root, which no link leads out of.
func OpenIn(root *os.Root, name string) (*os.File, error) {
	was, err := root.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !was.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: %w", name, ErrOther)
	}
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return regular(f, was)
}

func regular(f *os.File, was os.FileInfo) (*os.File, error) {
	info, err := f.Stat()
	if err == nil && (!info.Mode().IsRegular() || (was != nil && !os.SameFile(was, info))) {
		err = fmt.Errorf("%s: %w", filepath.Base(f.Name()), ErrOther)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Read reads a file that has at most so many bytes; a longer one is an error.
func Read(name string, most int64) ([]byte, error) {
	f, err := Open(name)
	if err != nil {
		return nil, err
	}
	return whole(f, most)
}

// ReadIn reads a file below a root that has at most so many bytes; a longer one is an error.
func ReadIn(root *os.Root, name string, most int64) ([]byte, error) {
	f, err := OpenIn(root, name)
	if err != nil {
		return nil, err
	}
	return whole(f, most)
}

func whole(f *os.File, most int64) ([]byte, error) {
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(raw)) > most {
		return nil, fmt.Errorf("%s is longer than %d bytes", filepath.Base(f.Name()), most)
	}
	return raw, err
}
