package say

import (
	"fmt"
	"strings"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
)

// Line tells what happened, as a sentence: "timetable-003 (timetable-web@1, east-pier)
// is serving."
func Line(group string, e fleet.Entry) string {
	if e.Text != "" {
		return e.Text
	}
	about, what, _ := strings.Cut(e.Kind, ".")
	switch about {
	case "instance":
		return ofInstance(group, what, e)
	case "ticket":
		return ofTicket(what, e)
	case "verdict":
		if len(e.Instances) > 0 {
			return fmt.Sprintf("%s are %s, and were %s: %s.", words.Count(len(e.Instances), "instance"), what, e.Was, from(e))
		}
		return fmt.Sprintf("%s is %s, and was %s.", e.Instance, what, e.Was)
	case "rollout":
		if what == "started" {
			return fmt.Sprintf("The rollout of %s from %s to %s begins.", group, e.Cause.About, e.Version)
		}
		if what == "stalled" {
			return fmt.Sprintf("The rollout of %s to %s cannot go back: %s of %s failed to come up, one after another.", group, e.Version, words.Count(e.Numbers.Int("failures"), "machine"), e.Was)
		}
		return fmt.Sprintf("The rollout of %s to %s is %s.", group, e.Version, what)
	case "zone":
		if what == "recovered" {
			return fmt.Sprintf("Launches in %s go on.", e.Zone)
		}
		return fmt.Sprintf("Launches in %s wait %s.", e.Zone, words.Span(e.Numbers.Span("wait_seconds")))
	}
	return ofGroup(group, what, e)
}

func ofInstance(group, what string, e fleet.Entry) string {
	switch what {
	case "retiring":
		return fmt.Sprintf("The instance %s is being retired.", e.Instance)
	case "pinned":
		return fmt.Sprintf("%s is pinned: nothing removes it.", e.Instance)
	case "unpinned":
		return fmt.Sprintf("%s is not pinned any more.", e.Instance)
	case "released":
		return fmt.Sprintf("%s (%s, %s) is released from %s: it keeps running and belongs to nobody.", e.Instance, e.Version, e.Zone, group)
	}
	if len(e.Instances) > 0 {
		return fmt.Sprintf("%s (%s) are %s: %s.", words.Count(len(e.Instances), "instance"), e.Version, what, from(e))
	}
	return fmt.Sprintf("%s (%s, %s) is %s.", e.Instance, e.Version, e.Zone, what)
}

func ofTicket(what string, e fleet.Entry) string {
	who, hook, n := e.Instance, e.Cause.About, e.Numbers
	if len(e.Instances) > 0 {
		who = words.Count(len(e.Instances), "instance") + " (" + from(e) + ")"
	}
	held := ""
	if n.Get("held_seconds") > 0 {
		held = " after " + words.Span(n.Span("held_seconds"))
	}
	switch what {
	case "opened":
		return fmt.Sprintf("The hook %s holds %s; the deadline is in %s.", hook, who, words.Span(n.Span("deadline_seconds")))
	case "extended":
		return fmt.Sprintf("The hook %s may hold %s for %s more, so until %s from now.", hook, who, words.Span(n.Span("by_seconds")), words.Span(n.Span("deadline_seconds")))
	case "expired":
		if e.Cause.Code == fleet.CodeDropped {
			return fmt.Sprintf("The hook %s holds %s no more.", hook, who)
		}
		return fmt.Sprintf("Nobody answered the hook %s for %s%s, so %s counts.", hook, who, held, e.Was)
	case "skipped":
		return fmt.Sprintf("%s went past the retire hooks: %s.", who, hook)
	}
	return fmt.Sprintf("The hook %s is answered for %s%s: %s.", hook, who, held, e.Was)
}

// from names the first and the last of many.
func from(e fleet.Entry) string {
	return e.Instances[0] + " to " + e.Instances[len(e.Instances)-1]
}

func ofGroup(group, what string, e fleet.Entry) string {
	switch what {
	case "deleting":
		return fmt.Sprintf("The group %s is being deleted.", group)
	case "frozen":
		return fmt.Sprintf("The group %s is frozen: nothing happens to it by itself.", group)
	case "thawed":
		return fmt.Sprintf("The group %s is thawed.", group)
	case "healing-permitted":
		return fmt.Sprintf("What is unhealthy in %s may be replaced whatever the limit, and places that stay empty be filled.", group)
	case "healing-stopped":
		return fmt.Sprintf("Healing of %s stops and asks for a person.", group)
	case "healing-resumed":
		return fmt.Sprintf("Healing of %s goes on.", group)
	case "resized":
		n := e.Numbers
		return fmt.Sprintf("The size of %s is %d, and was %d.", group, n.Int("to"), n.Int("from"))
	case "bounded":
		return fmt.Sprintf("The size of %s is between %d and %d now.", group, e.Numbers.Int("min"), e.Numbers.Int("max"))
	case "relapsed":
		wait := words.Span(e.Numbers.Span("wait_seconds"))
		if e.Cause.Code == fleet.CodeForNought {
			return fmt.Sprintf("%s of %s went again before it served; another is launched once %s has been unhealthy for %s.",
				e.Instances[len(e.Instances)-1], group, e.Cause.Instance, wait)
		}
		return fmt.Sprintf("One slot of %s failed %d times in a row, the last %s; it stays empty for %s.",
			group, e.Numbers.Int("failures"), strings.Join(e.Instances, ", "), wait)
	case "relapse-over":
		return fmt.Sprintf("The place of %s, which failed %d times in a row, is well again.", e.Instance, e.Numbers.Int("failures"))
	}
	return fmt.Sprintf("The group %s is %s.", group, what)
}
