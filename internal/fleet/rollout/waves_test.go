package rollout

import (
	"testing"
	"time"
)

func TestOf(t *testing.T) {
	for _, c := range []struct {
		wave string
		size int
		want int
	}{
		{"1", 6, 1}, {"50%", 6, 3}, {"50%", 7, 4}, {"1%", 10, 1}, {"100%", 6, 6}, {"9", 6, 6}, {"100%", 0, 0}, {"33.3%", 9, 3},
		{"7%", 100, 7}, {"28%", 100, 28}, {"29%", 100, 29}, {"0.1%", 1000, 1}, {"0.1%", 1001, 2}, {"100%", 10_000, 10_000},
	} {
		ws, err := ParseWaves(c.wave)
		if err != nil {
			t.Fatal(err)
		}
		if got := ws[0].Of(c.size); got != c.want {
			t.Errorf("%s of %d is %d, want %d", c.wave, c.size, got, c.want)
		}
	}
}

func TestWavesThatAreRefused(t *testing.T) {
	for _, text := range []string{"", "x", "0", "-1", "0%", "101%", "NaN%", "50", "1,50%", "50%,20%,100%", "2,1,100%", "5,50%,100%", "1,,100%"} {
		ws, err := ParseWaves(text)
		if err == nil {
			err = ws.Validate(6)
		}
		if err == nil {
			t.Errorf("%q was taken", text)
		}
	}
	ws, _ := ParseWaves("1, 50%, 100%")
	if err := ws.Validate(1); err != nil {
		t.Errorf("waves that come to the same in a small group were refused: %v", err)
	}
}

func TestShortest(t *testing.T) {
	ws, _ := ParseWaves("1,50%,100%")
	got := ws.Shortest(0, 0, 6, 2, 2*time.Second, 0, 5*time.Second)
	if want := 23 * time.Second; got != want { // 2+5, 2+5, 4+5
		t.Errorf("the shortest rollout is %s, want %s", got, want)
	}
}

func FuzzParseWaves(f *testing.F) {
	for _, s := range []string{"1,50%,100%", "33.3%", "99999999999999999999", "1e2%", "%"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		ws, err := ParseWaves(text)
		if err != nil {
			return
		}
		again, err := ParseWaves(ws.String())
		if err != nil || again.String() != ws.String() {
			t.Errorf("%q became %q, which became %q: %v", text, ws, again, err)
		}
		for _, w := range ws {
			if n := w.Of(10); n < 1 || n > 10 {
				t.Errorf("%s of 10 is %d", w, n)
			}
		}
	})
}
