package api

import (
	"context"
	"testing"
)

// TestOneRehearsalAtATime: two wait, and one more is told so at once; who goes away while it waits
// leaves its place.
func TestOneRehearsalAtATime(t *testing.T) {
	r := newRehearsing()
	ctx, leave := context.WithCancel(context.Background())
	over, err := r.begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	waits := make(chan error)
	for range rehearsalsDue {
		go func() {
			_, err := r.begin(ctx)
			waits <- err
		}()
	}
	for len(r.due) < rehearsalsDue+1 { // until both wait
		select {
		case err := <-waits:
			t.Fatalf("one did not wait: %v", err)
		default:
		}
	}
	if _, err := r.begin(ctx); err == nil {
		t.Error("a third may wait")
	}
	leave()
	for range rehearsalsDue {
		if p, _ := (<-waits).(*problem); p == nil || p.status != 429 {
			t.Errorf("one that went away is told %v", p)
		}
	}
	over()
	if over, err = r.begin(context.Background()); err != nil {
		t.Fatal(err)
	}
	over()
	if len(r.due) > 0 || len(r.playing) > 0 {
		t.Errorf("left behind: %d %d", len(r.due), len(r.playing))
	}
}
