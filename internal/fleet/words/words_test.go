package words

import (
	"testing"
	"time"
)

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{
		-time.Second: "0 s", 850 * time.Millisecond: "850 ms", 1400 * time.Millisecond: "1.4 s", 14 * time.Second: "14 s",
		80 * time.Second: "1 m 20 s", 2 * time.Minute: "2 m", 3*time.Hour + 5*time.Minute: "3 h 5 m", 50 * time.Hour: "2 d 2 h",
	} {
		if got := Span(d); got != want {
			t.Errorf("%v is %q, want %q", d, got, want)
		}
	}
}
