package control

import (
	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/balancer"
)

// listenerMetrics are what listeners did since the service started, for the site's own
// monitoring.
type listenerMetrics struct{ balancer balancer.Driver }

func listenerDesc(name, help string) *prometheus.Desc {
	return prometheus.NewDesc("unitas_listener_"+name, help, []string{"listener"}, nil)
}

var (
	connectionsDesc = listenerDesc("connections", "Connections that callers have open now.")
	requestsDesc    = listenerDesc("requests_total", "Requests, and connections of the kind tcp, that came.")
	refusedDesc     = listenerDesc("refused_total", "Of them that passed a limit.")
	malformedDesc   = listenerDesc("malformed_total", "Of them that could not be passed on, whoever had taken them.")
	unroutedDesc    = listenerDesc("unrouted_total", "Of them that no route took.")
	logLostDesc     = listenerDesc("access_log_lost_total", "Lines of the access log that there was no time for.")
	troubledDesc    = listenerDesc("troubled", "1 when something is wrong with it.")
	overDesc        = prometheus.NewDesc("unitas_listener_over_limit_total", "Connections and requests that passed a limit of their caller, by which.", []string{"listener", "limit"}, nil)
)

// Describe implements [prometheus.Collector].
func (m listenerMetrics) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{connectionsDesc, requestsDesc, refusedDesc, malformedDesc, unroutedDesc, logLostDesc, troubledDesc, overDesc} {
		to <- d
	}
}

// Collect implements [prometheus.Collector].
func (m listenerMetrics) Collect(to chan<- prometheus.Metric) {
	for _, l := range m.balancer.Listening() {
		put := func(desc *prometheus.Desc, kind prometheus.ValueType, v int64) {
			to <- prometheus.MustNewConstMetric(desc, kind, float64(v), l.Address)
		}
		put(connectionsDesc, prometheus.GaugeValue, int64(l.Connections))
		put(requestsDesc, prometheus.CounterValue, l.Requests)
		put(refusedDesc, prometheus.CounterValue, l.Refused)
		for limit, n := range map[string]int64{"connections": l.OverConnections, "connection-rate": l.OverConnectionRate, "request-rate": l.OverRequestRate} {
			to <- prometheus.MustNewConstMetric(overDesc, prometheus.CounterValue, float64(n), l.Address, limit)
		}
		put(malformedDesc, prometheus.CounterValue, l.Malformed)
		put(unroutedDesc, prometheus.CounterValue, l.Unrouted)
		put(logLostDesc, prometheus.CounterValue, l.Unwritten)
		troubled := int64(0)
		if l.Trouble != "" {
			troubled = 1
		}
		put(troubledDesc, prometheus.GaugeValue, troubled)
	}
}
