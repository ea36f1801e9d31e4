package datadir

import (
	"context"
	"errors"
	"fmt"
	"os"
	"syscall"
	"time"
)

// ErrHeld is why a file of locks was not taken: somebody else has it.
var ErrHeld = errors.New("another service has it")

// lockLook is how often a file of locks that somebody has is looked at.
const lockLook = 10 * time.Millisecond

// Held is a file of locks that is held.
type Held struct{ file *os.File }

// Name is the name of the file.
func (h *Held) Name() string { return h.file.Name() }

// Close gives it back. To close the file would not do: a child has it open as well, from
// its fork until it runs another program.
func (h *Held) Close() error {
	return errors.Join(syscall.Flock(int(h.file.Fd()), syscall.LOCK_UN), h.file.Close())
}

// TryLock takes a file of locks, which it makes when there is none; how is
// [syscall.LOCK_EX] or [syscall.LOCK_SH]. It is given back when it is closed, and by the
// end of the process. It returns [ErrHeld] when somebody else has it.
func TryLock(name string, how int) (*Held, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	err = syscall.Flock(int(f.Fd()), how|syscall.LOCK_NB)
	if err == nil && isStill(f, name) {
		return &Held{f}, nil
	}
	(&Held{f}).Close()
	if err == nil || errors.Is(err, syscall.EWOULDBLOCK) || errors.Is(err, syscall.EINTR) {
		return nil, ErrHeld // or it was removed, and the next look finds another
	}
	return nil, err
}

// Lock is [TryLock] again and again until the context ends; the error has its cause then.
func Lock(ctx context.Context, name string, how int) (*Held, error) {
	for {
		f, err := TryLock(name, how)
		if !errors.Is(err, ErrHeld) {
			return f, err
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("%w: %w", err, context.Cause(ctx))
		case <-time.After(lockLook):
		}
	}
}

// isStill reports whether an open file is the one of its name.
func isStill(f *os.File, name string) bool {
	mine, err := f.Stat()
	if err != nil {
		return false
	}
	there, err := os.Stat(name)
	return err == nil && os.SameFile(mine, there)
}
