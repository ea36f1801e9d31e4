package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"io"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
)

// Observed is how machines of a template behaved lately, newest first: up to 200 of them.
type Observed struct {
	Boots   []time.Duration // from order to running
	Settles []time.Duration // from there, or the last launch hook, to serving
	Drains  []time.Duration // of the group: from the last new request to the last that was done
}

// Observe reads how machines of the template and drains of the group went.
func (s *Store) Observe(ctx context.Context, group, template string) (o Observed, err error) {
	type came struct {
		OrderedAt, UpAt, ServedAt time.Time
		Tickets                   []fleet.Ticket
	}
	rows, err := many[came](ctx, s.q, `select ordered_at, up_at, served_at, tickets from instances
		where template = $1 and served_at is not null and up_at is not null and up_at <= served_at order by served_at desc limit 200`, template)
	if err != nil {
		return o, err
	}
	for _, r := range rows {
		settles := r.UpAt
		for _, t := range r.Tickets {
			if t.At == fleet.AtLaunch && t.Closed.After(settles) {
				settles = t.Closed
			}
		}
		o.Boots = append(o.Boots, r.UpAt.Sub(r.OrderedAt))
		o.Settles = append(o.Settles, max(r.ServedAt.Sub(settles), 0))
	}
	drains, err := s.q.Query(ctx, `select (numbers->>'drained_seconds')::float8 from journal
		where group_name = $1 and numbers ? 'drained_seconds' order by number desc limit 200`, group)
	if err != nil {
		return o, err
	}
	seconds, err := pgx.CollectRows(drains, pgx.RowTo[float64])
	for _, n := range seconds {
		o.Drains = append(o.Drains, time.Duration(n*float64(time.Second)))
	}
	return o, err
}

// AddRehearsal records what a rehearsal came to, and returns its number. The last hundred of
// a group are kept.
func (s *Store) AddRehearsal(ctx context.Context, now time.Time, actor, group string, to fleet.Version, result any) (number int64, err error) {
	raw, err := json.Marshal(result)
	if err != nil {
		return 0, err
	}
	err = s.q.QueryRow(ctx, `with gone as (delete from rehearsals where number in (select number from rehearsals where group_name = $1 order by number desc offset 99))
		insert into rehearsals (group_name, to_name, to_version, at, by_whom, result) values ($1, $2, $3, $4, $5, $6) returning number`,
		group, to.Name, to.N, now, actor, raw).Scan(&number)
	return number, err
}

// LastRehearsal is the number of the newest rehearsal of a rollout to a version since then, and with settings
// of one that was of those, from the same version; 0 when there is none.
func (s *Store) LastRehearsal(ctx context.Context, group string, from, to fleet.Version, settings string, since time.Time) (number int64, err error) {
	err = s.q.QueryRow(ctx, `select number from rehearsals where group_name = $1 and to_name = $2 and to_version = $3 and at >= $4
		and ($5 = '' or (result->>'settings' = $5 and result->>'from' = $6)) order by number desc limit 1`,
		group, to.Name, to.N, since, settings, from.String()).Scan(&number)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return number, err
}

// Rehearsal reads what one came to.
func (s *Store) Rehearsal(ctx context.Context, number int64, result any) error {
	var raw []byte
	err := s.q.QueryRow(ctx, `select result from rehearsals where number = $1`, number).Scan(&raw)
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrNotFound
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, result)
}

// Stage is how a group stood when a rollout of it began: what it is decided again from.
type Stage struct {
	Group     fleet.Group
	Instances []fleet.Instance
	Rollout   fleet.Rollout
	Prices    map[string]float64
}

// mostStage is how large a stage may be when it is read, in bytes.
const mostStage = 64 << 20

// keepStage records how a group stands as a rollout begins.
func (tx *Tx) keepStage(ctx context.Context, rollout int64, stage Stage) error {
	var b bytes.Buffer
	zipped := gzip.NewWriter(&b)
	if err := errors.Join(json.NewEncoder(zipped).Encode(stage), zipped.Close()); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `insert into stages (rollout, stage) values ($1, $2)`, rollout, b.Bytes())
	return err
}

// Stage reads how a group stood when a rollout began.
func (s *Store) Stage(ctx context.Context, rollout int64) (stage Stage, err error) {
	var raw []byte
	err = s.q.QueryRow(ctx, `select stage from stages where rollout = $1`, rollout).Scan(&raw)
	if errors.Is(err, pgx.ErrNoRows) {
		return stage, ErrNotFound
	}
	if err != nil {
		return stage, err
	}
	zipped, err := gzip.NewReader(bytes.NewReader(raw))
	if err != nil {
		return stage, err
	}
	return stage, json.NewDecoder(io.LimitReader(zipped, mostStage)).Decode(&stage)
}
