package api

import (
	"testing"

	"unitas/api/contract"
	"unitas/internal/fleet/say"
)

// TestTopicsCanBeAskedFor: whatever entries are told under can be given in a notice.
func TestTopicsCanBeAskedFor(t *testing.T) {
	for _, topic := range say.AllTopics {
		if !contract.Topic(topic).Valid() {
			t.Errorf("%s is no topic of the contract", topic)
		}
	}
}
