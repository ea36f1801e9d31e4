// Package datadir looks after the directory in which the service keeps its things:
// who may enter it, how its files are written, and whether there is room.
//
// A block is the part of a host's loopback addresses and users that a data directory owns.
package datadir

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// Enterable reports a directory that somebody else than its owner could not enter,
// dir itself or one above it, with what to do about it. who is told, such as
// "machines run as unprivileged users". What is not there yet is passed over.
func Enterable(dir, who string) error {
	for d := dir; d != "/" && d != "."; d = filepath.Dir(d) {
		info, err := os.Stat(d)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if info.Mode()&0o001 == 0 {
			return fmt.Errorf("%s, who may not enter %s; give --data another directory, or: chmod o+x %s", who, d, d)
		}
	}
	return nil
}

// WriteFile writes a file so that a crash of the machine leaves it as it was or as
// it should be, never half.
func WriteFile(name string, content []byte, mode os.FileMode) error {
	half := name + ".half"
	f, err := os.OpenFile(half, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err == nil {
		err = f.Sync()
	}
	if err := errors.Join(err, f.Close()); err != nil {
		os.Remove(half)
		return err
	}
	if err := os.Rename(half, name); err != nil {
		return err
	}
	return syncDir(filepath.Dir(name))
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Space watches how much room the disk of a directory has. Its methods are safe for
// concurrent use.
type Space struct {
	dir   string
	least int64

	mu     sync.Mutex
	looked time.Time
	free   int64
	err    error
}

// lookEvery is how old what is known of a disk may be.
const lookEvery = time.Second

// NewSpace watches the disk of dir, of which so many bytes are to stay free.
func NewSpace(dir string, least int64) *Space { return &Space{dir: dir, least: least} }

// Full is a disk that has less left than is to stay free.
type Full struct {
	Free, Least int64 // bytes
}

func (f *Full) Error() string {
	return fmt.Sprintf("the disk of the service has %d MiB left, and %d MiB are kept free; make room, and it goes on by itself", f.Free>>20, f.Least>>20)
}

// Is reports a full disk as the operating system does.
func (f *Full) Is(target error) bool { return target == syscall.ENOSPC }

// Free is how many bytes are left for the service.
func (s *Space) Free() (int64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := time.Now(); now.Sub(s.looked) >= lookEvery {
		var fs syscall.Statfs_t
		s.looked, s.err = now, syscall.Statfs(s.dir, &fs)
		s.free = int64(fs.Bavail) * fs.Bsize
	}
	return s.free, s.err
}

// Room returns nil while there is room for more, else *[Full]. A nil Space has room
// always.
func (s *Space) Room() error {
	if s == nil {
		return nil
	}
	free, err := s.Free()
	if err == nil && free < s.least {
		return &Full{free, s.least}
	}
	return nil
}
