package cli

import (
	"math"
	"strings"
	"testing"
	"time"
)

// TestCharts: what was measured stands where it was, gaps are dots, lines are dashes with their
// names, and nothing measured is said.
func TestCharts(t *testing.T) {
	from := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	at := func(minutes int) time.Time { return from.Add(time.Duration(minutes) * time.Minute) }
	c := chart{from: from, to: at(63), height: 4, held: time.Minute, lines: []float64{40}, say: func(v float64) string { return withUnit(v, " %") }}
	for m := range 64 {
		switch {
		case m < 20:
			c.points = append(c.points, dot{at(m), 10})
		case m >= 40:
			c.points = append(c.points, dot{at(m), 80})
		case m == 30:
			c.points = append(c.points, dot{at(m), math.NaN()})
		}
	}
	rows := strings.Split(c.draw(), "\n")
	for k, want := range []string{
		"  80 % ┤" + strings.Repeat(" ", 40) + strings.Repeat("█", 24),
		"  40 % ┤" + strings.Repeat("╌", 40) + strings.Repeat("█", 24),
		"       ┤" + strings.Repeat(" ", 40) + strings.Repeat("█", 24),
		"   0 % ┤" + strings.Repeat("▄", 21) + strings.Repeat("·", 19) + strings.Repeat("█", 24),
	} {
		if rows[k] != want {
			t.Errorf("row %d is\n%s\nand should be\n%s", k, rows[k], want)
		}
	}
	empty := chart{from: from, to: at(1), height: 3}
	if got := empty.draw(); !strings.Contains(got, "nothing was measured") {
		t.Errorf("a chart of nothing is %q", got)
	}
}
