package control

import (
	"fmt"
	"log/slog"
	"testing"
	"time"

	"unitas/internal/balancer/builtin"
	"unitas/internal/store"
)

// BenchmarkVerdict is how long it takes from a verdict of ill until the balancer sends that
// target nothing any more, in a pool of so many.
func BenchmarkVerdict(b *testing.B) {
	for _, n := range []int{1000, 10_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			told := make(chan []string, 1000)
			proxy := builtin.New(builtin.Config{Log: slog.New(slog.DiscardHandler), Open: builtin.Bare})
			defer proxy.Close()
			d := newDesk(proxy, "", nil, slog.New(slog.DiscardHandler), func(groups []string) { told <- groups })
			defer d.close()
			d.setPool(store.Pool{Name: "front", Check: "up"})
			ids := make([]string, n)
			for i := range ids {
				ids[i] = fmt.Sprint("timetable-", i)
			}
			d.set("timetable", []string{"front"}, healthy(ids...))
			open := func() (n int) {
				s, _ := proxy.Stats("front")
				for _, t := range s.Targets {
					if t.Open {
						n++
					}
				}
				return n
			}
			allOpen := func() {
				for open() != n {
					select {
					case <-told:
					case <-time.After(10 * time.Second):
						b.Fatalf("%d of %d are open", open(), n)
					}
				}
			}
			allOpen()
			k := 0
			for b.Loop() {
				d.shut(ids[k%n], "up")
				b.StopTimer()
				d.fit(ids[k%n], "up")
				allOpen()
				k++
				b.StartTimer()
			}
			d.shut(ids[0], "up")
			if open() != n-1 {
				b.Errorf("%d of %d are open", open(), n)
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms/verdict")
		})
	}
}
