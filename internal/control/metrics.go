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
	faults    prometheus.Counter
	clockSet  prometheus.Counter
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
		faults: f.NewCounter(prometheus.CounterOpts{
			Name: "unitas_keeper_faults_total", Help: "Faults of the service itself while it kept a group; the group's keeper was started again.",
		}),
		clockSet: f.NewCounter(prometheus.CounterOpts{
			Name: "unitas_clock_sets_total", Help: "How often the clock of the host was set by 2 s or more while the service ran.",
		}),
		moves: f.NewCounterVec(prometheus.CounterOpts{
			Name: "unitas_instance_moves_total", Help: "Changes of instance records that were decided and written, by the state.",
		}, []string{"state"}),
	}
}

// count adds what is counted elsewhere.
func (m metrics) count(r prometheus.Registerer, c *Control) {
	p := c.prober
	r.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "unitas_groups_stuck", Help: "Groups about which no decision can be written now.",
	}, func() float64 { return float64(c.StuckGroups()) }), prometheus.NewCounterFunc(prometheus.CounterOpts{
		Name: "unitas_probes_total", Help: "Questions that health checks asked.",
	}, func() float64 { return float64(p.Asked()) }), prometheus.NewCounterFunc(prometheus.CounterOpts{
		Name: "unitas_probes_late_total", Help: "Answers that do not count, because the service was too short of processor time to judge them.",
	}, func() float64 { return float64(p.Late()) }))
}

func (m metrics) decided(took time.Duration, d *fleet.Decision) {
	changed := "yes"
	if d.Quiet() {
		changed = "no"
	}
	m.decisions.WithLabelValues(changed).Inc()
	m.duration.Observe(took.Seconds())
}

// written counts what a decision changed, once it is written.
func (m metrics) written(d *fleet.Decision) {
	for i := range d.Changed {
		m.moves.WithLabelValues(string(d.Changed[i].State)).Inc()
	}
}

// StuckGroups is about how many groups no decision can be written now.
func (c *Control) StuckGroups() (n int) {
	for _, k := range c.roster.all() {
		if !k.stuckNow().Since.IsZero() {
			n++
		}
	}
	return n
}
