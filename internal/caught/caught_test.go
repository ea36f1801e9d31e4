package caught

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"

	"unitas/internal/waittest"
)

// TestAFaultIsToldAndCounted: to whose work it was, with its stack in the log, and all else goes on.
func TestAFaultIsToldAndCounted(t *testing.T) {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	defer slog.SetDefault(before)
	told := make(chan error, 1)
	go func() {
		defer Told("a test", func(err error) { told <- err })
		panic("one")
	}()
	var fault *Panic
	if err := waittest.For(t, "the fault", told); !errors.As(err, &fault) || fault.Where != "a test" || err.Error() != "a fault of the service in a test: one" {
		t.Errorf("told is %v", err)
	}
	if err := Do("a test", func() { panic("two") }); err == nil {
		t.Error("a fault is no error")
	}
	if err := Do("a test", func() {}); err != nil {
		t.Errorf("what goes well is %v", err)
	}
	over := make(chan bool)
	Go("a test", func() {
		defer close(over)
		panic("three")
	})
	waittest.For(t, "the end", over)
	into := func() (err error) {
		defer Into("a test", &err)
		panic("four")
	}
	if into() == nil {
		t.Error("a fault is not returned")
	}
	if n := Counts()["a test"]; n < 3 { // the third may not be counted yet
		t.Errorf("%d are counted", n)
	}
	if text := log.String(); !strings.Contains(text, "fault=one") || !strings.Contains(text, "caught_test.go") {
		t.Errorf("the log says %s", text)
	}
}

// TestALoopGoesOn after a fault, until its context ends or it does.
func TestALoopGoesOn(t *testing.T) {
	times := 0
	Loop(context.Background(), "a loop", func() {
		if times++; times == 1 {
			panic("once")
		}
	})()
	if times != 2 {
		t.Errorf("it ran %d times", times)
	}
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	Loop(ended, "a loop", func() { times++; panic("always") })()
	if times != 3 {
		t.Errorf("after its end it ran %d times", times)
	}
}
