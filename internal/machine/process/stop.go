package process

import (
	"context"
	"errors"
	"fmt"
	"os"
	"syscall"
	"time"

	"unitas/internal/machine"
)

// Stop ends the machine and clears its directory. Its boot log is kept for a
// while.
func (d *Driver) Stop(ctx context.Context, o machine.Order, grace time.Duration) error {
	defer d.begin(o.ID)() // of what is being cleared nothing is said
	was, err := d.quit(ctx, o, grace, false)
	if err != nil {
		return err
	}
	return d.holding(ctx, o, func() error {
		if d.isAnother(o.ID, was) {
			return nil // started again meanwhile, by who has the lease now
		}
		d.endAll(o.ID)
		d.groups.remove(o.ID)
		d.keepLog(o.ID)
		return os.RemoveAll(d.dir(o.ID))
	})
}

// quit ends the first process of a machine, which it returns; quietly, without telling
// the watcher.
func (d *Driver) quit(ctx context.Context, o machine.Order, grace time.Duration, quiet bool) (*identity, error) {
	var r *running
	err := d.holding(ctx, o, func() (err error) {
		r, err = d.find(o.ID)
		return err
	})
	if err != nil || r == nil {
		return nil, err
	}
	d.mu.Lock()
	r.quiet = quiet
	d.mu.Unlock()
	_ = syscall.Kill(-r.id.PID, syscall.SIGTERM)
	timer := time.NewTimer(grace)
	defer timer.Stop()
	select {
	case <-r.ended:
		return &r.id, nil
	case <-timer.C:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	_ = syscall.Kill(-r.id.PID, syscall.SIGKILL)
	select {
	case <-r.ended:
		return &r.id, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// isAnother reports whether the machine by its record has a process other than the one
// that was ended.
func (d *Driver) isAnother(id string, was *identity) bool {
	rec, err := d.read(id)
	return err == nil && was != nil && rec.Process != nil && *rec.Process != *was && rec.Process.alive()
}

// endRest ends what is left of a machine whose first process is dead, unless the machine
// was started again meanwhile.
func (d *Driver) endRest(id string, was identity) {
	err := d.holding(context.Background(), machine.Order{ID: id}, func() error {
		if !d.isAnother(id, &was) {
			d.endAll(id)
		}
		return nil
	})
	if err != nil {
		d.Log.Warn("what is left of a machine was not ended", "machine", id, "error", err)
	}
}

// Halt ends the machine and keeps its files. That it is meant is written first,
// so that a restarted service does not take it for lost.
func (d *Driver) Halt(ctx context.Context, o machine.Order, grace time.Duration) error {
	err := d.holding(ctx, o, func() error {
		rec, err := d.read(o.ID)
		if err != nil {
			return err
		}
		if rec.Process == nil {
			if rec.Process = oldestMarked(d.dir(o.ID)); rec.Process == nil {
				return fmt.Errorf("%s was never started", o.ID)
			}
		}
		rec.Halted = true
		return d.write(rec)
	})
	if err != nil {
		return err
	}
	was, err := d.quit(ctx, o, grace, true)
	if err != nil {
		return err
	}
	return d.holding(ctx, o, func() error {
		if !d.isAnother(o.ID, was) {
			d.endAll(o.ID)
		}
		return nil
	})
}

// Wake starts a machine again that was halted.
func (d *Driver) Wake(ctx context.Context, o machine.Order) error {
	return d.holding(ctx, o, func() error {
		defer d.begin(o.ID)()
		rec, err := d.read(o.ID)
		if err != nil {
			return err
		}
		r, err := d.find(o.ID)
		if err != nil || r != nil {
			return err
		}
		return d.start(rec)
	})
}

// holding does something with the machine held.
func (d *Driver) holding(ctx context.Context, o machine.Order, do func() error) error {
	release, err := d.hold(ctx, o)
	if err != nil {
		return err
	}
	return errors.Join(do(), release())
}
