package store

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"unitas/internal/fleet/metric"
)

// For how long samples are kept as they were measured, and what came of five minutes at a time.
const (
	SamplesKept = 24 * time.Hour
	RollupsKept = 30 * 24 * time.Hour
	RollupEvery = 5 * time.Minute
)

// Sample is what was measured of a group at one moment, of one metric.
type Sample struct {
	Group   string `db:"group_name"`
	Metric  string
	At      time.Time
	Serving int
	Missing int
	Average float32
	Highest float32
	P95     float32
	Serials []int32   // of the instances that were measured
	Vals    []float32 // what of each
}

// Point makes one value of all.
func (s *Sample) Point(o metric.Over) metric.Point {
	values := make([]float64, len(s.Vals))
	for k, v := range s.Vals {
		values[k] = float64(v)
	}
	p := metric.Point{At: s.At.UTC(), Value: o.OfServing(values, s.Serving), Of: len(s.Vals), Serving: s.Serving, Missing: s.Missing}
	if s.isWhole() {
		p.Value, p.Serving = o.Of(values), max(s.Serving, 1) // where nobody serves, what comes counts as borne by one
	}
	return p
}

// isWhole reports whether it is of the group as a whole, and of no instance.
func (s *Sample) isWhole() bool { return len(s.Serials) == 1 && s.Serials[0] == 0 }

// Summarise fills in what is told of all values together.
func (s *Sample) Summarise() {
	values := make([]float64, len(s.Vals))
	for k, v := range s.Vals {
		values[k] = float64(v)
	}
	of := func(o metric.Over) float32 {
		v := o.Of(values)
		if math.IsNaN(v) {
			return float32(math.NaN())
		}
		return float32(v)
	}
	s.Average, s.Highest, s.P95 = of(metric.Average), of(metric.Maximum), of("p95")
}

var sampleColumns = []string{"group_name", "metric", "at", "serving", "missing", "average", "highest", "p95", "serials", "vals"}

// AddSamples writes what was measured, in one go.
func (s *Store) AddSamples(ctx context.Context, samples []Sample) error {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	_, err := s.pool.CopyFrom(ctx, pgx.Identifier{"samples"}, sampleColumns, pgx.CopyFromSlice(len(samples), func(i int) ([]any, error) {
		r := &samples[i]
		return []any{r.Group, r.Metric, r.At, r.Serving, r.Missing, r.Average, r.Highest, r.P95, r.Serials, r.Vals}, nil
	}))
	return err
}

// Samples are those of a metric of a group from a time on, oldest first.
func (s Reader) Samples(ctx context.Context, group, name string, from, until time.Time) ([]Sample, error) {
	return many[Sample](ctx, s.q, `select group_name, metric, at, serving, missing, average, highest, p95, serials, vals from samples
		where group_name = $1 and metric = $2 and at >= $3 and at <= $4 order by at limit 10000`, group, name, from, until)
}

// Rollup is what came of five minutes of a metric.
type Rollup struct {
	At      time.Time
	Serving float32
	Missing int
	Average float32
	Highest float32
	P95     float32
}

// Shorter are what is told of samples without their values, and of five minutes each from
// before there are samples, oldest first.
func (s Reader) Shorter(ctx context.Context, group, name string, from, until time.Time) ([]Rollup, error) {
	return many[Rollup](ctx, s.q, `select at, serving, missing, average, highest, p95 from rollups
		where group_name = $1 and metric = $2 and at >= $3 and at <= $4 order by at limit 10000`, group, name, from, until)
}

