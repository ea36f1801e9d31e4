package fleet

// Outcome is how something came out that the journal tells of; "" for what is neither.
type Outcome string

// The outcomes.
const (
	Good Outcome = "good"
	Bad  Outcome = "bad"
)

var outcomes = map[Outcome][]string{
	Good: {"instance.serving", "verdict.healthy", "zone.recovered", "group.healing-resumed", "group.relapse-over", "rollout.done", "ticket.passed", "image.copied"},
	Bad: {"instance.lost", "verdict.unhealthy", "zone.backing-off", "group.healing-stopped", "group.relapsed", "rollout.held", "rollout.stalled", "rollout.reverting",
		"rollout.reverted", "rollout.abandoned", "ticket.failed", "ticket.expired", "notice.failing"},
}

// Kinds are the kinds of entries that came out so.
func (o Outcome) Kinds() []string { return outcomes[o] }

var outcomeOf = func() map[string]Outcome {
	all := map[string]Outcome{}
	for o, kinds := range outcomes {
		for _, k := range kinds {
			all[k] = o
		}
	}
	return all
}()

// OutcomeOf is how an entry of the kind came out.
func OutcomeOf(kind string) Outcome { return outcomeOf[kind] }
