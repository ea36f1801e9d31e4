package image

import (
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// claims tell the services that share a store of each other: none removes what another is
// taking in. Each has a file of its own, which it holds while something comes in; who
// removes looks whether any is held, and nobody begins to take in meanwhile.
type claims struct {
	dir string
	own string

	mu   sync.Mutex
	held *os.File
	n    int // intakes under way
}

func openClaims(store string) (*claims, error) {
	c := &claims{dir: store + ".services", own: rand.Text()} // beside it: an image layout has nothing else in it
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return nil, fmt.Errorf("open the image store: %w", err)
	}
	return c, nil
}

// How long a service that removes is waited for, and how often it is looked.
const (
	removeLimit = 30 * time.Second
	removeLook  = 10 * time.Millisecond
)

// lock takes a file of locks, or reports [syscall.EWOULDBLOCK] when another has it for as
// long as may be waited.
func lock(name string, how int, wait time.Duration) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	for until := time.Now().Add(wait); ; time.Sleep(removeLook) {
		err := syscall.Flock(int(f.Fd()), how|syscall.LOCK_NB)
		if err == nil {
			return f, nil
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) && !errors.Is(err, syscall.EINTR) || time.Now().After(until) {
			return nil, errors.Join(err, f.Close())
		}
	}
}

func (c *claims) file() string { return filepath.Join(c.dir, "removing") }

// begin says that something comes in; it waits while another service removes.
func (c *claims) begin() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.n > 0 {
		c.n++
		return nil
	}
	gate, err := lock(c.file(), syscall.LOCK_SH, removeLimit)
	if err != nil {
		return err
	}
	defer gate.Close()
	if c.held, err = lock(filepath.Join(c.dir, c.own+".takes"), syscall.LOCK_EX, 0); err != nil {
		return err
	}
	c.n++
	return nil
}

func (c *claims) end() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.n--; c.n == 0 {
		_ = os.Remove(c.held.Name())
		_ = c.held.Close()
	}
}

// remove does something while no other service takes anything in; done is false when one
// does.
func (c *claims) remove(do func() error) (done bool, err error) {
	gate, err := lock(c.file(), syscall.LOCK_EX, 0)
	if errors.Is(err, syscall.EWOULDBLOCK) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer gate.Close()
	names, err := filepath.Glob(filepath.Join(c.dir, "*.takes"))
	if err != nil {
		return false, err
	}
	for _, name := range names {
		if name == filepath.Join(c.dir, c.own+".takes") {
			continue
		}
		f, err := lock(name, syscall.LOCK_EX, 0)
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		err = errors.Join(os.Remove(name), f.Close()) // of one that was killed
		if err != nil {
			return false, err
		}
	}
	return true, do()
}
