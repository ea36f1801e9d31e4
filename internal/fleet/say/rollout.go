package say

import (
	"fmt"
	"slices"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/rollout"
	"unitas/internal/fleet/words"
)

func rolloutSentence(now time.Time, v fleet.View, s *Summary) string {
	g, r := v.Group, v.Rollout
	to := s.on(r.To)
	if g.Frozen != "" && !r.State.Ended() {
		return fmt.Sprintf("Frozen (%s) in wave %d of %d, %s: %d on %s.",
			g.Frozen, r.Wave+1, len(r.Waves), serves(s, &g), to.Serving, r.To)
	}
	if until := r.Waits(now, v.Location); !until.IsZero() {
		return fmt.Sprintf("Waits until %s to go on%s, in wave %d of %d, %s: %d on %s.",
			words.Moment(until), hours(r), r.Wave+1, len(r.Waves), serves(s, &g), to.Serving, r.To)
	}
	if r.AwaitsHealing(&g) {
		return fmt.Sprintf("Waits until healing goes on, in wave %d of %d, %s: %d on %s.", r.Wave+1, len(r.Waves), serves(s, &g), to.Serving, r.To)
	}
	switch r.State {
	case fleet.Moving:
		if r.AtOnce {
			return fmt.Sprintf("All at once, and nobody need serve meanwhile: %s, %d on %s%s.", serves(s, &g), to.Serving, r.To, waiting(s))
		}
		return fmt.Sprintf("Wave %d of %d, %s: %d on %s%s.", r.Wave+1, len(r.Waves), serves(s, &g), to.Serving, r.To, waiting(s))
	case fleet.Soaking:
		return fmt.Sprintf("Wave %d of %d soaks, %s: %d on %s, good for %s of %s.",
			r.Wave+1, len(r.Waves), serves(s, &g), to.Serving, r.To, words.Span(now.Sub(r.Since)), words.Span(r.Soaking()))
	case fleet.Held:
		if r.Back {
			return fmt.Sprintf("Held on the way back to %s, %s: %s. Revert goes on, proceed turns round.", r.BackTo(g.Size), serves(s, &g), Because(r.Cause))
		}
		return fmt.Sprintf("Held in wave %d of %d, %s: %s. Proceed or revert.", r.Wave+1, len(r.Waves), serves(s, &g), Because(r.Cause))
	case fleet.Reverting:
		text := fmt.Sprintf("Reverting to %s, %s: %d back%s.", r.BackTo(g.Size), serves(s, &g), back(r, g.Size, s), waiting(s))
		if r.Turned.Code != fleet.CodeWords {
			text += " It goes back since " + Because(r.Turned) + "."
		}
		if r.Stalled() {
			text += fmt.Sprintf(" It cannot: machines do not come up%s.", refusedFor(&g))
		}
		return text
	}
	return Ended(r)
}

// serves tells how many serve, of how many.
func serves(s *Summary, g *fleet.Group) string {
	if s.Serving > g.Size {
		return fmt.Sprintf("%d serving, %d more than the size of %d", s.Serving, s.Serving-g.Size, g.Size)
	}
	return fmt.Sprintf("%d of %d serving", s.Serving, g.Size)
}

// back is how many serve of what a revert goes back to.
func back(r *fleet.Rollout, size int, s *Summary) (serving int) {
	for _, share := range r.GoesBack(size) {
		serving += min(share.N, s.on(share.Version).Serving)
	}
	return serving
}

// hours tells in which hours a rollout goes on.
func hours(r *fleet.Rollout) string {
	if r.Hours == "" {
		return ""
	}
	return fmt.Sprintf(" (only %s)", r.Hours)
}

// Why tells why a rollout is where it is: of one that has gone back, why it turned first.
func Why(r *fleet.Rollout) string {
	why := Because(r.Cause)
	if r.State == fleet.Reverted && r.Turned.Code != fleet.CodeWords {
		why = Because(r.Turned) + "; " + why
	}
	return why
}

// Ended is the sentence about a rollout that is over.
func Ended(r *fleet.Rollout) string {
	return fmt.Sprintf("The rollout to %s is %s: %s.", r.To, r.State, Why(r))
}

// left estimates the rest from the usual time to come up.
func left(now time.Time, v fleet.View, s *Summary) time.Duration {
	r := v.Rollout
	switch {
	case v.Usual == 0 || v.Group.Frozen != "" || (r != nil && (r.State == fleet.Held || r.State.Ended())):
		return 0
	case r != nil && r.State != fleet.Soaking && len(s.Waits) == 0: // nothing moves
		return 0
	case slices.ContainsFunc(s.Waits, func(w Wait) bool { return w.State == fleet.HeldIn && w.Usual == 0 }): // nobody knows for how long
		return 0
	case r == nil:
		var longest time.Duration
		for _, w := range s.Waits {
			if w.State.ComingUp() {
				longest = max(longest, v.Usual-max(w.For, w.Behind), time.Second)
			}
		}
		return longest
	}
	atOnce := r.Above + r.Below
	if r.State == fleet.Reverting {
		return rollout.WaveShortest(v.Group.Size-back(r, v.Group.Size, s), atOnce, v.Usual, 0)
	}
	rest := r.Waves.Shortest(r.Wave, s.on(r.To).Serving, v.Group.Size, atOnce, v.Usual, 0, r.Soak)
	if r.State == fleet.Soaking {
		rest -= min(now.Sub(r.Since), r.Soaking())
	}
	for _, w := range s.Waits { // what is under way has part of its time behind it
		if w.State.ComingUp() {
			rest -= min(max(w.For, w.Behind), v.Usual)
			break
		}
	}
	return max(rest, time.Second)
}
