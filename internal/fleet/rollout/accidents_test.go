package rollout

import (
	"math/rand/v2"
	"testing"
)

// TestHolds: three failures hold a small wave, and of a large one more than accidents explain.
func TestHolds(t *testing.T) {
	for launched, want := range map[int]int{0: 3, 1: 3, 3: 3, 10: 3, 20: 4, 50: 6, 300: 16, 1000: 36} {
		if got := Holds(launched); got < want-1 || got > want+1 || (launched <= 10 && got != want) {
			t.Errorf("of %d it holds at %d, not about %d", launched, got, want)
		}
	}
	for n := range 2000 {
		if Holds(n) > Holds(n+1) {
			t.Fatalf("of %d more must fail than of %d", n, n+1)
		}
	}
}

// TestHowOftenAWaveIsHeld: looked at after every launch, accidents hold hardly a wave, and what fails one
// time in five holds nearly every one before a third of it is launched.
func TestHowOftenAWaveIsHeld(t *testing.T) {
	held := func(size int, failing float64, within int) (n int) {
		for seed := range uint64(1000) {
			r, failed := rand.New(rand.NewPCG(seed, 3)), 0
			for launched := 1; launched <= within; launched++ {
				if r.Float64() < failing {
					failed++
				}
				if failed >= Holds(launched) {
					n++
					break
				}
			}
		}
		return n
	}
	for _, size := range []int{10, 50, 300, 1000} {
		if n := held(size, Accidents, size); n > 20 {
			t.Errorf("%d of 1,000 waves of %d are held for accidents", n, size)
		}
	}
	for _, size := range []int{300, 1000} {
		if n := held(size, 0.2, size/3); n < 980 {
			t.Errorf("only %d of 1,000 waves of %d are held though one in five fails", n, size)
		}
	}
}
