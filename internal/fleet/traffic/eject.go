package traffic

import (
	"fmt"
	"slices"
	"time"
)

// Eject is when a target is set aside for how it answers. Of the zero value it never is.
type Eject struct {
	Failures    int     `json:"failures,omitempty"` // in a row: 5xx, or no answer
	Margin      float64 `json:"points,omitempty"`   // percent points more failures than the others have
	Slower      float64 `json:"slower,omitempty"`   // times as slow as the others, by the median
	MinRequests int     `json:"least,omitempty"`    // requests in the last minute without which Margin and Slower say nothing
	// First is for how long the first time; each time after it in a row doubles it, up to Max.
	First time.Duration `json:"first,omitempty"`
	Max   time.Duration `json:"most,omitempty"`
}

// UsualEject is what is meant when somebody only says that it is wanted.
var UsualEject = Eject{Failures: 5, Margin: 30, Slower: 4, MinRequests: 50, First: 10 * time.Second, Max: 5 * time.Minute}

// leastSlower is what medians may differ by whatever their ratio, in ms.
const leastSlower = 5

// Conduct is how a target answered in the last minute, or since it was last set aside.
type Conduct struct {
	Instance         string
	Requests, Failed int64
	InARow           int     // failures, now
	Median           float64 // ms to the first byte; 0 when nobody knows
	Open             bool
	Aside            bool // now, for how it answered
	Refuses          bool // it is set aside now only for taking no connections
	Times            int  // that it was set aside, in a row
}

// Ejection is a target that is to be set aside.
type Ejection struct {
	Instance string
	Why      string
	For      time.Duration
}

// Judge finds the targets of a pool that are to be set aside now, the worst first. Never more
// than half of those that are open are. Those that refuse connections give way to them, for what
// they refuse goes elsewhere all the same; back are those of them that are to be tried again.
func (e *Eject) Judge(all []Conduct) (out []Ejection, back []string) {
	open, aside := 0, 0
	for _, c := range all {
		if c.Open {
			open++
		}
		if c.Open && c.Aside {
			aside++
		}
	}
	type found struct {
		Ejection
		badness float64
	}
	var bad []found
	for i, c := range all {
		if !c.Open || c.Aside {
			continue
		}
		if why, badness := e.against(c, all, i); why != "" {
			bad = append(bad, found{Ejection{c.Instance, why, e.For(c.Times + 1)}, badness})
		}
	}
	slices.SortStableFunc(bad, func(a, b found) int {
		switch {
		case a.badness > b.badness:
			return -1
		case a.badness < b.badness:
			return 1
		}
		return 0
	})
	for _, f := range bad {
		if !MayBeAside(open, aside) {
			break
		}
		aside++
		out = append(out, f.Ejection)
	}
	if len(out) == 0 {
		return nil, nil
	}
	for _, c := range all {
		if !c.Open || !c.Refuses || slices.ContainsFunc(out, func(o Ejection) bool { return o.Instance == c.Instance }) {
			continue
		}
		if MayBeAside(open, aside) {
			aside++
		} else {
			back = append(back, c.Instance)
		}
	}
	return out, back
}

// MayBeAside reports whether one more of the open targets of a pool may be set aside: never more
// than half are, for what goes badly everywhere would close the pool.
func MayBeAside(open, aside int) bool { return (aside+1)*2 <= open }

// Refused is for how long a target is set aside that refused or reset a connection.
var Refused = Eject{First: 500 * time.Millisecond, Max: 30 * time.Second}

// Forgives reports whether a target that came back so long ago was well for as long as it was
// away: the next time is the first one then.
func (e *Eject) Forgives(c Conduct, back time.Duration) bool {
	return c.Times > 0 && !c.Aside && c.Requests > 0 && back > e.For(c.Times)
}

// For is for how long a target is set aside the nth time in a row.
func (e *Eject) For(nth int) time.Duration {
	d := e.First
	for range min(nth-1, 30) {
		if d *= 2; d >= e.Max {
			return max(e.Max, e.First)
		}
	}
	return d
}

// against says what speaks against a target, and how much.
func (e *Eject) against(c Conduct, all []Conduct, self int) (why string, badness float64) {
	if e.Failures > 0 && c.InARow >= e.Failures {
		return fmt.Sprintf("%d failures in a row", c.InARow), 1000 + float64(c.InARow)
	}
	var requests, failed int64
	var medians []float64
	for i, o := range all {
		if i == self || !o.Open || o.Aside || o.Refuses {
			continue
		}
		requests, failed = requests+o.Requests, failed+o.Failed
		if o.Median > 0 && o.Requests >= int64(e.MinRequests) {
			medians = append(medians, o.Median)
		}
	}
	if c.Requests < int64(max(e.MinRequests, 1)) {
		return "", 0
	}
	if e.Margin > 0 && requests >= int64(e.MinRequests) && requests > 0 {
		mine, theirs := 100*float64(c.Failed)/float64(c.Requests), 100*float64(failed)/float64(requests)
		if mine-theirs >= e.Margin {
			return fmt.Sprintf("%.0f %% of its %d requests failed, of the others' %d it is %.0f %%", mine, c.Requests, requests, theirs), mine - theirs
		}
	}
	if e.Slower > 0 && len(medians) > 0 && c.Median > 0 {
		slices.Sort(medians)
		theirs := medians[len(medians)/2]
		if c.Median >= e.Slower*theirs && c.Median-theirs >= leastSlower {
			return fmt.Sprintf("half of its %d answers took over %.0f ms, the others' %.1f ms", c.Requests, c.Median, theirs), c.Median / theirs
		}
	}
	return "", 0
}
