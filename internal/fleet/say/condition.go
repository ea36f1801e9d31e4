package say

import (
	"fmt"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
)

// Condition is how a group stands, in one word that can be seen from afar.
type Condition string

// The conditions, the worst first.
const (
	Down     Condition = "down"     // it should serve, and nothing of it does
	Short    Condition = "short"    // fewer serve than min, or than size with some ill or none to come
	Changing Condition = "changing" // something comes up or goes out, or a rollout is under way
	Complete Condition = "complete"
)

func condition(v fleet.View, s *Summary) Condition {
	g := &v.Group
	least, _ := bounds(g)
	fresh := s.Serving == 0 && s.Unhealthy == 0 && !everServed(v) // it has only just been made
	switch {
	case g.Deleting:
		return Changing
	case fresh && s.ComingUp > 0:
		return Changing
	case g.Size > 0 && s.Serving == 0:
		return Down
	case s.Serving < min(least, g.Size), s.Serving < g.Size && s.Unhealthy > 0, s.Serving < g.Size && s.ComingUp == 0 && v.Rollout == nil:
		return Short
	case s.Unhealthy > 0, s.ComingUp > 0, s.GoingOut > 0, v.Rollout != nil:
		return Changing
	}
	return Complete
}

// refusedFor is what machines were refused for last, where they were.
func refusedFor(g *fleet.Group) string {
	for k := len(g.Setbacks) - 1; k >= 0; k-- {
		if why := g.Setbacks[k].Why; why != "" {
			return " (" + words.Plain(why, words.Outside) + ")"
		}
	}
	return ""
}

// everServed reports whether an instance of the group has served, or failed to.
func everServed(v fleet.View) bool {
	for i := range v.Instances {
		if !v.Instances[i].Served.IsZero() {
			return true
		}
	}
	for i := range v.Group.Slots {
		if v.Group.Slots[i].Failures > 0 {
			return true
		}
	}
	return false
}

// needs are what waits for a person.
func needs(v fleet.View, s *Summary) []string {
	g := &v.Group
	var all []string
	need := func(when bool, format string, args ...any) {
		if when {
			all = append(all, fmt.Sprintf(format, args...))
		}
	}
	need(v.Stuck != "", "No decision about it can be written: %s.", v.Stuck)
	if r := v.Rollout; r != nil && r.State == fleet.Held {
		need(true, "Its rollout to %s is held: %s. Proceed or revert.", r.To, Because(r.Cause))
	}
	if r := v.Rollout; r != nil && r.Stalled() {
		need(true, "Its rollout cannot go back: %s does not come up%s. Bring back what it needs, or proceed to go on to %s.", r.BackTo(g.Size), refusedFor(g), r.To)
	}
	need(!g.HealStopped.IsZero(), "Healing stopped: more than %d %% are unhealthy at once. Look for a fault outside, then heal anyway.", g.HealLimit)
	failing, kept, worst := badPlaces(g)
	if worst != nil && s.Serving < g.Size { // else it is only not forgotten yet
		need(true, "%s failed again and again, up to %d times in a row. See why in its failures.", words.Count(failing, "slot"), worst.Failures)
	}
	need(kept > 0, "%s empty, for heal is off. Fill it.", words.Stays(kept, "slot"))
	need(s.Unhealthy > 0 && g.Heal == fleet.HealOff, "%s unhealthy, and heal is off. Replace what is ill.", words.Are(s.Unhealthy, "instance"))
	need(g.Frozen != "", "It is frozen (%s), so nothing of it is healed, launched or replaced. Thaw it.", g.Frozen)
	return all
}
