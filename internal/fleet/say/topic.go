package say

import (
	"slices"
	"strings"

	"unitas/internal/fleet"
)

// Topic is what people ask to hear of.
type Topic string

// The topics.
const (
	Launches       Topic = "launches"        // an instance is ordered
	Removals       Topic = "removals"        // one is gone
	FailedLaunches Topic = "failed-launches" // one did not come up
	Heals          Topic = "heals"           // one is replaced since it was ill or vanished
	HealLimit      Topic = "heal-limit"      // healing stops, or goes on
	AtMax          Topic = "at-max"          // a group has come to its max
	Resizes        Topic = "resizes"         // the size is another
	RolloutsHeld   Topic = "rollouts-held"   // a rollout is held, or goes back
	RolloutsDone   Topic = "rollouts-done"   // a rollout has ended
	TicketsWaiting Topic = "tickets"         // a hook holds an instance, or nobody answered
	FailingSlots   Topic = "failing-slots"   // a slot fails again and again, or a zone
)

// AllTopics are all of them.
var AllTopics = []Topic{Launches, Removals, FailedLaunches, Heals, HealLimit, AtMax, Resizes, RolloutsHeld, RolloutsDone, TicketsWaiting, FailingSlots}

// byKind are the topics of entries that are told by their kind alone.
var byKind = map[string][]Topic{
	"instance.ordered":      {Launches},
	"instance.gone":         {Removals},
	"instance.lost":         {Heals},
	"group.healing-stopped": {HealLimit},
	"group.healing-resumed": {HealLimit},
	"group.resized":         {Resizes},
	"rollout.held":          {RolloutsHeld},
	"rollout.reverting":     {RolloutsHeld},
	"rollout.stalled":       {RolloutsHeld},
	"rollout.done":          {RolloutsDone},
	"rollout.reverted":      {RolloutsHeld, RolloutsDone},
	"rollout.abandoned":     {RolloutsDone},
	"ticket.opened":         {TicketsWaiting},
	"ticket.expired":        {TicketsWaiting},
	"group.relapsed":        {FailingSlots},
	"zone.backing-off":      {FailingSlots},
}

// Topics are those that an entry of the journal belongs to.
func Topics(e fleet.Entry) []Topic {
	all := slices.Clone(byKind[e.Kind])
	about, what, _ := strings.Cut(e.Kind, ".")
	switch e.Cause.Code {
	case fleet.CodeRefused, fleet.CodeNotUp, fleet.CodeNotHealthy, fleet.CodeHookFailed:
		if about == "instance" && (what == "leaving" || what == "draining" || what == "ordered") {
			all = append(all, FailedLaunches)
		}
	case fleet.CodeChecked, fleet.CodeVanished:
		if about == "instance" && (what == "draining" || what == "leaving" || what == "held") {
			all = append(all, Heals)
		}
	}
	if n := e.Numbers; e.Kind == "group.resized" && n.Int("to") >= n.Int("max") && n.Int("to") > n.Int("from") {
		all = append(all, AtMax)
	}
	return all
}
