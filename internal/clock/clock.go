// Package clock is the time by which the service measures. It goes as evenly as the
// monotonic clock of the host does, so that a clock that is set ends no wait, and follows
// the clock of the host where that was set.
package clock

import (
	"sync/atomic"
	"time"
)

// Apart is how far the clock of the host may be from this one before it was set: what
// keeps it to time otherwise bends both alike.
const Apart = 2 * time.Second

// Reading is a time since the clock was made, whatever it was set to.
type Reading time.Duration

// Clock is the time of one process.
type Clock struct {
	start  time.Time // as the host said
	steady func() time.Duration
	host   func() time.Time
	offset atomic.Int64 // by how much the host's was set since, ns
	set    atomic.Int64 // when it was last set, a Moment; -1 before
}

// New makes a clock of this host's.
func New() *Clock {
	start := time.Now()
	return Of(func() time.Duration { return time.Since(start) }, host)
}

// Of makes a clock of a monotonic one, which begins near 0, and of one that may be set.
func Of(steady func() time.Duration, host func() time.Time) *Clock {
	c := &Clock{start: host().Round(0).Add(-steady()), steady: steady, host: host}
	c.set.Store(-1)
	return c
}

// Moment is the present one.
func (c *Clock) Moment() Reading { return Reading(c.steady()) }

// Now is the time now, in UTC.
func (c *Clock) Now() time.Time { return c.At(c.Moment(), c.Offset()) }

// Offset is by how much the clock was set since it was made.
func (c *Clock) Offset() time.Duration { return time.Duration(c.offset.Load()) }

// At is the time at a moment by the clock as it was with that offset.
func (c *Clock) At(m Reading, offset time.Duration) time.Time {
	return c.start.Add(time.Duration(m) + offset).UTC()
}

// Look compares with the clock of the host and follows it where that was set. It returns by
// how much, 0 when it was not.
func (c *Clock) Look() (by time.Duration) {
	by = c.host().Round(0).Sub(c.Now()).Round(time.Microsecond) // as times are kept
	if by.Abs() < Apart {
		return 0
	}
	c.set.Store(int64(c.Moment()))
	c.offset.Add(int64(by))
	return by
}

// SetSince is for how long the clock goes as it was last set, and whether it ever was.
func (c *Clock) SetSince() (time.Duration, bool) {
	set := c.set.Load()
	return time.Duration(c.Moment()) - time.Duration(set), set >= 0
}
