package control

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"unitas/internal/fleet"
)

type metrics struct {
	decisions *prometheus.CounterVec
	duration  prometheus.Histogram
	moves     *prometheus.CounterVec
}

func newMetrics(r prometheus.Registerer) metrics {
	f := promauto.With(r)
	return metrics{
		decisions: f.NewCounterVec(prometheus.CounterOpts{
			Name: "unitas_decisions_total", Help: "Decisions made about groups, by whether they changed something.",
		}, []string{"changed"}),
		duration: f.NewHistogram(prometheus.HistogramOpts{
			Name: "unitas_decision_seconds", Help: "Time that one decision took to make.", Buckets: prometheus.ExponentialBuckets(1e-6, 4, 10),
		}),
		moves: f.NewCounterVec(prometheus.CounterOpts{
			Name: "unitas_instance_moves_total", Help: "Changes of instance state that were decided, by the new state.",
		}, []string{"state"}),
	}
}

func (m metrics) decided(took time.Duration, d *fleet.Decision) {
	changed := "yes"
	if d.Quiet() {
		changed = "no"
	}
	m.decisions.WithLabelValues(changed).Inc()
	m.duration.Observe(took.Seconds())
	for i := range d.Changed {
		m.moves.WithLabelValues(string(d.Changed[i].State)).Inc()
	}
}
