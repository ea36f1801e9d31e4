package store

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
)

// Entry is a line of the journal.
type Entry struct {
	Number   int64          `json:"number"`
	At       time.Time      `json:"at"`
	Kind     string         `json:"kind"`
	Group    string         `json:"group,omitempty" db:"group_name"`
	Instance string         `json:"instance,omitempty"`
	Rollout  int64          `json:"rollout,omitempty"`
	Actor    string         `json:"actor"`
	Text     string         `json:"text"`
	Because  string         `json:"because"`
	Numbers  map[string]any `json:"numbers"`
	// Instances are those of whom all the same is to be said, when they are many.
	Instances []string `json:"instances,omitempty"`
	// Cause is why, as values.
	Cause fleet.Cause `json:"-"`
}

// Service is the actor of what nobody asked for by hand.
const Service = "unitas"

// Record writes journal entries about a group ("" for none) and the events
// for whoever watches. What the service does in answer to facts is written in
// its own name.
func (tx *Tx) Record(ctx context.Context, group string, entries ...fleet.Entry) error {
	var batch pgx.Batch
	for _, e := range entries {
		batch.Queue(`with e as (
				insert into journal (at, kind, group_name, instance, rollout, actor, text, because, numbers, cause, instances)
				values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) returning *)
			insert into outbox (at, kind, group_name, origin, data)
			select at, 'journal', group_name, $12, jsonb_build_object('number', number, 'at', at, 'kind', kind, 'group', group_name,
				'instance', instance, 'instances', instances, 'rollout', rollout, 'actor', actor, 'outcome', nullif($13, ''), 'text', text, 'because', because, 'numbers', numbers) from e`,
			tx.Now, e.Kind, group, e.Instance, e.Rollout, tx.Actor, say.Line(group, e), say.Because(e.Cause), e.Numbers.Map(), e.Cause, notNil(e.Instances), tx.origin, string(fleet.OutcomeOf(e.Kind)))
	}
	if batch.Len() == 0 {
		return nil
	}
	return tx.SendBatch(ctx, &batch).Close()
}

// JournalQuery narrows the journal; zero fields do not narrow.
type JournalQuery struct {
	Group, Instance string
	Rollout         int64
	// Kinds are what entries are about, such as "rollout", or exactly what they are, such
	// as "rollout.held".
	Kinds        []string
	Actor        string
	Since, Until time.Time // from the one on, before the other
	Outcome      fleet.Outcome
	Page         Page
}

// Journal lists entries, newest first.
func (s *Store) Journal(ctx context.Context, q JournalQuery) ([]Entry, error) {
	before := int64(1) << 62
	if len(q.Page.After) == 1 {
		before, _ = strconv.ParseInt(q.Page.After[0], 10, 64)
	}
	where := []string{"number < $1"}
	args := []any{before, q.Page.Limit}
	narrow := func(condition string, v any, set bool) {
		if set {
			args = append(args, v)
			where = append(where, fmt.Sprintf(condition, len(args)))
		}
	}
	narrow("group_name = $%d", q.Group, q.Group != "")
	narrow("(instance = $%[1]d or (instances <> '{}' and instances @> array[$%[1]d]))", q.Instance, q.Instance != "")
	narrow("rollout = $%d", q.Rollout, q.Rollout != 0)
	narrow("actor = $%d", q.Actor, q.Actor != "")
	narrow("at >= $%d", q.Since, !q.Since.IsZero())
	narrow("at < $%d", q.Until, !q.Until.IsZero())
	narrow("(kind = any($%[1]d) or split_part(kind, '.', 1) = any($%[1]d))", q.Kinds, len(q.Kinds) > 0)
	narrow("kind = any($%d)", q.Outcome.Kinds(), q.Outcome != "")
	entries, err := many[Entry](ctx, s.q, `select `+entryFields+`
		from journal where `+strings.Join(where, " and ")+` order by number desc limit $2`, args...)
	for i := range entries {
		if c := entries[i].Cause; c.Code != fleet.CodeWords { // told as it is told now
			entries[i].Because = say.Because(c)
		}
	}
	return entries, err
}

// entryFields are the columns of an entry.
const entryFields = `number, at, kind, group_name, instance, rollout, actor, text, because, numbers, cause, instances`

// Between reads the journal of a group from one time to another, oldest first, at most so
// many lines.
func (s *Store) Between(ctx context.Context, group string, from, to time.Time, most int) ([]Entry, error) {
	return many[Entry](ctx, s.q, `select `+entryFields+`
		from journal where group_name = $1 and at >= $2 and at <= $3 order by number limit $4`, group, from, to, most)
}

// Ending tells what brought an instance to its end, and when: its first way out
// after it last came up.
func (s *Store) Ending(ctx context.Context, id string) (because string, at time.Time, err error) {
	err = s.q.QueryRow(ctx, `select because, at from journal where (instance = $1 or (instances <> '{}' and instances @> array[$1])) and (kind in ('instance.draining', 'instance.leaving', 'instance.lost') or (kind = 'instance.held' and cause->>'code' <> 'runs'))
		and number > coalesce((select max(number) from journal where (instance = $1 or (instances <> '{}' and instances @> array[$1])) and kind in ('instance.ordered', 'instance.serving', 'instance.settling')), 0)
		order by number limit 1`, id).Scan(&because, &at)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return because, at.UTC(), err
}
