package catalogue

import (
	"context"
	"fmt"
	"strings"
	"unicode/utf8"

	"unitas/internal/image"
)

// How much may be under way at once: images coming in, versions being made, and
// copies; and how many that are to be made may wait.
const (
	mostComing  = 4
	mostMaking  = 2
	mostWaiting = 20
	mostCopying = 4
)

// Busy is work that was refused since too much of it is under way.
type Busy struct {
	What string // "images come in"
	Most int
}

func (b *Busy) Error() string {
	return fmt.Sprintf("%d %s already, and no more do at once; try again in a moment", b.Most, b.What)
}

// lanes count what is under way.
type lanes struct{ coming, making, waiting, copying chan struct{} }

func newLanes() lanes {
	return lanes{make(chan struct{}, mostComing), make(chan struct{}, mostMaking), make(chan struct{}, mostWaiting), make(chan struct{}, mostCopying)}
}

// enter takes a place, or returns *[Busy] when there is none.
func enter(lane chan struct{}, what string) (leave func(), err error) {
	select {
	case lane <- struct{}{}:
		return func() { <-lane }, nil
	default:
		return nil, &Busy{what, cap(lane)}
	}
}

// await waits for a place until the context ends.
func await(ctx context.Context, lane chan struct{}) (leave func(), err error) {
	select {
	case lane <- struct{}{}:
		return func() { <-lane }, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// What an artifact may say of itself.
const (
	mostWords  = 1000
	longestOne = 32 << 10 // bytes
)

// decent refuses an artifact that says what cannot be kept or shown: texts that are
// not UTF-8 or have control characters, or too much of them.
func decent(a image.Artifact) error {
	check := func(what, text string) error {
		control := func(r rune) bool { return (r < ' ' && r != '\t' && r != '\n' && r != '\r') || r == 0x7f }
		switch {
		case len(text) > longestOne:
			return &image.Refused{Why: fmt.Sprintf("%s is longer than %d KiB", what, longestOne>>10)}
		case !utf8.ValidString(text):
			return &image.Refused{Why: what + " is not UTF-8"}
		case strings.ContainsFunc(text, control):
			return &image.Refused{Why: what + " has control characters"}
		}
		return nil
	}
	if n := max(len(a.Start), len(a.Environment), len(a.Labels)); n > mostWords {
		return &image.Refused{Why: fmt.Sprintf("it has %d words to start with, variables or labels, and may have %d of each", n, mostWords)}
	}
	for i, w := range a.Start {
		if err := check(fmt.Sprintf("word %d of what it starts", i+1), w); err != nil {
			return err
		}
	}
	for i, v := range a.Environment {
		if err := check(fmt.Sprintf("its variable %d", i+1), v); err != nil {
			return err
		}
	}
	for name, value := range a.Labels {
		if err := check("one of its labels", name+"="+value); err != nil {
			return err
		}
	}
	return nil
}
