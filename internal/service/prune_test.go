package service

import (
	"testing"
	"time"

	"unitas/internal/clock"
)

// TestAClockThatWasSetMakesNothingOld: what is over is kept until the clock has gone on for
// long enough to be believed.
func TestAClockThatWasSetMakesNothingOld(t *testing.T) {
	var steady, set time.Duration
	start := time.Now()
	hours := clock.Of(func() time.Duration { return steady }, func() time.Time { return start.Add(steady + set) })
	if !mayPrune(hours) {
		t.Error("a clock that nobody set is not believed")
	}
	steady, set = time.Minute, 365*24*time.Hour
	hours.Look()
	if mayPrune(hours) {
		t.Error("a clock that was set a year ahead is believed at once")
	}
	steady += pruneCalm
	if !mayPrune(hours) {
		t.Error("a clock that goes on for an hour is not believed")
	}
}
