package placement

import (
	"math/rand/v2"
	"testing"
)

func zones(counts ...int) []Zone {
	zs := make([]Zone, len(counts))
	for i, n := range counts {
		zs[i] = Zone{Count: n, Open: true}
	}
	return zs
}

func TestNext(t *testing.T) {
	closed := zones(0, 2, 2)
	closed[0].Open = false
	for _, c := range []struct {
		name  string
		zones []Zone
		want  int
	}{
		{"the emptiest", zones(2, 1, 2), 1},
		{"the first of equals", zones(1, 1, 1), 0},
		{"not one that backs off", closed, 1},
		{"none", nil, -1},
	} {
		if got := Next(c.zones); got != c.want {
			t.Errorf("%s: got %d, want %d", c.name, got, c.want)
		}
	}
}

func TestRank(t *testing.T) {
	zs := zones(3, 0, 0)
	zs[0].Name, zs[1].Name, zs[2].Name = "east-pier", "mid-pier", "west-pier"
	Rank(zs, InOrder, nil)
	if got := Next(zs); got != 0 {
		t.Errorf("in order the first is filled whatever it has, got %d", got)
	}
	if !Helps(zs, 2, 0) || Helps(zs, 0, 2) {
		t.Error("in order only a move towards the first helps")
	}
	Rank(zs, Cheapest, map[string]float64{"west-pier": 1, "mid-pier": 1})
	if zs[0].Rank <= zs[1].Rank || zs[1].Rank != zs[2].Rank {
		t.Errorf("equal prices rank equal, and none is the dearest: %+v", zs)
	}
	if got := Fullest(zs, func(int) bool { return true }, nil); got != 0 {
		t.Errorf("the dearest gives first, got %d", got)
	}
}

func TestFullest(t *testing.T) {
	all := func(int) bool { return true }
	if got := Fullest(zones(2, 3, 3), all, nil); got != 2 {
		t.Errorf("the last of the fullest is 2, got %d", got)
	}
	if got := Fullest(zones(2, 3, 3), func(i int) bool { return i == 0 }, nil); got != 0 {
		t.Errorf("only zone 0 has any, got %d", got)
	}
	if got := Fullest(zones(1), func(int) bool { return false }, nil); got != -1 {
		t.Errorf("none has any, got %d", got)
	}
}

// TestEvenWithinOne grows and shrinks at random: the zones never differ by
// more than one.
func TestEvenWithinOne(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	zs := zones(0, 0, 0, 0)
	for range 2000 {
		if r.IntN(2) == 0 {
			zs[Next(zs)].Count++
		} else if k := Fullest(zs, func(i int) bool { return zs[i].Count > 0 }, nil); k >= 0 {
			zs[k].Count--
		}
		if n := imbalance(zs); n > 1 {
			t.Fatalf("the zones differ by %d: %v", n, zs)
		}
	}
}

// imbalance is the difference between the fullest and the emptiest zone.
func imbalance(zones []Zone) int {
	if len(zones) == 0 {
		return 0
	}
	lo, hi := zones[0].Count, zones[0].Count
	for _, z := range zones {
		lo, hi = min(lo, z.Count), max(hi, z.Count)
	}
	return hi - lo
}
