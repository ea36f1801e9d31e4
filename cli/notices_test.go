package cli

import (
	"os"
	"strings"
	"testing"
)

// TestTopicsAreThoseOfTheContract: what can be completed and is explained is what the service takes.
func TestTopicsAreThoseOfTheContract(t *testing.T) {
	file, err := os.ReadFile("../api/openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	_, after, some := strings.Cut(string(file), "\n    Topic: {type: string, enum: [")
	enum, _, _ := strings.Cut(after, "]")
	if said := strings.Join(topics, ", "); !some || said != enum {
		t.Errorf("the command knows %s, and the contract %s", said, enum)
	}
	long := (&app{}).noticeAdd().Long
	for _, topic := range topics {
		if !strings.Contains(long, topic) {
			t.Errorf("%s is not explained", topic)
		}
	}
}
