package process

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"unitas/internal/datadir"
	"unitas/internal/machine"
)

// Several services may share the directory of the machines. One holds a machine while it
// acts on it, and an order under an old lease is refused then: whatever a service meant
// to do before it was held up, it finds out that it is deposed before it does it.

const (
	heldAtMost = 30 * time.Second
	fencesKept = 10_000 // notes of epochs
)

func (d *Driver) own(parts ...string) string {
	return filepath.Join(append([]string{d.Dir, ".services"}, parts...)...)
}

// hold takes the machine for one service alone, and refuses an order that is not under
// the newest lease. Nobody acts on it before release is called.
func (d *Driver) hold(ctx context.Context, o machine.Order) (release func() error, err error) {
	if o.ID == "" || filepath.Base(o.ID) != o.ID || strings.HasPrefix(o.ID, ".") {
		return nil, fmt.Errorf("%q is no id", o.ID)
	}
	file := d.own("locks", o.ID)
	let, err := lock(ctx, file)
	if err != nil {
		return nil, err
	}
	release = func() error {
		if _, err := os.Stat(d.dir(o.ID)); errors.Is(err, os.ErrNotExist) {
			_ = os.Remove(file) // nobody needs it any more; who waits for it notices
		}
		return let()
	}
	if o.Epoch == 0 {
		return release, nil
	}
	newest, err := d.epoch(o.Group)
	if err == nil && o.Epoch < newest {
		err = machine.ErrDeposed
	}
	if err != nil {
		return nil, errors.Join(err, release())
	}
	return release, nil
}

// lock takes a file of locks, as one among all services.
func lock(ctx context.Context, file string) (let func() error, err error) {
	ctx, cancel := context.WithTimeoutCause(ctx, heldAtMost, errors.New("it is at work on it and does not go on"))
	defer cancel()
	f, err := datadir.Lock(ctx, file, syscall.LOCK_EX)
	if err != nil {
		return nil, err
	}
	return f.Close, nil
}

func (d *Driver) fence(group string) string { return d.own("epochs", group) }

// epoch is the newest that there was an order of for the group, 0 when there was none.
func (d *Driver) epoch(group string) (int64, error) {
	raw, err := os.ReadFile(d.fence(group))
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(strings.TrimSpace(string(raw)), 10, 64)
}

// Fence has no order under an older lease accepted from now on, from whichever service.
func (d *Driver) Fence(ctx context.Context, group string, epoch int64) error {
	if group == "" || filepath.Base(group) != group {
		return fmt.Errorf("%q is no group", group)
	}
	release, err := lock(ctx, d.own("fence"))
	if err != nil {
		return err
	}
	newest, err := d.epoch(group)
	switch {
	case err != nil:
	case newest > epoch:
		err = machine.ErrDeposed
	case newest < epoch:
		err = datadir.WriteFile(d.fence(group), fmt.Appendf(nil, "%d\n", epoch), 0o600)
	}
	return errors.Join(err, release())
}

// forgetFences removes the notes of epochs that are the longest unchanged, of groups that
// are long gone, beyond how many are kept.
func (d *Driver) forgetFences() { forgetOldest(d.own("epochs"), fencesKept, 1<<40) }
