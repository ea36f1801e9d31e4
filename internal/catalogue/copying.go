package catalogue

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/image"
	"unitas/internal/store"
)

func copyKey(v fleet.Version, region string) string { return v.String() + " " + region }

// StartCopy begins to bring a version to another region. One that was broken
// off goes on where it was.
func (c *Catalogue) StartCopy(ctx context.Context, actor string, i store.Image, to string) error {
	v := i.Ref()
	to, target, err := c.region(to)
	if err != nil {
		return err
	}
	if _, there := i.Places[to]; there {
		return &fleet.Refusal{Text: fmt.Sprintf("the image %s is in %s already", v, to)}
	}
	if i.State != store.Ready && i.State != store.Withdrawn {
		return &fleet.Refusal{Text: fmt.Sprintf("the image %s is %s; only a ready one can be copied", v, i.State)}
	}
	from := ""
	for _, r := range c.Places {
		if _, there := i.Places[r.Name]; there {
			from = r.Name
			break
		}
	}
	if from == "" {
		return &fleet.Refusal{Text: fmt.Sprintf("the image %s is in no region of this service", v)}
	}
	if err := target.Space.Room(); err != nil {
		return err
	}
	leave, err := enter(c.lanes.copying, "images are being copied")
	if err != nil {
		return err
	}
	begun := false
	defer func() {
		if !begun {
			leave()
		}
	}()
	cp := store.Copy{Name: v.Name, Version: v.N, Region: to, FromRegion: from, TotalBytes: i.SizeBytes, Replica: c.Replica}
	switch err := c.Store.BeginCopy(ctx, now(), actor, cp); {
	case errors.Is(err, store.ErrExists):
		return &fleet.Refusal{Text: fmt.Sprintf("the image %s is being copied to %s already", v, to)}
	case err != nil:
		return err
	}
	running, cancel := context.WithCancelCause(c.ending)
	c.mu.Lock()
	c.copies[copyKey(v, to)] = cancel
	c.mu.Unlock()
	begun = true
	c.jobs.Go(func() {
		defer caught.Told("a copy of an image", nil)
		defer leave()
		defer cancel(nil)
		var done atomic.Int64
		noting, stop := context.WithCancel(running)
		caught.Go("the progress of a copy", func() { c.noteProgress(noting, cp, &done) })
		in := target.Begin()
		defer in.Close()
		var a image.Artifact
		var err error
		if fault := caught.Do("a copy of an image", func() {
			a, err = in.Copy(running, c.stores[from], i.Digest, func(n int64) {
				done.Store(n)
				if c.CopyPace > 0 {
					time.Sleep(c.CopyPace)
				}
			})
		}); fault != nil {
			err = fault
		}
		stop()
		state, why := store.CopyDone, ""
		switch {
		case running.Err() != nil && err != nil:
			state, why = store.CopyStopped, context.Cause(running).Error()+"; start it again, and it goes on where it was"
		case err != nil:
			state, why = store.CopyFailed, err.Error()
		}
		c.mu.Lock()
		delete(c.copies, copyKey(v, to))
		c.mu.Unlock()
		if err := c.persist(func(ctx context.Context) error {
			if err := c.Store.CopyProgress(ctx, cp, done.Load()); err != nil {
				return err
			}
			return c.Store.EndCopy(ctx, now(), cp, state, why)
		}); err != nil {
			c.Log.Warn("the end of a copy was not recorded", "image", v, "region", to, "error", err)
			return
		}
		if state == store.CopyDone {
			in.Keep(a)
			c.Sweep()
		}
	})
	return nil
}

// noteProgress writes down how far a copy is, for whoever asks any replica.
func (c *Catalogue) noteProgress(ctx context.Context, cp store.Copy, done *atomic.Int64) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			_ = c.Store.CopyProgress(ctx, cp, done.Load()) // the next one says more
		}
	}
}

// persist tries to write the end of a job while the database is away, for a
// minute at most and for two seconds once the service stops.
func (c *Catalogue) persist(write func(context.Context) error) error {
	begun := time.Now()
	for {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		err := write(ctx)
		cancel()
		if err == nil || errors.Is(err, store.ErrNotFound) || c.ending.Err() != nil || time.Since(begun) > time.Minute {
			return err
		}
		retry := time.NewTimer(time.Second)
		select {
		case <-retry.C:
		case <-c.ending.Done():
		}
	}
}

// StopCopy breaks a copy off.
func (c *Catalogue) StopCopy(v fleet.Version, region string) error {
	c.mu.Lock()
	cancel := c.copies[copyKey(v, region)]
	c.mu.Unlock()
	if cancel == nil {
		return &fleet.Refusal{Text: fmt.Sprintf("the image %s is not being copied to %s by this service", v, region)}
	}
	cancel(errors.New("a person broke it off"))
	return nil
}
