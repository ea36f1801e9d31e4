package fleet

import (
	"fmt"
	"math"
	"strings"
	"time"
)

// Refusal is a request that cannot be carried out as it stands.
type Refusal struct {
	Field string // the name of the field at fault, or "" when it is the state of things
	Text  string // what is wrong and what to do
}

func (r *Refusal) Error() string { return r.Text }

func refuse(field, format string, args ...any) *Refusal {
	return &Refusal{Field: field, Text: fmt.Sprintf(format, args...)}
}

// Span writes a duration as people read it: "850 ms", "14 s", "1 m 20 s",
// "3 h 5 m". Parts under a hundredth of the whole are left out.
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

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func either[T ~string](words []T) string {
	parts := make([]string, len(words))
	for i, w := range words {
		parts[i] = string(w)
	}
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " or " + parts[len(parts)-1]
}
