// Package waittest waits in tests, for as long as something may take and no longer.
package waittest

import (
	"testing"
	"time"
)

// Limit is how long something may take that is soon there: a test that waits for it in vain
// says so itself, and not its package's time limit for all of them.
const Limit = 30 * time.Second

// For is the next value of a channel, or its end.
func For[T any](t testing.TB, what string, c <-chan T) T {
	t.Helper()
	select {
	case v := <-c:
		return v
	case <-time.After(Limit):
		t.Fatalf("%s did not come within %s", what, Limit)
		panic("unreachable")
	}
}
