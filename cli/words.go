package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"golang.org/x/term"

	"unitas/internal/fleet/words"
)

// table lines columns up. The first row is the heading; columns whose heading
// begins with ">" are right-aligned. On a terminal it is made to fit.
func table(rows [][]string) string {
	width, _, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil || width <= 0 {
		width = 1 << 20
	}
	return tableWithin(rows, width)
}

// tableWithin leaves out columns from the right until the lines are no longer
// than width, and marks that with "…" at the end of the heading; what of the
// last column does not fit is clipped first.
func tableWithin(rows [][]string, width int) string {
	if len(rows) == 0 {
		return ""
	}
	const gap, least = 2, 12
	used := 0
	for i := range rows[0] {
		column := 0
		for _, row := range rows {
			column = max(column, len([]rune(strings.TrimPrefix(row[i], ">"))))
		}
		last := i == len(rows[0])-1
		if used+column <= width && (last || used+column+gap+1 <= width) {
			used += column + gap
			continue
		}
		if last && width-used >= least {
			for r := range rows {
				rows[r][i] = clip(rows[r][i], width-used)
			}
			break
		}
		for r := range rows {
			rows[r] = rows[r][:i]
		}
		if i > 0 {
			rows[0][i-1] += " …"
		}
		break
	}
	right := make([]bool, len(rows[0]))
	widths := make([]int, len(rows[0]))
	for i, h := range rows[0] {
		rows[0][i], right[i] = strings.CutPrefix(h, ">")
	}
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], len([]rune(cell)))
		}
	}
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
	for _, row := range rows {
		cells := make([]string, len(row))
		for i, cell := range row {
			if right[i] {
				cell = strings.Repeat(" ", widths[i]-len([]rune(cell))) + cell
			}
			cells[i] = cell
		}
		fmt.Fprintln(w, strings.Join(cells, "\t"))
	}
	w.Flush()
	lines := strings.Split(b.String(), "\n")
	for i, line := range lines {
		lines[i] = strings.TrimRight(line, " ")
	}
	return strings.Join(lines, "\n")
}

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

func clock(t time.Time) string { return t.Local().Format("15:04:05") }

func moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05 MST") }

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

// tone is a colour of text, used on a terminal only and never alone.
type tone string

const (
	plain   tone = ""
	trouble tone = "\x1b[31m"
	waiting tone = "\x1b[33m"
	newer   tone = "\x1b[36m"
	faint   tone = "\x1b[2m"
	strong  tone = "\x1b[1m"
)

// colours reports whether standard output wants them (https://no-color.org).
func colours() bool {
	return os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && term.IsTerminal(int(os.Stdout.Fd()))
}

func (t tone) paint(text string) string {
	if t == plain || !colours() {
		return text
	}
	return string(t) + text + "\x1b[0m"
}

// confirm asks once before something is destroyed. Where nobody can be asked,
// --yes must be given.
func (a *app) confirm(yes bool, what, question string) error {
	if yes {
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
