package cli

import (
	"fmt"
	"math"
	"strings"
	"time"
	"unicode/utf8"

	"unitas/internal/fleet/words"
)

// chart draws values over time as columns of blocks. A column without a value is a dot.
type chart struct {
	from, to time.Time
	points   []dot
	height   int
	// held is for how long a value lasts, unless another comes; 0 is for its moment.
	held time.Duration
	// lines are drawn as rows of dashes where they lie, with their names.
	lines []float64
	say   func(float64) string
}

type dot struct {
	at    time.Time
	value float64
}

const chartWidth = 64

var eighths = []rune(" ▁▂▃▄▅▆▇█")

// columns are the values by column: the most of what falls into each, NaN where nothing does.
func (c *chart) columns() []float64 {
	columns := make([]float64, chartWidth)
	for i := range columns {
		columns[i] = math.NaN()
	}
	span := c.to.Sub(c.from)
	if span <= 0 {
		return columns
	}
	for _, p := range c.points {
		at := int(float64(p.at.Sub(c.from)) / float64(span) * (chartWidth - 1))
		if at < 0 || at >= chartWidth || math.IsNaN(p.value) {
			continue
		}
		if math.IsNaN(columns[at]) || p.value > columns[at] {
			columns[at] = p.value
		}
	}
	wide := int(math.Ceil(float64(c.held) / float64(span) * (chartWidth - 1)))
	for i, since := 1, 0; i < chartWidth; i++ {
		if since++; !math.IsNaN(columns[i]) {
			since = 0
		} else if since <= wide {
			columns[i] = columns[i-1]
		}
	}
	return columns
}

func (c *chart) draw() string {
	columns := c.columns()
	most, some := 0.0, false
	for _, v := range append(append([]float64{}, columns...), c.lines...) {
		if !math.IsNaN(v) {
			most, some = max(most, v), true
		}
	}
	if !some {
		return "  nothing was measured in that time\n"
	}
	if c.say == nil {
		c.say = func(v float64) string { return fmt.Sprintf("%g", math.Round(v*100)/100) }
	}
	if most == 0 {
		most = 1
	}
	top, bottom := c.say(most), c.say(0)
	margin := max(utf8.RuneCountInString(top), utf8.RuneCountInString(bottom))
	for _, l := range c.lines {
		margin = max(margin, utf8.RuneCountInString(c.say(l)))
	}
	var b strings.Builder
	for row := c.height - 1; row >= 0; row-- {
		low, label, dash := float64(row)/float64(c.height)*most, "", ' '
		for _, l := range c.lines {
			if l >= low && (l < low+most/float64(c.height) || (row == c.height-1 && l == most)) {
				label, dash = c.say(l), '╌'
			}
		}
		switch {
		case label != "":
		case row == c.height-1:
			label = top
		case row == 0:
			label = bottom
		}
		fmt.Fprintf(&b, "  %*s ┤", margin, label)
		for _, v := range columns {
			filled := (v - low) / most * float64(c.height) * 8
			switch {
			case math.IsNaN(v) && row == 0:
				b.WriteRune('·')
			case math.IsNaN(v) || filled < 0.5:
				b.WriteRune(dash)
			default:
				b.WriteRune(eighths[min(int(math.Round(filled)), 8)])
			}
		}
		b.WriteString("\n")
	}
	from, to := words.Span(c.to.Sub(c.from).Round(time.Minute))+" ago", c.to.Local().Format("15:04:05 MST")
	fmt.Fprintf(&b, "  %*s  %s%*s\n", margin, "", from, chartWidth-utf8.RuneCountInString(from), to)
	return b.String()
}
