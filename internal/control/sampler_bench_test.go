package control

import (
	"context"
	"fmt"
	"log/slog"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/balancer"
	"unitas/internal/clock"
	"unitas/internal/fleet"
	"unitas/internal/fleet/metric"
	"unitas/internal/fleet/scaling"
	"unitas/internal/machine"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// The ground of a round of measuring.
const (
	measuredGroups = 20
	measuredOfEach = 1000
)

// metered are machines that are known to use something, and a balancer that sends them requests.
type metered struct {
	machine.Driver
	used map[string]machine.Usage
}

func (m *metered) Usage(context.Context) (map[string]machine.Usage, error) {
	next := make(map[string]machine.Usage, len(m.used))
	for id, u := range m.used {
		u.CPUSeconds += 5
		next[id] = u
	}
	m.used = next
	return next, nil
}

type busyBalancer struct {
	taker
	n int64
}

func (b *busyBalancer) Passed(string) (balancer.Passed, bool) {
	b.n++
	took := make([]int64, 88)
	took[20] = b.n
	return balancer.Passed{Requests: b.n, BytesIn: b.n * 10, BytesOut: b.n * 1000, Took: took, Until: busyUntil}, true
}

var busyUntil = make([]float64, 88)

// BenchmarkSampling measures 20,000 instances in 20 groups and writes it down: how many cores that
// takes when it is done every 15 s, and how many bytes an instance's sample takes at rest.
func BenchmarkSampling(b *testing.B) {
	ctx := context.Background()
	url := pgtest.Database(b)
	st, err := store.Open(ctx, url)
	if err != nil {
		b.Fatal(err)
	}
	defer st.Close()
	machines := &metered{used: map[string]machine.Usage{}}
	c := &Control{Config: Config{Store: st, Machines: machines, Balancer: &busyBalancer{}, Clock: clock.New(), Log: slog.New(slog.DiscardHandler), SampleEvery: metric.Every},
		roster: newRoster(), metrics: newMetrics(prometheus.NewRegistry())}
	now := c.Clock.Now()
	for g := range measuredGroups {
		name := fmt.Sprintf("group-%02d", g)
		k := newKeeper(c, name, 1, nil)
		v := fleet.Version{Name: "timetable-web", N: 1}
		s := &shown{group: fleet.Group{Name: name, Settings: fleet.Settings{Settle: time.Second, Rules: []scaling.Rule{{Name: "even", Kind: scaling.Steady, Metric: metric.CPU}}}},
			asks: []metric.Name{metric.CPU}, sizes: map[fleet.Version]size{v: {cpus: 0.5, memory: 64 << 20}}}
		for n := range measuredOfEach {
			id := fmt.Sprintf("%s-%03x", name, n)
			s.all = append(s.all, store.Instance{Instance: fleet.Instance{ID: id, Serial: n + 1, State: fleet.Serving, Up: now.Add(-time.Hour), Version: v}})
			machines.used[id] = machine.Usage{Launch: 1, MemoryBytes: 30 << 20}
		}
		k.shown.Store(s)
		c.roster.add(k)
	}
	s := newSampler(c)
	s.upkeep(ctx)
	s.round(ctx) // from the second on rates are known
	before := processorTime()
	rounds := 0
	for b.Loop() {
		s.round(ctx)
		rounds++
	}
	spent := processorTime() - before
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(ctx)
	var bytes, rows int64
	if err := conn.QueryRow(ctx, `select sum(pg_total_relation_size(inhrelid))::bigint, (select count(*) from samples) from pg_inherits where inhparent = 'samples'::regclass`).Scan(&bytes, &rows); err != nil {
		b.Fatal(err)
	}
	if want := int64(rounds+1) * measuredGroups * 6; rows < want-measuredGroups*6 {
		b.Fatalf("%d rows were written, and should be %d", rows, want)
	}
	b.ReportMetric(spent.Seconds()/float64(rounds)/metric.Every.Seconds(), "cores")
	b.ReportMetric(float64(bytes)/float64(rounds+1)/measuredGroups/measuredOfEach, "bytes/sample")
}

func processorTime() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkRuleDecision is what a rule of a group of 1,000 costs at each sample: one value of many,
// and what it thinks of it.
func BenchmarkRuleDecision(b *testing.B) {
	r := scaling.Rule{Name: "even", Kind: scaling.Steady, Metric: metric.CPU, KeepAt: 60}
	r.Complete()
	now := time.Now()
	sample := store.Sample{Serving: 1000}
	for n := range 1000 {
		sample.Serials, sample.Vals = append(sample.Serials, int32(n)), append(sample.Vals, float32(n%60))
	}
	var points []metric.Point
	for at := now.Add(-r.LooksBack()); at.Before(now); at = at.Add(metric.Every) {
		points = append(points, metric.Point{At: at, Value: 30, Of: 1000, Serving: 1000})
	}
	s := scaling.Situation{Now: now, Size: 1000, Max: 2000}
	for _, over := range []metric.Over{metric.Average, "p95"} {
		b.Run(string(over), func(b *testing.B) {
			for b.Loop() {
				sample.At = now
				r.Judge(s, scaling.State{}, append(points[:len(points):len(points)], sample.Point(over)))
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N), "µs/decision")
		})
	}
}
