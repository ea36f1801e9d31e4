// Package words writes durations as people read them, the same in the
// service's sentences and on the command line.
package words

import (
	"fmt"
	"math"
	"time"
)

// Span writes a duration: "850 ms", "1.4 s", "14 s", "1 m 20 s", "3 h 5 m",
// "2 d 2 h". A negative one is "0 s".
func Span(t time.Duration) string {
	switch {
	case t < 0:
		return "0 s"
	case t < time.Second:
		return fmt.Sprintf("%d ms", t.Milliseconds())
	case t < 10*time.Second:
		s := math.Round(t.Seconds()*10) / 10
		return fmt.Sprintf("%g s", s)
	case t < time.Minute:
		return fmt.Sprintf("%d s", int(t.Seconds()))
	case t < time.Hour:
		return pair(int(t.Minutes()), "m", int(t.Seconds())%60, "s")
	case t < 48*time.Hour:
		return pair(int(t.Hours()), "h", int(t.Minutes())%60, "m")
	}
	return pair(int(t.Hours())/24, "d", int(t.Hours())%24, "h")
}

func pair(a int, unit string, b int, small string) string {
	if b == 0 {
		return fmt.Sprintf("%d %s", a, unit)
	}
	return fmt.Sprintf("%d %s %d %s", a, unit, b, small)
}
