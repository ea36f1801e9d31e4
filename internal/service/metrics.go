package service

import (
	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/caught"
	"unitas/internal/conns"
)

var (
	boundRefused = prometheus.NewDesc("unitas_connections_refused_total", "Connections that were not taken, by which bound was reached: of one caller, of one listener, of all.", []string{"of", "reason"}, nil)
	boundEvicted = prometheus.NewDesc("unitas_connections_evicted_total", "Idle connections that gave way to another, by which bound was reached.", []string{"of", "reason"}, nil)
	faultsDesc   = prometheus.NewDesc("unitas_panics_total", "Faults of the service itself that one request, group or target failed of, by where.", []string{"where"}, nil)
)

// boundMetrics are what the bounds of connections did.
type boundMetrics struct {
	of    string
	guard *conns.Guard
}

// Describe implements [prometheus.Collector]. Two of these have the same descriptions, and are told
// apart by what they collect, so none are given.
func (boundMetrics) Describe(chan<- *prometheus.Desc) {}

// Collect implements [prometheus.Collector].
func (m boundMetrics) Collect(to chan<- prometheus.Metric) {
	for _, reason := range conns.Reasons {
		to <- prometheus.MustNewConstMetric(boundRefused, prometheus.CounterValue, float64(m.guard.Refused(reason)), m.of, reason)
		to <- prometheus.MustNewConstMetric(boundEvicted, prometheus.CounterValue, float64(m.guard.Evicted(reason)), m.of, reason)
	}
}

// faultMetrics are the faults that were caught.
type faultMetrics struct{}

// Describe implements [prometheus.Collector].
func (faultMetrics) Describe(to chan<- *prometheus.Desc) { to <- faultsDesc }

// Collect implements [prometheus.Collector].
func (faultMetrics) Collect(to chan<- prometheus.Metric) {
	for where, n := range caught.Counts() {
		to <- prometheus.MustNewConstMetric(faultsDesc, prometheus.CounterValue, float64(n), where)
	}
}
