package probe

import (
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet/health"
)

// TestLateAnswersDoNotCount: a timeout counts when this process was awake to see it,
// and does not when it was not.
func TestLateAnswersDoNotCount(t *testing.T) {
	begun := time.Unix(1_700_000_000, 0)
	after := func(d time.Duration) time.Time { return begun.Add(d) }
	const second = time.Second
	for _, c := range []struct {
		name string
		took time.Duration
		good bool
		woke []time.Duration // beats, after the question
		late bool
	}{
		{"in time", second + 3*time.Millisecond, false, []time.Duration{100e6, 200e6, 300e6, 400e6, 500e6, 600e6, 700e6, 800e6, 900e6, 1000e6}, false},
		{"noticed half a minute late", 28 * second, false, nil, true},
		{"noticed a little late", second + 200*time.Millisecond, false, []time.Duration{100e6, 200e6, 300e6, 400e6, 500e6, 600e6, 700e6, 800e6, 900e6, 1000e6, 1100e6}, false},
		{"the process stood still", second + 3*time.Millisecond, false, []time.Duration{100e6, 800e6, 900e6, 1000e6}, true},
		{"it stands still", second + 3*time.Millisecond, false, []time.Duration{100e6, 200e6}, true},
		{"a good answer counts always", 28 * second, true, nil, false},
		{"one that came in time was no timeout", second / 2, false, []time.Duration{100e6}, false},
	} {
		p := newPulse()
		p.due = after(100 * time.Millisecond)
		for _, d := range c.woke {
			p.woke(after(d))
		}
		a := p.judge(health.Answer{At: begun, Took: c.took, Good: c.good, Why: "no whole answer within 1 s"}, second)
		if a.Late != c.late || strings.Contains(a.Why, "does not count") != c.late {
			t.Errorf("%s: late is %v: %s", c.name, a.Late, a.Why)
		}
	}
	p := newPulse()
	p.due = begun
	p.woke(after(5 * second)) // long before the question
	p.woke(after(5*second + beat))
	if a := p.judge(health.Answer{At: after(5*second + beat), Took: second, Why: "no whole answer within 1 s"}, second); !a.Late {
		t.Error("a beat that is missing since is not noticed")
	}
	for n := range 10 {
		p.woke(after(5*second + beat*time.Duration(n+2)))
	}
	if a := p.judge(health.Answer{At: after(5*second + beat), Took: second, Why: "no whole answer within 1 s"}, second); a.Late {
		t.Errorf("what was missed before the question counts: %s", a.Why)
	}
}