// MetricNames are those of which a group has samples of the last hour.
func (s Reader) MetricNames(ctx context.Context, group string, now time.Time) ([]string, error) {
	rows, err := s.q.Query(ctx, `select distinct metric from samples where group_name = $1 and at > $2 order by 1`, group, now.Add(-time.Hour))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// RollUp makes one of what was measured in each five minutes that are over and were not
// rolled up yet, of the last hour.
func (s *Store) RollUp(ctx context.Context, now time.Time) error {
	over := now.Truncate(RollupEvery)
	_, err := s.q.Exec(ctx, `insert into rollups (group_name, metric, at, serving, missing, average, highest, p95)
		select group_name, metric, date_bin('5 minutes', at, 'epoch'), avg(serving)::real, max(missing),
			coalesce(avg(nullif(average, 'NaN') / case when serials = '{0}' then greatest(serving, 1) else 1 end), 'NaN')::real, coalesce(max(nullif(highest, 'NaN')), 'NaN')::real, coalesce(max(nullif(p95, 'NaN')), 'NaN')::real
		from samples where at >= $1 and at < $2 group by 1, 2, 3
		on conflict (group_name, metric, at) do nothing`, over.Add(-time.Hour), over)
	return err
}

// KeepPartitions makes the parts in which samples of now and of the next day are kept, and
// drops those that are over for longer than they are kept, when they were at the last look already:
// was is what it returned then. So a clock that is ahead for a moment costs nothing.
func (s *Store) KeepPartitions(ctx context.Context, now time.Time, was map[string]bool) (over map[string]bool, err error) {
	over = map[string]bool{}
	for _, p := range []struct {
		table      string
		wide, kept time.Duration
	}{{"samples", 24 * time.Hour, SamplesKept}, {"rollups", 10 * 24 * time.Hour, RollupsKept}} {
		for _, at := range []time.Time{now, now.Add(p.wide)} {
			from := at.UTC().Truncate(p.wide)
			_, err := s.q.Exec(ctx, fmt.Sprintf(`create table if not exists %s_%s partition of %s for values from ('%s') to ('%s')`,
				p.table, from.Format("20060102"), p.table, from.Format(time.RFC3339), from.Add(p.wide).Format(time.RFC3339)))
			var known *pgconn.PgError // another service may have made it in this very moment
			if err != nil && !(errors.As(err, &known) && (known.Code == "42P07" || known.Code == "23505")) {
				return over, err
			}
		}
		rows, err := s.q.Query(ctx, `select inhrelid::regclass::text from pg_inherits where inhparent = $1::text::regclass`, p.table)
		if err != nil {
			return over, err
		}
		names, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return over, err
		}
		for _, name := range names {
			begins, err := time.Parse("20060102", name[len(p.table)+1:])
			if err != nil || now.Sub(begins.Add(p.wide)) < p.kept {
				continue
			}
			if over[name] = true; !was[name] {
				continue
			}
			if _, err := s.q.Exec(ctx, `drop table if exists `+pgx.Identifier{name}.Sanitize()); err != nil {
				return over, err
			}
		}
	}
	return over, nil
}

// Pushed is a value that somebody sent.
type Pushed struct {
	Group    string `db:"group_name"`
	Metric   string
	Instance string // "" of the group as a whole
	At       time.Time
	Value    float64
}

// MostPushed is how many values of a group are kept.
const MostPushed = 20_000

// Push keeps the last value of a metric. It returns ErrNotFound for what is no group.
func (s *Store) Push(ctx context.Context, values ...Pushed) error {
	var batch pgx.Batch
	for _, p := range values {
		batch.Queue(`insert into pushed (group_name, metric, instance, at, value)
			select $1, $2, $3, $4, $5 where exists (select 1 from groups where name = $1)
			and ((select count(*) from pushed where group_name = $1) < $6 or exists (select 1 from pushed where group_name = $1 and metric = $2 and instance = $3))
			on conflict (group_name, metric, instance) do update set at = excluded.at, value = excluded.value where excluded.at >= pushed.at`,
			p.Group, p.Metric, p.Instance, p.At, p.Value, MostPushed)
	}
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	return s.pool.SendBatch(ctx, &batch).Close()
}

// Pushed are the values that were sent since a time.
func (s *Store) Pushed(ctx context.Context, since time.Time) ([]Pushed, error) {
	return many[Pushed](ctx, s.q, `select group_name, metric, instance, at, value from pushed where at >= $1`, since)
}

// Sizes are the changes of a group's size or bounds from a time on, with the last before it,
// oldest first.
func (s Reader) Sizes(ctx context.Context, group string, from time.Time) ([]Entry, error) {
	return many[Entry](ctx, s.q, `(select `+entryFields+` from journal where group_name = $1 and at < $2 and kind in ('group.created', 'group.resized', 'group.bounded', 'group.changed')
			and (numbers ? 'max') order by number desc limit 1)
		union all (select `+entryFields+` from journal where group_name = $1 and at >= $2 and kind in ('group.created', 'group.resized', 'group.bounded', 'group.changed')
			and (numbers ? 'max') order by number limit 2000) order by number`, group, from)
}

// Point is what is told of five minutes for a way to make one value of many; any percentile
// is as the 95th.
func (r Rollup) Point(o metric.Over) metric.Point {
	v := float64(r.Average)
	switch o {
	case metric.Maximum:
		v = float64(r.Highest)
	case metric.Total:
		v *= float64(r.Serving)
	case metric.Average, "":
	default:
		v = float64(r.P95)
	}
	return metric.Point{At: r.At.UTC(), Value: v, Of: int(math.Round(float64(r.Serving))), Serving: int(math.Round(float64(r.Serving))), Missing: r.Missing}
}

// Newest is the newest sample of each metric of a group since a time, by name.
func (s Reader) Newest(ctx context.Context, group string, since time.Time) ([]Sample, error) {
	return many[Sample](ctx, s.q, `select distinct on (metric) group_name, metric, at, serving, missing, average, highest, p95, serials, vals from samples
		where group_name = $1 and at >= $2 order by metric, at desc`, group, since)
}
