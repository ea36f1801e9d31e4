package traffic

import (
	"fmt"
	"math"
	"testing"
)

// group makes one of the size with the first of its instances open.
func group(name string, size, open int) Group {
	g := Group{Name: name, Size: size}
	for i := range size {
		g.Targets = append(g.Targets, Target{Instance: fmt.Sprintf("%s-%d", name, i), Open: i < open})
	}
	return g
}

// parts are the shares of the groups in percent.
func parts(s Sharing, groups ...Group) []float64 {
	weights := s.Weigh(groups)
	var sum float64
	out := make([]float64, len(groups))
	for i, g := range groups {
		for _, t := range g.Targets {
			if t.Open {
				out[i] += weights[t.Instance]
				sum += weights[t.Instance]
			}
		}
	}
	for i := range out {
		out[i] = math.Round(out[i] / sum * 100)
	}
	return out
}

func TestGroupsShare(t *testing.T) {
	byWeight := Sharing{Shares: []Share{{Group: "berths", Weight: 25}}}
	reserve := Sharing{Enough: 50, Shares: []Share{{Group: "berths", Weight: 100, Reserve: true}}}
	for _, c := range []struct {
		name   string
		s      Sharing
		groups []Group
		want   string
	}{
		{"every target alike", Sharing{}, []Group{group("timetable", 6, 6), group("berths", 2, 2)}, "[75 25]"},
		{"by weight whatever the sizes", byWeight, []Group{group("timetable", 2, 2), group("berths", 6, 6)}, "[80 20]"},
		{"the part of the ill goes to their own group", byWeight, []Group{group("timetable", 4, 1), group("berths", 6, 6)}, "[80 20]"},
		{"the part of a group with nobody goes to the other", byWeight, []Group{group("timetable", 4, 0), group("berths", 6, 6)}, "[0 100]"},
		{"the reserve rests", reserve, []Group{group("timetable", 4, 2), group("berths", 4, 4)}, "[100 0]"},
		{"the reserve takes over", reserve, []Group{group("timetable", 4, 1), group("berths", 4, 4)}, "[0 100]"},
		{"too few of both: everybody", reserve, []Group{group("timetable", 4, 1), group("berths", 4, 1)}, "[50 50]"},
		{"an empty reserve cannot", reserve, []Group{group("timetable", 4, 1), group("berths", 4, 0)}, "[100 0]"},
		{"anybody is better than nobody", reserve, []Group{group("timetable", 4, 0), group("berths", 4, 1)}, "[0 100]"},
	} {
		if got := fmt.Sprint(parts(c.s, c.groups...)); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

func TestInstancesShare(t *testing.T) {
	s := Sharing{Weights: map[string]int{"timetable-0": 300, "timetable-1": 0}}
	w := s.Weigh([]Group{group("timetable", 3, 3)})
	if w["timetable-0"] != 300 || w["timetable-1"] != 0 || w["timetable-2"] != 100 {
		t.Errorf("the weights are %v", w)
	}
}

func TestValidate(t *testing.T) {
	for field, s := range map[string]Sharing{
		"shares":         {Shares: []Share{{Group: "timetable"}}},
		"shares/1/group": {Shares: []Share{{Group: "timetable", Weight: 1}, {Group: "timetable", Weight: 2}}},
	} {
		if got, err := s.Validate(); err == nil || got != field {
			t.Errorf("%s: %q %v", field, got, err)
		}
	}
	if _, err := (&Sharing{}).Validate(); err != nil {
		t.Error(err)
	}
}
