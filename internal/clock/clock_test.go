package clock

import (
	"testing"
	"time"
)

func TestGoesEvenly(t *testing.T) {
	var steady time.Duration
	start := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	set := time.Duration(0)
	c := Of(func() time.Duration { return steady }, func() time.Time { return start.Add(steady + set) })
	expect := func(what string, at time.Time) {
		t.Helper()
		if now := c.Now(); !now.Equal(at) {
			t.Errorf("%s it is %s, not %s", what, now, at)
		}
	}
	steady = 3 * time.Second
	expect("after 3 s", start.Add(3*time.Second))
	if _, was := c.SetSince(); was {
		t.Error("it was set by nobody")
	}

	set = time.Hour
	expect("before it is looked at", start.Add(3*time.Second))
	if by := c.Look(); by != time.Hour {
		t.Errorf("it was set by %s, not an hour", by)
	}
	if by := c.Look(); by != 0 {
		t.Errorf("it was set again by %s", by)
	}
	expect("after it was set", start.Add(time.Hour+3*time.Second))
	if at := c.At(Reading(time.Second), 0); !at.Equal(start.Add(time.Second)) {
		t.Errorf("its first second was %s", at)
	}
	steady += time.Minute
	if since, was := c.SetSince(); !was || since != time.Minute {
		t.Errorf("it was set %s ago (%t)", since, was)
	}

	set -= Apart - time.Millisecond // kept to time
	if by := c.Look(); by != 0 {
		t.Errorf("a bend of %s is taken for a jump", by)
	}
	set = -time.Hour
	if by := c.Look(); by != -2*time.Hour {
		t.Errorf("it was set back by %s, not 2 h", by)
	}
}

// TestOfTheHost holds the real clock against the host's.
func TestOfTheHost(t *testing.T) {
	if by := New().Look(); by != 0 {
		t.Errorf("a new clock is %s off", by)
	}
	if apart := time.Since(New().Now()).Abs(); apart > time.Second {
		t.Errorf("a new clock is %s off", apart)
	}
}
