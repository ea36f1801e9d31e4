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
	rounds    prometheus.Histogram
	// lostSamples could not be written in time.
	lostSamples prometheus.Counter
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
			Name: "unitas_group_panics_total", Help: "Faults of the service itself while it kept a group; the group's keeper was started again.",
		}),
		clockSet: f.NewCounter(prometheus.CounterOpts{
			Name: "unitas_clock_jumps_total", Help: "How often the clock of the host was set by 2 s or more while the service ran.",
		}),
		rounds: f.NewHistogram(prometheus.HistogramOpts{
			Name: "unitas_sample_seconds", Help: "Time that measuring all instances once took.", Buckets: prometheus.ExponentialBuckets(1e-3, 4, 8),
		}),
		lostSamples: f.NewCounter(prometheus.CounterOpts{
			Name: "unitas_samples_lost_total", Help: "Samples that were not kept, because the database did not answer for too long.",
		}),
		moves: f.NewCounterVec(prometheus.CounterOpts{
			Name: "unitas_instance_transitions_total", Help: "Changes of instance records that were decided and written, by the state.",
		}, []string{"state"}),
	}
}

// count adds what is counted elsewhere.
func (m metrics) count(r prometheus.Registerer, c *Control) {
	p := c.prober
	r.MustRegister(groupMetrics{c}, listenerMetrics{c.Balancer})
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

func (m metrics) sampled(took time.Duration) { m.rounds.Observe(took.Seconds()) }

// groupMetrics tells what was measured last of each group, and how large it is.
type groupMetrics struct{ c *Control }

var (
	measuredDesc = prometheus.NewDesc("unitas_group_metric", "What was measured of the instances of a group: the average, in the unit of the metric (percent, bytes or requests a second, ms).", []string{"group", "metric"}, nil)
	sizeDesc     = prometheus.NewDesc("unitas_group_size", "How many instances a group should have.", []string{"group"}, nil)
	servingDesc  = prometheus.NewDesc("unitas_group_serving", "How many instances of a group served when they were last measured.", []string{"group"}, nil)
)

// Describe implements [prometheus.Collector].
func (g groupMetrics) Describe(to chan<- *prometheus.Desc) {
	to <- measuredDesc
	to <- sizeDesc
	to <- servingDesc
}

// Collect implements [prometheus.Collector].
func (g groupMetrics) Collect(to chan<- prometheus.Metric) {
	for _, k := range g.c.roster.all() {
		if s := k.shown.Load(); s != nil && !s.group.Alone {
			to <- prometheus.MustNewConstMetric(sizeDesc, prometheus.GaugeValue, float64(s.group.Size), k.name)
		}
	}
	last := g.c.lastSamples.Load()
	if last == nil {
		return
	}
	said := map[string]bool{}
	for _, s := range *last {
		if len(s.Vals) > 0 {
			to <- prometheus.MustNewConstMetric(measuredDesc, prometheus.GaugeValue, float64(s.Average), s.Group, s.Metric)
		}
		if !said[s.Group] {
			said[s.Group] = true
			to <- prometheus.MustNewConstMetric(servingDesc, prometheus.GaugeValue, float64(s.Serving), s.Group)
		}
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
