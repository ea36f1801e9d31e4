package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// spans are the durations in a sentence; that one grew is no news.
var spans = regexp.MustCompile(`\d+(\.\d+)? (ms|s|m|h)\b`)

// patience is how a command stays with what it began.
type patience struct {
	wait, watch bool
	timeout     time.Duration
}

// add adds the flags; until says what is waited for.
func (p *patience) add(cmd *cobra.Command, until string) {
	flags := cmd.Flags()
	flags.BoolVar(&p.wait, "wait", p.wait, "stay until "+until+"; exit 3 when that cannot come any more")
	flags.BoolVar(&p.watch, "watch", false, "the same, with a picture that is kept current")
	flags.DurationVar(&p.timeout, "timeout", 0, "with --wait or --watch: stay no longer than this, and exit 3; 0s is as long as it takes")
	cmd.MarkFlagsMutuallyExclusive("wait", "watch")
}

// stays reports whether the command stays at all; it is wrong to limit it otherwise.
func (p *patience) stays() (bool, error) {
	if p.timeout < 0 {
		return false, misused("--timeout %s: give a time from 0s", p.timeout)
	}
	if p.timeout > 0 && !p.wait && !p.watch {
		return false, misused("--timeout is how long --wait or --watch stays; give one of them as well")
	}
	return p.wait || p.watch, nil
}

// following is how a command follows what takes its time, which it does unless it is told not to.
type following struct {
	wait    bool
	timeout time.Duration
}

// add adds the flags; what says what is shown meanwhile, and until when.
func (f *following) add(cmd *cobra.Command, what string) {
	cmd.Flags().BoolVar(&f.wait, "wait", true, what)
	cmd.Flags().DurationVar(&f.timeout, "timeout", 0, "stay no longer than this, and exit 3; 0s is as long as it takes")
}

// within is the context with the limit; it is wrong to limit what is not followed.
func (f *following) within(ctx context.Context) (context.Context, context.CancelFunc, error) {
	switch {
	case f.timeout < 0:
		return ctx, nil, misused("--timeout %s: give a time from 0s", f.timeout)
	case f.timeout > 0 && !f.wait:
		return ctx, nil, misused("--timeout is how long --wait stays, which was switched off")
	case f.timeout == 0:
		return ctx, func() {}, nil
	}
	limited, stop := context.WithTimeout(ctx, f.timeout)
	return limited, stop, nil
}

// leaves says what goes on when a command no longer follows it; what was to come did not in the
// time that it had.
func (a *app) leaves(ctx context.Context, f following, what, see string) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return badEnd{fmt.Sprintf("%s after %s, and goes on; see it with: %s", what, f.timeout, see)}
	}
	fmt.Fprintf(a.err, "it goes on; see it with: %s\n", see)
	return nil
}

// sight is what a look at something that changes saw.
type sight struct {
	picture, sentence string
	value             any    // for --output json and yaml
	done              bool   // there is nothing more to wait for
	bad               string // why what is waited for cannot come any more, or ""
}

// live looks again and again until it is done. With a picture, on a terminal, that is
// drawn in place; else a line is written to standard error when the sentence changes.
func (a *app) live(ctx context.Context, p patience, look func() (sight, error)) error {
	drawing := p.watch && a.output == "table" && term.IsTerminal(int(os.Stdout.Fd()))
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	var late <-chan time.Time
	if p.timeout > 0 {
		timer := time.NewTimer(p.timeout)
		defer timer.Stop()
		late = timer.C
	}
	drawn, said, faults := 0, "", 0
	var saidAt time.Time
	for {
		s, err := look()
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
		case drawing:
			faults = 0
			drawn = redraw(a, s.picture, drawn)
		default:
			faults = 0
			if bare := spans.ReplaceAllString(s.sentence, ""); bare != said || time.Since(saidAt) > 10*time.Second {
				fmt.Fprintf(a.err, "%s  %s\n", clock(time.Now()), s.sentence)
				said, saidAt = bare, time.Now()
			}
		}
		if err == nil && (s.done || s.bad != "") {
			if !drawing {
				if err := a.print(s.value, func() string { return s.picture }); err != nil {
					return err
				}
			}
			if s.bad != "" {
				return badEnd{s.bad}
			}
			return nil
		}
		select {
		case <-ctx.Done():
			if p.wait {
				return badEnd{"broken off; what was begun goes on"}
			}
			return nil
		case <-late:
			return badEnd{fmt.Sprintf("it is not there after %s, and goes on: %s", p.timeout, s.sentence)}
		case <-tick.C:
		}
	}
}

// redraw writes the picture over the one before, which had that many lines. What does not
// fit is left out, and the last line says so.
func redraw(a *app, picture string, before int) int {
	width, height, err := term.GetSize(int(os.Stdout.Fd()))
	lines := strings.Split(strings.TrimRight(picture, "\n"), "\n")
	if err == nil {
		lines = within(lines, width, height-1)
	}
	var b strings.Builder
	b.WriteString("\x1b[?7l") // a line that is too long is cut, not wrapped
	if before > 0 {
		fmt.Fprintf(&b, "\x1b[%dA", before)
	}
	for _, line := range lines {
		b.WriteString("\r" + shownText(line) + "\x1b[K\n")
	}
	b.WriteString("\x1b[J\x1b[?7h")
	fmt.Fprint(past(a.out), b.String())
	return len(lines)
}

// within makes lines fit: long ones go on in the next, at a word, and of too many the last
// says how many are not shown.
func within(lines []string, width, height int) []string {
	var all []string
	for _, line := range lines {
		all = append(all, strings.Split(wrapped(line, width), "\n")...)
	}
	if height < 2 || len(all) <= height {
		return all
	}
	return append(all[:height-1:height-1], faint.paint(fmt.Sprintf("… %d lines more; make the window higher, or see them without --watch", len(all)-height+1)))
}
