package rehearse

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/scaling"
)

// spanning is a group that calendars size, and by whom: each span is once, from its begin.
type spanning struct {
	w     *World
	spans []scaling.Rule
	begin map[string]time.Time
	// base is what a person set last, at baseAt: what lay above it then says nothing any more.
	base   int
	baseAt time.Time
}

// lasting are the spans of now, in the order in which they began.
func (s *spanning) lasting() (all []scaling.Rule) {
	for _, r := range s.spans {
		if at := s.begin[r.Name]; !s.w.Now.Before(at) && s.w.Now.Before(at.Add(r.Duration)) {
			all = append(all, r)
		}
	}
	slices.SortStableFunc(all, func(a, b scaling.Rule) int { return s.begin[a.Name].Compare(s.begin[b.Name]) })
	return all
}

// expected is the size by what docs/tasks/sizing.md says: of several spans at once the highest min, the highest max,
// and the size of the one that began last; then as before, whatever else overlapped; a size that a person sets
// meanwhile stays.
func (s *spanning) expected() int {
	g := s.w.View.Group
	size, since, least, most := s.base, s.baseAt, -1, -1
	for _, r := range s.spans {
		if at := s.begin[r.Name]; r.Duration == 0 && !s.w.Now.Before(at) && at.After(since) {
			size, since = *r.Size, at
		}
	}
	for _, r := range s.lasting() {
		if r.Size != nil && s.begin[r.Name].After(since) {
			size = *r.Size
		}
		if r.Min != nil {
			least = max(least, *r.Min)
		}
		if r.Max != nil {
			most = max(most, *r.Max)
		}
	}
	switch {
	case least < 0 && most < 0:
		least, most = g.Min, g.Max
	case least < 0:
		least = min(g.Min, most)
	case most < 0:
		most = max(g.Max, least)
	case most < least:
		most = least
	}
	return max(least, min(size, most))
}

// TestSpansOverSpans: whatever spans of calendars lie over each other, missed in part while the group was frozen or the
// service away, the size is what the newest that lasts wants, and in the end what a person set.
func TestSpansOverSpans(t *testing.T) {
	for seed := uint64(1); seed <= uint64(*plans)/6; seed++ {
		r := rand.New(rand.NewPCG(seed, 11))
		minute := func(n int) time.Duration { return time.Duration(1+r.IntN(n)) * time.Minute }
		s := &spanning{begin: map[string]time.Time{}}
		for k := range 1 + r.IntN(3) {
			rule := aSpan(r, fmt.Sprintf("span-%d", k), minute(40))
			if k == 0 && r.IntN(3) == 0 { // from then on
				rule.Duration, rule.Min, rule.Max, rule.Size = 0, nil, nil, said(1+r.IntN(9))
			}
			rule.Complete()
			s.spans = append(s.spans, rule)
			s.begin[rule.Name] = epoch.Add(5*time.Minute + minute(60) + time.Duration(k)*time.Second)
		}
		s.base = 1 + r.IntN(9)
		s.w = sized(s.base, 1, 9, s.spans...)
		w := s.w
		w.View.Sizing.Times = map[string]scaling.Times{}
		told := func() { // when each begins, by whoever keeps the times
			for name, at := range s.begin {
				times := scaling.Times{Next: at}
				if !w.Now.Before(at) {
					times = scaling.Times{Last: at}
				}
				w.View.Sizing.Times[name] = times
			}
		}
		for at := epoch.Add(5 * time.Minute); at.Before(epoch.Add(2 * time.Hour)); at = at.Add(30 * time.Second) {
			w.At(at, told)
		}
		for _, at := range s.begin {
			w.At(at, told)
		}
		told()
		switch r.IntN(4) { // nobody acts for a while
		case 0:
			w.At(epoch.Add(minute(80)), func() {
				_ = w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Freeze("a person looks at it") })
			})
			w.At(epoch.Add(81*time.Minute), func() { _ = w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) { return g.Thaw("") }) })
		case 1:
			w.At(epoch.Add(minute(60)), func() { w.Away = w.Now.Add(minute(30)) })
		}
		if r.IntN(3) == 0 {
			w.At(epoch.Add(5*time.Minute+minute(70)+500*time.Millisecond), func() {
				n := 1 + r.IntN(9)
				err := w.Change(func(g fleet.Group) (fleet.Group, fleet.Entry, error) {
					return g.Change(func(g *fleet.Group) { g.Size = n }, "")
				})
				if err == nil && w.View.Group.Frozen == "" && !w.Now.Before(w.Away) {
					s.base, s.baseAt = n, w.Now
				} else if err == nil { // what was missed until then acts after it, or is over
					s.base = -1
				}
			})
		}
		for w.Now.Before(epoch.Add(130 * time.Minute)) {
			w.Run(w.Now.Add(time.Minute + time.Second))
			if s.base < 0 {
				break
			}
			if w.View.Group.Frozen != "" || w.Now.Before(w.Away.Add(30*time.Second)) {
				continue
			}
			if got, want := w.View.Group.Size, s.expected(); got != want {
				for _, r := range s.spans {
					t.Logf("at %s: %s", s.begin[r.Name].Sub(epoch), &r)
				}
				t.Fatalf("seed %d at %s: the size is %d, and %d is what the spans of now come to (%d by a person at %s)", seed, w.Now.Sub(epoch), got, want, s.base, s.baseAt.Sub(epoch))
			}
		}
	}
}

func said(n int) *int { return &n }
