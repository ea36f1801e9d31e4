package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/term"

	"unitas/internal/fleet/words"
)

// facts lines up names and values, one to a line.
func facts(pairs ...string) string {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, len(pairs[i]))
	}
	var b strings.Builder
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		lines := strings.Split(strings.TrimRight(pairs[i+1], "\n"), "\n")
		fmt.Fprintf(&b, "%-*s  %s\n", width, pairs[i], strings.Join(lines, "\n"+strings.Repeat(" ", width+2)))
	}
	return b.String()
}

func spanOf(seconds float64) string { return words.Span(time.Duration(seconds * float64(time.Second))) }

func ago(t time.Time) string { return words.Span(time.Since(t)) + " ago" }

// size writes bytes with a binary unit.
func size(n int64) string {
	unit := 0
	f := float64(n)
	for f >= 1024 && unit < 4 {
		f /= 1024
		unit++
	}
	if unit == 0 {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f %s", f, []string{"B", "KiB", "MiB", "GiB", "TiB"}[unit])
}

func or(text *string, otherwise string) string {
	if text == nil || *text == "" {
		return otherwise
	}
	return *text
}

// confirm asks once before something is destroyed. Where nobody can be asked,
// --yes must be given.
func (a *app) confirm(yes bool, what, question string) error {
	if yes || a.dry {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return misused("%s; say so with --yes", what)
	}
	fmt.Fprint(a.err, question+" [y/N] ")
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if answer = strings.ToLower(strings.TrimSpace(answer)); answer != "y" && answer != "yes" {
		return errors.New("nothing was done")
	}
	return nil
}

// parseSize reads a size such as 256MiB, 1.5GiB or 1000000.
func parseSize(text string) (int64, error) {
	number := strings.TrimRight(text, "BKMGTkmgtib ")
	unit := strings.ToLower(strings.TrimSpace(strings.TrimPrefix(text, number)))
	factors := map[string]float64{"": 1, "b": 1, "k": 1 << 10, "kib": 1 << 10, "m": 1 << 20, "mib": 1 << 20, "g": 1 << 30, "gib": 1 << 30, "t": 1 << 40, "tib": 1 << 40}
	f, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	factor, ok := factors[unit]
	if err != nil || !ok || f < 0 {
		return 0, fmt.Errorf("%q is not a size; give one such as 256MiB or 2GiB", text)
	}
	return int64(f * factor), nil
}

// Size is a number of bytes as a flag, such as 512MiB.
type Size int64

func (s *Size) String() string {
	if *s == 0 {
		return ""
	}
	return strings.ReplaceAll(size(int64(*s)), " ", "")
}
func (s *Size) Type() string { return "SIZE" }
func (s *Size) Set(text string) error {
	n, err := parseSize(text)
	*s = Size(n)
	return err
}
