package service

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"unitas/internal/caught"
	"unitas/internal/clock"
	"unitas/internal/store"
)

// How often what is over is looked for, and how many rows go in one transaction.
const (
	pruneEvery = 10 * time.Minute
	pruneBatch = 1000
	// pruneCalm is how long a clock that was set must have gone on: one that was set wrong
	// and then right makes nothing old.
	pruneCalm = time.Hour
)

// prune removes what is over for longer than it is kept, until the context ends.
func prune(ctx context.Context, st *store.Store, c Config, hours *clock.Clock, metrics prometheus.Registerer) {
	pruned := promauto.With(metrics).NewCounterVec(prometheus.CounterOpts{
		Name: "unitas_pruned_rows_total", Help: "Rows that were removed since they were over for longer than they are kept, by what they are.",
	}, []string{"what"})
	tick := time.NewTicker(pruneEvery)
	defer tick.Stop()
	for {
		_ = caught.Do("removing what is over", func() {
			if !mayPrune(hours) {
				return
			}
			went, err := st.Prune(ctx, hours.Now(), c.Kept, pruneBatch)
			for what, n := range went {
				pruned.WithLabelValues(what).Add(float64(n))
			}
			if err != nil && ctx.Err() == nil {
				c.Log.Warn("what is over was not removed; it is tried again in ten minutes", "error", err)
			}
		})
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// mayPrune reports whether the clock was not set lately.
func mayPrune(hours *clock.Clock) bool {
	since, was := hours.SetSince()
	return !was || since >= pruneCalm
}
