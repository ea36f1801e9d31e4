package say

import (
	"fmt"
	"strings"

	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
)

// GroupStatus is how one group stands among all.
type GroupStatus struct {
	Name           string
	Size           int
	Serving        int
	Condition      Condition
	Asks           bool // something of it waits for a person
	Frozen, Rolled bool // Rolled: a rollout is under way
	Held           bool // and is held
}

// StatusOf is how the group of a view stands.
func StatusOf(v fleet.View, s Summary) GroupStatus {
	return GroupStatus{Name: v.Group.Name, Size: v.Group.Size, Serving: s.Serving, Condition: s.Condition, Asks: len(s.Needs) > 0, Frozen: v.Group.Frozen != "", Rolled: v.Rollout != nil, Held: v.Rollout != nil && v.Rollout.State == fleet.Held}
}

// named is up to how many groups are named, and not counted.
const named = 3

// Headline is how all groups stand, the worst first.
func Headline(all []GroupStatus) string {
	if len(all) == 0 {
		return "No groups yet."
	}
	var out, short []string
	size, serving, asking, frozen, rolled, held := 0, 0, 0, 0, 0, 0
	for _, g := range all {
		size, serving = size+g.Size, serving+g.Serving
		switch g.Condition {
		case Down:
			out = append(out, g.Name)
		case Short:
			short = append(short, g.Name)
		}
		if g.Frozen {
			frozen++
		} else if g.Asks {
			asking++
		}
		switch {
		case g.Held:
			held++
		case g.Rolled:
			rolled++
		}
	}
	which := func(names []string) string {
		if len(names) <= named {
			return strings.Join(names, ", ")
		}
		return words.Count(len(names), "group")
	}
	var said []string
	if len(out) > 0 {
		said = append(said, fmt.Sprintf("nothing of %s serves", which(out)))
	}
	if len(short) > 0 {
		said = append(said, fmt.Sprintf("%s %s too little", which(short), verb(len(short), "serves", "serve")))
	}
	if asking > 0 {
		said = append(said, fmt.Sprintf("%s %s for a person", words.Count(asking, "group"), verb(asking, "waits", "wait")))
	}
	if frozen > 0 {
		said = append(said, words.Count(frozen, "group")+" frozen")
	}
	whole := strings.Join(said, "; ")
	switch {
	case len(said) == 0 && len(all) == 1:
		whole = "the group is well"
	case len(said) == 0:
		whole = fmt.Sprintf("all %d groups are well", len(all))
	}
	text := fmt.Sprintf("%s%s: %d of %s serving", strings.ToUpper(whole[:1]), whole[1:], serving, words.Count(size, "instance"))
	if rolled > 0 {
		text += fmt.Sprintf(", %s under way", words.Count(rolled, "rollout"))
	}
	if held > 0 {
		text += fmt.Sprintf(", %s held", words.Count(held, "rollout"))
	}
	return text + "."
}

func verb(n int, one, several string) string {
	if n == 1 {
		return one
	}
	return several
}
