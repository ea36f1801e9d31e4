package image

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"unitas/internal/datadir"
)

// claims tell the services that share a store of each other: none removes what another is
// taking in. Each has a file of its own, which it holds while something comes in; who
// removes looks whether any is held, and nobody begins to take in meanwhile.
type claims struct {
	dir string
	own string

	mu   sync.Mutex
	held *datadir.Held
	n    int // intakes under way
}

func openClaims(store string) (*claims, error) {
	c := &claims{dir: store + ".services", own: rand.Text()} // beside it: an image layout has nothing else in it
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return nil, fmt.Errorf("open the image store: %w", err)
	}
	return c, nil
}

// removeLimit is how long a service that removes is waited for.
const removeLimit = 30 * time.Second

func (c *claims) file() string { return filepath.Join(c.dir, "removing") }

// begin says that something comes in; it waits while another service removes.
func (c *claims) begin() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.n > 0 {
		c.n++
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), removeLimit)
	defer cancel()
	gate, err := datadir.Lock(ctx, c.file(), syscall.LOCK_SH)
	if err != nil {
		return err
	}
	defer gate.Close()
	if c.held, err = datadir.TryLock(filepath.Join(c.dir, c.own+".takes"), syscall.LOCK_EX); err != nil {
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
	gate, err := datadir.TryLock(c.file(), syscall.LOCK_EX)
	if errors.Is(err, datadir.ErrHeld) {
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
		f, err := datadir.TryLock(name, syscall.LOCK_EX)
		if errors.Is(err, datadir.ErrHeld) {
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
