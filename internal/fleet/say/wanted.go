package say

import (
	"fmt"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
)

// Wanted tells what decisions about the group of the view go by, in a sentence, and what each of the
// differences between that and what is there waits for.
func Wanted(now time.Time, v fleet.View, w fleet.Wanted) (sentence string, waits []string) {
	sentence = goal(v, w)
	missing, surplus := 0, 0
	for _, of := range w.Versions {
		missing += max(of.Wanted-of.Counted, 0)
		if over := max(of.Counted-of.Wanted, 0); over > 0 {
			surplus += over
		}
	}
	if w.Goal == fleet.GoalFrozen || w.Goal == fleet.GoalGone {
		return sentence, nil
	}
	var coming []string
	for i := range v.Instances {
		if in := &v.Instances[i]; in.State.ComingUp() && !v.Group.IsOverdue(now, in) {
			coming = append(coming, in.ID)
		}
	}
	switch len(coming) {
	case 0:
	case 1:
		waits = append(waits, coming[0]+" comes up.")
	default:
		waits = append(waits, fmt.Sprintf("%s and %d more come up.", coming[0], len(coming)-1))
	}
	if w.Empty > 0 {
		text := fmt.Sprintf("%s empty after failures", words.Stays(w.Empty, "slot"))
		switch {
		case w.EmptyUntil.IsZero():
			text += ", until a person heals the group or replaces what was there"
		case w.Empty == 1:
			text += ", until " + words.Moment(w.EmptyUntil)
		default:
			text += ", the first until " + words.Moment(w.EmptyUntil)
		}
		waits = append(waits, text+".")
	}
	for _, z := range w.Closed {
		text := fmt.Sprintf("%s gets nothing until %s: %s failed there in a row", z.Zone, words.Moment(z.Until), words.Count(z.Failures, "launch"))
		if z.Why != "" {
			text += ", the last since " + z.Why
		}
		waits = append(waits, text+".")
	}
	if missing > 0 && w.Counted >= w.Most {
		waits = append(waits, fmt.Sprintf("No more come before others have gone: %d are there, and no more than %d may be.", w.Counted, w.Most))
	}
	if surplus > 0 && w.Serving <= w.Least {
		waits = append(waits, fmt.Sprintf("None of those that serve go: %d serve, and at least %d must.", w.Serving, w.Least))
	}
	return sentence, waits
}

func goal(v fleet.View, w fleet.Wanted) string {
	text := ""
	switch r := v.Rollout; w.Goal {
	case fleet.GoalFrozen:
		return fmt.Sprintf("The group is frozen: nothing is launched or sent away. %d are there, and the size is %d.", w.Counted, w.Size)
	case fleet.GoalGone:
		return fmt.Sprintf("The group is being deleted: none are wanted, and %d are there.", w.Counted)
	case fleet.GoalWave:
		text = fmt.Sprintf("Wave %d of %d to %s is being filled, of %d in all.", r.Wave+1, len(r.Waves), r.To, w.Size)
	case fleet.GoalHeld:
		text = fmt.Sprintf("The rollout to %s replaces nothing now, and losses are made good: %d are wanted.", r.To, w.Size)
	case fleet.GoalBack:
		text = fmt.Sprintf("The rollout to %s goes back, and %d are wanted of what ran before.", r.To, w.Size)
	default:
		return fmt.Sprintf("%d are wanted, %d are there, and %d serve.", w.Size, w.Counted, w.Serving)
	}
	return text + fmt.Sprintf(" %d are there, and %d serve; at least %d must, and at most %d may be there.", w.Counted, w.Serving, w.Least, w.Most)
}
