package cli

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"golang.org/x/term"
)

// spans are the durations in a sentence; that one grew is no news.
var spans = regexp.MustCompile(`\d+(\.\d+)? (ms|s|m|h)\b`)

// live redraws a picture until it is done. On a terminal it is drawn in place;
// elsewhere a line is written when the sentence changes.
func (a *app) live(ctx context.Context, look func() (picture, sentence string, done bool, err error)) error {
	onTerminal := term.IsTerminal(int(os.Stdout.Fd()))
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	drawn, said := 0, ""
	var saidAt time.Time
	faults := 0
	for {
		picture, sentence, done, err := look()
		switch {
		case err != nil && faults < 20 && ctx.Err() == nil && !refused(err):
			// The service may be starting again; what is being watched goes on.
			faults++
			if faults == 1 {
				fmt.Fprintln(a.err, "unitas:", oneLine(err), "(trying again)")
				drawn = 0
			}
		case err != nil:
			return err
		case onTerminal:
			faults = 0
			drawn = redraw(a, picture, drawn)
		default:
			faults = 0
			if bare := spans.ReplaceAllString(sentence, ""); bare != said || time.Since(saidAt) > 10*time.Second {
				fmt.Fprintf(a.err, "%s  %s\n", time.Now().Format("15:04:05"), sentence)
				said, saidAt = bare, time.Now()
			}
		}
		if done {
			if !onTerminal {
				fmt.Fprint(a.out, picture)
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// redraw writes the picture over the one before, which had that many lines.
func redraw(a *app, picture string, before int) int {
	_, height, err := term.GetSize(int(os.Stdout.Fd()))
	lines := strings.Split(strings.TrimRight(picture, "\n"), "\n")
	if err == nil && len(lines) >= height && height > 1 {
		lines = lines[:height-1]
	}
	var b strings.Builder
	b.WriteString("\x1b[?7l") // a line that is too long is cut, not wrapped
	if before > 0 {
		fmt.Fprintf(&b, "\x1b[%dA", before)
	}
	for _, line := range lines {
		b.WriteString("\r" + line + "\x1b[K\n")
	}
	b.WriteString("\x1b[J\x1b[?7h")
	fmt.Fprint(a.out, b.String())
	return len(lines)
}
