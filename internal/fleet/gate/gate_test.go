package gate

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// traffic is what arrives: one new instance among six get 50 requests a second.
type traffic struct {
	perSecond      float64
	newBad, oldBad float64
	seconds        int
}

// stopped plays the traffic once and returns after how many seconds the gate broke, 0 when
// it never did; it is looked at every second.
func (tr traffic) stopped(r *rand.Rand, margin, alpha float64) int {
	var c Comparison
	for second := 1; second <= tr.seconds; second++ {
		c = c.Add(draw(r, tr.perSecond/6, tr.newBad), draw(r, tr.perSecond*5/6, tr.oldBad), margin)
		if c.Breaks(alpha) {
			return second
		}
	}
	return 0
}

// draw is a second of Poisson traffic.
func draw(r *rand.Rand, rate, bad float64) (c Count) {
	for at := r.ExpFloat64(); at < rate; at += r.ExpFloat64() {
		c.N++
		if r.Float64() < bad {
			c.Bad++
		}
	}
	return c
}

// TestWhenItBreaks: what is worse is caught in time, and what is equal or as much worse as it
// may be is let alone, though it is looked at every second.
func TestWhenItBreaks(t *testing.T) {
	const margin, slow, alpha = 0.005, 0.05, 0.01
	for _, c := range []struct {
		name   string
		tr     traffic
		margin float64
		within int // seconds
		least  int // of 1,000 runs that break within
		most   int
	}{
		{"5 % against 0.1 %", traffic{50, 0.05, 0.001, 60}, margin, 60, 990, 1000},
		{"2 % against 0.1 %", traffic{50, 0.02, 0.001, 600}, margin, 300, 985, 1000},
		{"everything fails, at 5 requests a second", traffic{5, 1, 0.001, 60}, margin, 20, 995, 1000},
		{"15 % slow against 5 %", traffic{50, 0.15, 0.05, 600}, slow, 300, 990, 1000},
		{"equal, 0.1 % each", traffic{50, 0.001, 0.001, 3600}, margin, 3600, 0, 10},
		{"equal, 5 % each", traffic{50, 0.05, 0.05, 3600}, margin, 3600, 0, 10},
		{"as much worse as it may be", traffic{50, 0.006, 0.001, 3600}, margin, 3600, 0, 10},
		{"as many slow as there may be", traffic{50, 0.10, 0.05, 3600}, slow, 3600, 0, 10},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			runs, part := 1000, 1
			if c.tr.seconds == 3600 { // looked at so often that a part of them says enough
				runs, part = 200, 5
			}
			broke := 0
			for n := range runs {
				r := rand.New(rand.NewPCG(7, uint64(n)))
				if at := c.tr.stopped(r, c.margin, alpha); at > 0 && at <= c.within {
					broke++
				}
			}
			if broke < c.least/part || broke > c.most/part {
				t.Errorf("it broke within %d s in %d of %d runs", c.within, broke, runs)
			}
		})
	}
}

// TestTenRequestsDoNotDecide, however many of them failed, nor does one block by itself.
func TestTenRequestsDoNotDecide(t *testing.T) {
	var c Comparison
	c = c.Add(Count{10, 10}, Count{50, 0}, 0.005)
	if c.LogE != 0 {
		t.Errorf("the first block bets: %g", c.Evidence())
	}
	c = c.Add(Count{}, Count{}, 0.005)
	if c.LogE != 0 {
		t.Errorf("an empty block bets: %g", c.Evidence())
	}
	few := Comparison{}
	for range 10 { // one each second, every second one bad, as by chance
		few = few.Add(Count{1, int64(few.New.N % 2)}, Count{5, 0}, 0.005)
	}
	if few.Breaks(1e-9) {
		t.Errorf("ten requests decide: %g", few.Evidence())
	}
}

// TestNearest holds the projection against a fine grid, and expects of an equal share that
// evidence cannot grow.
func TestNearest(t *testing.T) {
	for _, c := range []struct{ a, b, n, m, margin float64 }{
		{0.5, 0.01, 8, 42, 0.005}, {0.02, 0.001, 8, 42, 0.005}, {0.15, 0.05, 100, 10, 0.05}, {0.999, 0.001, 1, 1, 0.005}, {0.9, 0.1, 0, 5, 0.01},
	} {
		best, least := 0.0, math.Inf(1)
		const steps = 200_000
		for k := 1; k < steps; k++ {
			q := float64(k) / steps * (1 - c.margin)
			if far := c.n*divergence(c.a, q+c.margin) + c.m*divergence(c.b, q); far < least {
				best, least = q, far
			}
		}
		if q := nearest(c.a, c.b, c.n, c.m, c.margin); math.Abs(q-best) > 1e-4 {
			t.Errorf("%+v: nearest is %g, not %g", c, q, best)
		}
	}
}

// TestEvidence is told as a number that a person can read.
func TestEvidence(t *testing.T) {
	for logE, want := range map[float64]string{0: "1", math.Log(340): "340", 1e6: "1e+09", -3: "0.05"} {
		if got := fmt.Sprintf("%.2g", Comparison{LogE: logE}.Evidence()); got != want && fmt.Sprintf("%.3g", Comparison{LogE: logE}.Evidence()) != want {
			t.Errorf("the logarithm %g is told as %s, not %s", logE, got, want)
		}
	}
	if (Comparison{LogE: math.Log(99)}).Breaks(0.01) || !(Comparison{LogE: math.Log(101)}).Breaks(0.01) {
		t.Error("1 in 100 is not where it breaks")
	}
}

