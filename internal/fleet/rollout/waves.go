// Package rollout owns the arithmetic of a staged replacement: how far each
// wave goes at a given size, and how long the rest will take.
package rollout

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Wave is one stage of a rollout: how many instances run the new version when
// it is complete, either as a number or as a share of the group.
type Wave struct {
	Count   int     // instances; 0 when Percent is set
	Percent float64 // of the group's size, over 0 to 100
	// Soak is how long it must stay good; Soaks is unset when that is as of all others.
	Soak  time.Duration
	Soaks bool
}

// Waves are the stages in the order in which they are gone through.
type Waves []Wave

// LongestSoak is how long one wave may soak at most.
const LongestSoak = 24 * time.Hour

// ParseWaves reads the comma-separated form that people type: "1,50%,100%", each with a
// soak of its own where one follows: "1:2m,100%".
func ParseWaves(text string) (Waves, error) {
	var ws Waves
	for _, part := range strings.Split(text, ",") {
		var w Wave
		part, soak, soaks := strings.Cut(strings.TrimSpace(part), ":")
		if soaks {
			var err error
			if w.Soak, err = time.ParseDuration(soak); err != nil || w.Soak < 0 || w.Soak > LongestSoak {
				return nil, fmt.Errorf("%q is not how long the wave %s may soak; give 0s to 24h", soak, part)
			}
			w.Soaks = true
		}
		share, isShare := strings.CutSuffix(part, "%")
		if isShare {
			p, err := strconv.ParseFloat(share, 64)
			if err != nil || !(p > 0 && p <= 100) {
				return nil, fmt.Errorf("wave %q is not a share over 0%% and up to 100%%", part)
			}
			w.Percent = p
			ws = append(ws, w)
			continue
		}
		n, err := strconv.Atoi(part)
		if err != nil || n < 1 {
			return nil, fmt.Errorf("wave %q is neither a number of instances (1 or more) nor a share such as 50%%", part)
		}
		w.Count = n
		ws = append(ws, w)
	}
	return ws, nil
}

// String is the form that [ParseWaves] reads.
func (w Wave) String() string {
	if w.Soaks {
		return w.Target() + ":" + w.Soak.String()
	}
	return w.Target()
}

// Target is how far the wave goes, as people give it.
func (w Wave) Target() string {
	if w.Percent > 0 {
		return strconv.FormatFloat(w.Percent, 'f', -1, 64) + "%"
	}
	return strconv.Itoa(w.Count)
}

// Soaking is how long the wave must stay good, when all others must for usual.
func (w Wave) Soaking(usual time.Duration) time.Duration {
	if w.Soaks {
		return w.Soak
	}
	return usual
}

func (ws Waves) String() string {
	parts := make([]string, len(ws))
	for i, w := range ws {
		parts[i] = w.String()
	}
	return strings.Join(parts, ",")
}

// Of is how many of size instances run the new version at the end of the
// wave: a share is rounded up, and the result is between 1 and size (0 for an
// empty group).
func (w Wave) Of(size int) int {
	n := w.Count
	if w.Percent > 0 {
		// In whole numbers: 7 % of 100 would be 7.000000000000001 otherwise.
		const whole = 100 * 1_000_000
		n = int((int64(math.Round(w.Percent*1_000_000))*int64(size) + whole - 1) / whole)
	}
	return min(max(n, 1), size)
}

// Validate reports waves that go down or do not end at 100% in a group of the
// given size.
func (ws Waves) Validate(size int) error {
	if len(ws) == 0 {
		return fmt.Errorf("at least one wave is needed, such as 100%%")
	}
	for i := 1; i < len(ws); i++ {
		a, b := ws[i-1], ws[i]
		down := a.Of(size) > b.Of(size)
		if a.Percent > 0 && b.Percent > 0 {
			down = a.Percent >= b.Percent
		} else if a.Count > 0 && b.Count > 0 {
			down = a.Count >= b.Count
		}
		if down {
			return fmt.Errorf("waves must go up, but %s comes after %s", b, a)
		}
	}
	if last := ws[len(ws)-1]; last.Percent != 100 {
		return fmt.Errorf("the last wave must be 100%%, not %s", last)
	}
	return nil
}

// Shortest is the least time in which waves from the index first on can be
// walked at the given size when at most above+below instances are replaced at
// once, each takes boot to come up and drain to go, and have instances run
// the new version already: the batches of each wave follow one another, then
// the soak.
func (ws Waves) Shortest(first, have, size, atOnce int, boot, drain, soak time.Duration) time.Duration {
	var total time.Duration
	for _, w := range ws[min(first, len(ws)):] {
		total += WaveShortest(max(w.Of(size)-have, 0), atOnce, boot, drain) + w.Soaking(soak)
		have = max(have, w.Of(size))
	}
	return total
}

// WaveShortest is the least time to replace n instances, atOnce at a time.
func WaveShortest(n, atOnce int, boot, drain time.Duration) time.Duration {
	if n <= 0 {
		return 0
	}
	atOnce = max(atOnce, 1)
	batches := (n + atOnce - 1) / atOnce
	return time.Duration(batches)*boot + drain
}
