package control

import (
	"context"
	"errors"
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// Records that were restored from a backup may be of another time than the machines. Until a person has
// looked, groups are leased by nobody, and no machine is a stray.

// onlyLooks reports whether the records were restored and nobody said yet that they may be acted on. Once
// they may it is not asked again: only what stands still is restored.
func (c *Control) onlyLooks(ctx context.Context) bool {
	if c.acting.Load() {
		return false
	}
	r, err := c.Store.Restored(ctx)
	if err != nil {
		c.warn("", "whether the records were restored was not read; nothing is done until it is", err)
		return true
	}
	if r == nil {
		c.acting.Store(true)
	} else if !c.saidRestored.Swap(true) {
		c.Log.Warn("the records were restored; nothing is done to machines until a person says so: unitas service resume", "taken", r.Taken)
	}
	return r != nil
}

// awaitActing waits until the records may be acted on, or the context ends.
func (c *Control) awaitActing(ctx context.Context) {
	tick := time.NewTicker(renewEvery / 4)
	defer tick.Stop()
	for c.onlyLooks(ctx) {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Found is how restored records and the machines that are there compare.
type Found struct {
	store.Restored
	Instances int // that should have machines
	Present   int // that have theirs
	Other     int // whose machine is of another version or launch
	Absent    int // that have none
	Unknown   int // machines that no record knows
}

// Restored compares restored records with the machines that are there; nil when the records were not
// restored, or are acted on again.
func (c *Control) Restored(ctx context.Context) (*Found, error) {
	if c.acting.Load() {
		return nil, nil
	}
	r, err := c.Store.Restored(ctx)
	if err != nil || r == nil {
		return nil, err
	}
	living, err := c.Store.Living(ctx)
	if err != nil {
		return nil, err
	}
	facts, err := c.Machines.List(ctx)
	if err != nil {
		return nil, err
	}
	f := &Found{Restored: *r, Instances: len(living)}
	for _, m := range facts {
		in, known := living[m.ID]
		switch runs := m.State == fleet.MachineRunning; {
		case !known && runs:
			f.Unknown++
		case !known || !runs:
		case in.Template != m.Template || in.Launch != m.Launch:
			f.Other++
		default:
			f.Present++
		}
	}
	f.Absent = f.Instances - f.Present - f.Other
	return f, nil
}

// ErrNoStray is that a machine is none that no record knows.
var ErrNoStray = errors.New("no such stray")

// StopStray stops a machine that no record knows at once, because a person said so.
func (c *Control) StopStray(ctx context.Context, id, person, reason string) error {
	if _, stray := c.strays.since(id); !stray {
		return fmt.Errorf("%s: %w", id, ErrNoStray)
	}
	if recorded, err := c.Store.RecordedInstances(ctx, []string{id}); err != nil {
		return err
	} else if recorded[id] {
		return fmt.Errorf("%s: %w", id, ErrNoStray) // by now it is somebody's
	}
	if err := c.Machines.Stop(ctx, machine.Order{ID: id}, stopGrace); err != nil {
		return fmt.Errorf("stop the stray %s: %w", id, err)
	}
	c.strays.drop(id)
	return c.Store.Record(ctx, c.Clock.Now(), person, "", fleet.Entry{Kind: "machine.stopped", Instance: id, Cause: fleet.Asked(reason),
		Text: fmt.Sprintf("The machine %s, which belonged to no instance, is stopped.", id)})
}

// InWords says what was found, and what follows once the records are acted on.
func (c *Control) InWords(f *Found) string {
	text := fmt.Sprintf("the records were restored from a backup of %s; nothing is done to machines until: unitas service resume. Of %s %d %s as recorded, %d %s of another version, %d %s no machine",
		f.Taken.UTC().Format("2006-01-02 15:04:05 UTC"), words.Count(f.Instances, "instance"), f.Present, either(f.Present, "runs", "run"), f.Other, either(f.Other, "is", "are"), f.Absent, either(f.Absent, "has", "have"))
	if f.Unknown > 0 {
		text += fmt.Sprintf("; no record knows %s, which would be stopped %s after that", words.Count(f.Unknown, "machine"), words.Span(c.StrayGrace))
	}
	return text
}

func either(n int, one, several string) string {
	if n == 1 {
		return one
	}
	return several
}
