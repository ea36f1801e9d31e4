package cli

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"text/tabwriter"
	"time"

	"golang.org/x/term"
)

// wideTables has tables keep all their columns, as --wide asks for.
var wideTables bool

// screenWidth is how many columns standard output has; without a terminal there is no end.
func screenWidth() int {
	width, _, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil || width <= 0 {
		return 1 << 20
	}
	return width
}

// table lines columns up. The first row is the heading; columns whose heading begins with
// ">" are right-aligned, and those that begin with "?" are the first to go where a
// terminal is too narrow ("?>" is both).
func table(rows [][]string) string {
	width := screenWidth()
	if wideTables {
		width = 1 << 20
	}
	return tableWithin(rows, width)
}

const columnGap = 2

// tableWithin leaves out columns until the lines are no longer than width: those with "?"
// from the right, then any from the right, and marks that with "…" at the end of the
// heading. Of the last column what does not fit is clipped first.
func tableWithin(rows [][]string, width int) string {
	if len(rows) == 0 {
		return ""
	}
	const least = 12
	columns := columnsOf(rows)
	left := false // something was left out
	for total(columns, left) > width {
		last := len(columns) - 1
		optional := -1
		for k, c := range columns {
			if c.optional {
				optional = k
			}
		}
		room := width - total(columns[:last], false) - columnGap
		if last == 0 {
			room = width
		}
		switch {
		case optional >= 0:
			columns, left = append(columns[:optional:optional], columns[optional+1:]...), true
			continue
		case room >= least && !columns[last].right && columns[last].width > room:
			columns[last].width = room - marked(left)
		case last > 0:
			columns, left = columns[:last], true
			continue
		}
		break
	}
	return drawn(rows, columns, left)
}

// column is one of a table that is shown.
type column struct {
	at              int // in the rows
	width           int
	heading         string
	right, optional bool
}

func columnsOf(rows [][]string) []column {
	columns := make([]column, len(rows[0]))
	for i, heading := range rows[0] {
		c := &columns[i]
		c.at = i
		heading, c.optional = strings.CutPrefix(heading, "?")
		c.heading, c.right = strings.CutPrefix(heading, ">")
		c.width = len([]rune(c.heading))
		for _, row := range rows[1:] {
			c.width = max(c.width, len([]rune(row[i])))
		}
	}
	return columns
}

// marked is the room that the sign of a column that was left out takes.
func marked(left bool) int {
	if left {
		return 2
	}
	return 0
}

func total(columns []column, left bool) int {
	n := marked(left)
	for k, c := range columns {
		n += c.width
		if k > 0 {
			n += columnGap
		}
	}
	return n
}

func drawn(rows [][]string, columns []column, left bool) string {
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 0, columnGap, ' ', 0)
	for r, row := range rows {
		cells := make([]string, len(columns))
		for k, c := range columns {
			cell := row[c.at]
			if r == 0 {
				cell = c.heading
			}
			cell = clip(cell, c.width)
			if c.right {
				cell = strings.Repeat(" ", c.width-len([]rune(cell))) + cell
			}
			cells[k] = cell
		}
		if r == 0 && left {
			cells[len(cells)-1] += " …"
		}
		fmt.Fprintln(w, strings.Join(cells, "\t"))
	}
	w.Flush()
	lines := strings.Split(b.String(), "\n")
	for i, line := range lines {
		lines[i] = strings.TrimRight(line, " ")
		if i == 0 && colours() {
			lines[i] = strong.paint(lines[i])
		}
	}
	return strings.Join(lines, "\n")
}

// escape is what colours a text and takes no room.
var escape = regexp.MustCompile("\x1b\\[[0-9;]*m")

// stamp is a moment as the service writes it into sentences.
var stamp = regexp.MustCompile(`\b\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2}Z`)

// here tells the moments of a sentence in the time zone that all others are told in.
func here(text string) string {
	return stamp.ReplaceAllStringFunc(text, func(s string) string {
		t, err := time.Parse(time.RFC3339, s)
		if err != nil {
			return s
		}
		return moment(t)
	})
}

// onScreen is a text whose long lines go on in the next, at a word, where there is a
// terminal.
func onScreen(text string) string {
	width := screenWidth()
	lines := strings.Split(here(text), "\n")
	for i, line := range lines {
		lines[i] = wrapped(line, width)
	}
	return strings.Join(lines, "\n")
}

// wrapped breaks a line at words so that no part is longer than width; the parts after the
// first are indented as the line is, and two more.
func wrapped(line string, width int) string {
	if len([]rune(escape.ReplaceAllString(line, ""))) <= width || width < 20 {
		return line
	}
	indent := strings.Repeat(" ", len(line)-len(strings.TrimLeft(line, " "))+2)
	var b strings.Builder
	used := 0
	for k, word := range strings.Split(line, " ") {
		size := len([]rune(escape.ReplaceAllString(word, "")))
		switch {
		case k == 0:
		case used+1+size > width && used > len(indent):
			b.WriteString("\n" + indent)
			used = len(indent)
		default:
			b.WriteString(" ")
			used++
		}
		b.WriteString(word)
		used += size
	}
	return b.String()
}

// clock is a time of today, with the date when it is of another day.
func clock(t time.Time) string {
	t = t.Local()
	if now := time.Now().Local(); t.YearDay() != now.YearDay() || t.Year() != now.Year() {
		return t.Format("2006-01-02 15:04:05")
	}
	return t.Format("15:04:05")
}

func moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05 MST") }

// zoneWords says which time zone times are told in.
func zoneWords() string {
	name := time.Now().Local().Format("MST")
	if name == "UTC" {
		return "times are in UTC"
	}
	return "times are in " + name + ", the zone of this machine; --utc tells them in UTC"
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
	ends    tone = "\x1b[0m"
)

// colours reports whether standard output wants them (https://no-color.org).
func colours() bool {
	return os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && term.IsTerminal(int(os.Stdout.Fd()))
}

func (t tone) paint(text string) string {
	if t == plain || !colours() {
		return text
	}
	return string(t) + text + string(ends)
}
