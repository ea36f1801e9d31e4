// Package cost adds up what machines cost from how long they ran.
package cost

import (
	"slices"
	"strings"
	"time"
)

// Run is a time for which one machine ran.
type Run struct {
	Name    string  // what it is counted under
	PerHour float64 // in the currency that prices are in
	From    time.Time
	Until   time.Time // zero while it runs
}

// Line is what all runs of one name cost.
type Line struct {
	Name       string
	Hours      float64 // of all machines together
	Cost       float64
	NowPerHour float64   // of those that run at the end of the time
	Steps      []float64 // the cost in each step, in order
}

// Add returns a line for each name, the dearest first, for the time from
// inclusive to to exclusive, in steps counted from from; the last may be shorter.
func Add(runs []Run, from, to time.Time, step time.Duration) []Line {
	steps := int((to.Sub(from) + step - 1) / step)
	lines := map[string]*Line{}
	for _, r := range runs {
		l := lines[r.Name]
		if l == nil {
			l = &Line{Name: r.Name, Steps: make([]float64, steps)}
			lines[r.Name] = l
		}
		end := r.Until
		if end.IsZero() || end.After(to) {
			end = to
			l.NowPerHour += r.PerHour
		}
		begin := r.From
		if begin.Before(from) {
			begin = from
		}
		for begin.Before(end) {
			n := int(begin.Sub(from) / step)
			until := from.Add(time.Duration(n+1) * step)
			if until.After(end) {
				until = end
			}
			hours := until.Sub(begin).Hours()
			l.Hours += hours
			l.Cost += hours * r.PerHour
			l.Steps[n] += hours * r.PerHour
			begin = until
		}
	}
	out := make([]Line, 0, len(lines))
	for _, l := range lines {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b Line) int {
		if a.Cost != b.Cost {
			if a.Cost > b.Cost {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}