// TestATraceIsBounded: it keeps how it came to be, ever more coarsely, and only where
// anything was seen.
func TestATraceIsBounded(t *testing.T) {
	at := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	var c Comparison
	for n := range 1000 {
		at = at.Add(time.Second)
		c = c.Add(Count{N: 10, Bad: int64(n % 2)}, Count{N: 10}, 0.5).Traced(at)
		before := c
		if c = c.Traced(at.Add(time.Millisecond)); len(c.Trace) != len(before.Trace) {
			t.Fatal("nothing was seen, and it is traced")
		}
	}
	last := c.Trace[len(c.Trace)-1]
	if len(c.Trace) > MostTraced || len(c.Trace) < MostTraced/2 || last.At != at || last.SeenNew != c.New || c.Trace[0].At.Sub(at) > -500*time.Second {
		t.Errorf("%d points from %s to %s of %s", len(c.Trace), c.Trace[0].At, last.At, at)
	}
	kept := c.Trace
	if next := c.Add(Count{N: 1}, Count{}, 0.5).Traced(at.Add(time.Second)); len(kept) == len(next.Trace) {
		t.Error("the next point is missing")
	}
}

// TestOneBadSecond at the beginning hides no bad version, on whichever side: 5 % against 0.1 % is caught within a
// minute all the same; what is equal is let alone.
func TestOneBadSecond(t *testing.T) {
	const margin, alpha = 0.005, 0.01
	play := func(r *rand.Rand, bad float64, first, firstOld Count, seconds int) bool {
		c := Comparison{}.Add(draw(r, 8, bad), draw(r, 42, 0.001), margin).Add(first, firstOld, margin)
		for range seconds {
			if c = c.Add(draw(r, 50.0/6, bad), draw(r, 50.0*5/6, 0.001), margin); c.Breaks(alpha) {
				return true
			}
		}
		return false
	}
	for what, c := range map[string]struct {
		first, old  Count
		bad         float64
		least, most int // of 300
	}{
		"new failed for a second":  {Count{8, 8}, Count{42, 0}, 0.05, 297, 300},
		"old failed for a second":  {Count{8, 0}, Count{42, 42}, 0.05, 290, 300},
		"both, and they are equal": {Count{8, 1}, Count{42, 5}, 0.001, 0, 3},
	} {
		broke := 0
		for n := range 300 {
			if play(rand.New(rand.NewPCG(11, uint64(n))), c.bad, c.first, c.old, 60) {
				broke++
			}
		}
		t.Logf("%s: %d of 300", what, broke)
		if broke < c.least || broke > c.most {
			t.Errorf("%s: it broke in %d of 300 runs", what, broke)
		}
	}
}

// TestBurstsOfLoad: the samples of an instance follow from each other for minutes, and a gate on a metric stops
// what is no worse in at most one rollout of a hundred, however long its instances are ill at once; what is past
// the line all the time is caught within half an hour.
func TestBurstsOfLoad(t *testing.T) {
	const perStretch = int(Stretch / (15 * time.Second))
	play := func(r *rand.Rand, fresh, old int, burst, share float64, worse bool, stretches int) bool {
		var c Comparison
		bad := make([]bool, fresh+old)
		for i := range bad {
			bad[i] = r.Float64() < share
		}
		for range stretches {
			var sides [2]Count
			for i := range bad {
				var of Count
				for range perStretch {
					switch x := r.Float64(); {
					case bad[i] && x < 15/burst:
						bad[i] = false
					case !bad[i] && x < 15/burst*share/(1-share):
						bad[i] = true
					}
					if of.N++; bad[i] || (worse && i < fresh) {
						of.Bad++
					}
				}
				side := 0
				if i >= fresh {
					side = 1
				}
				sides[side] = sides[side].add(of.Outcome(int64(perStretch / 2)))
			}
			if c = c.Add(sides[0], sides[1], Metric.UsualMargin()); c.Breaks(Alpha) {
				return true
			}
		}
		return false
	}
	for _, burst := range []float64{60, 180, 300} {
		for _, n := range [][2]int{{1, 9}, {3, 7}, {5, 5}} {
			wrongly, caught := 0, 0
			for seed := range uint64(300) {
				r := rand.New(rand.NewPCG(seed, 9))
				if play(r, n[0], n[1], burst, 0.2, false, 24) {
					wrongly++
				}
				if play(r, n[0], n[1], burst, 0.2, true, 6) {
					caught++
				}
			}
			if wrongly > 3 || (n[0] > Few && caught < 285) {
				t.Errorf("bursts of %g s, %d new and %d old: %d of 300 are stopped wrongly, and %d rightly", burst, n[0], n[1], wrongly, caught)
			}
		}
	}
}

// TestNothingToCompareWith is undecided, and alarming where most of it is bad.
func TestNothingToCompareWith(t *testing.T) {
	g := Usual()
	g.Seen = g.Seen.Add(Count{N: 30_000, Bad: 30_000}, Count{}, g.Margin)
	if g.State(1) != Undecided || !g.Alarming() {
		t.Errorf("30,000 of 30,000 fail, and it is %s", g.State(1))
	}
	g.Seen = Comparison{}.Add(Count{}, Count{N: 30_000}, g.Margin)
	if g.State(1) != Undecided || g.Alarming() {
		t.Errorf("new answered nothing, and it is %s", g.State(1))
	}
	g.Seen = Comparison{}.Add(Count{N: 30_000, Bad: 300}, Count{}, g.Margin)
	if g.State(1) != Undecided || g.Alarming() {
		t.Errorf("1 in 100 fails, and it is %s and alarming", g.State(1))
	}
	g.Seen = g.Seen.Add(Count{}, Count{N: 1}, g.Margin)
	if g.State(1) != Good {
		t.Errorf("with something to compare it is %s", g.State(1))
	}
}
