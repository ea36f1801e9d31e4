package say

import (
	"fmt"
	"testing"
	"time"

	"unitas/internal/fleet"
)

func TestHeadline(t *testing.T) {
	group := func(name string, f Condition, serving int) GroupStatus {
		return GroupStatus{Name: name, Size: 6, Serving: serving, Condition: f}
	}
	well := group("timetable", Complete, 6)
	held, frozen, rolled := group("fares", Complete, 6), group("fares", Complete, 6), group("fares", Changing, 6)
	held.Asks, frozen.Asks, frozen.Frozen, rolled.Rolled = true, true, true, true
	many := []GroupStatus{}
	for k := range 500 {
		many = append(many, group(fmt.Sprint("g-", k), map[bool]Condition{true: Down, false: Short}[k < 4], 0))
	}
	for _, c := range []struct {
		all  []GroupStatus
		want string
	}{
		{nil, "No groups yet."},
		{[]GroupStatus{well}, "The group is well: 6 of 6 instances serving."},
		{[]GroupStatus{well, rolled}, "All 2 groups are well: 12 of 12 instances serving, 1 rollout under way."},
		{[]GroupStatus{well, group("fares", Down, 0)}, "Nothing of fares serves: 6 of 12 instances serving."},
		{[]GroupStatus{group("fares", Short, 2), group("berths", Short, 2)}, "Fares, berths serve too little: 4 of 12 instances serving."},
		{[]GroupStatus{well, held}, "1 group waits for a person: 12 of 12 instances serving."},
		{[]GroupStatus{frozen}, "1 group frozen: 6 of 6 instances serving."},
		{[]GroupStatus{held, frozen, group("berths", Down, 0), group("quays", Short, 1)}, "Nothing of berths serves; quays serves too little; 1 group waits for a person; 1 group frozen: 13 of 24 instances serving."},
		{many, "Nothing of 4 groups serves; 496 groups serve too little: 0 of 3000 instances serving."},
	} {
		if is := Headline(c.all); is != c.want {
			t.Errorf("it is %q, want %q", is, c.want)
		}
	}
	noon := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	v := fleet.View{Group: fleet.Group{Name: "timetable", Settings: fleet.Settings{Frozen: "the harbour is closed", Size: 2, Max: 2, Zones: []string{"east-pier"}}}}
	if s := StatusOf(v, Summarise(noon, v)); s != (GroupStatus{Name: "timetable", Size: 2, Condition: Down, Asks: true, Frozen: true}) {
		t.Errorf("a frozen one of which nothing serves stands %+v", s)
	}
}
