package store

import (
	"context"
	"time"
)

// Kept says for how long what is over is kept. What a living object needs is kept
// besides: the journal of instances that are not gone and of live rollouts.
type Kept struct {
	Journal time.Duration // and runs, ended rollouts, moves of marks, numbers of deleted groups
	Gone    time.Duration // instances that are gone
}

// What is kept for a time that nobody need set.
const (
	keepEvents  = 24 * time.Hour
	keepRepeats = 24 * time.Hour
)

// pruning is how one kind of row that is over is found; $1 is before when, $2 how many.
type pruning struct {
	what, sql string
	kept      func(Kept) time.Duration
}

var prunings = []pruning{
	{"events", `delete from outbox where ctid in (select ctid from outbox where at < $1 limit $2)`, func(Kept) time.Duration { return keepEvents }},
	{"repeats", `delete from repeats where ctid in (select ctid from repeats where created_at < $1 limit $2)`, func(Kept) time.Duration { return keepRepeats }},
	{"instances", `delete from instances where id in (select id from instances where state = 'gone' and since < $1 limit $2 for update skip locked)`, func(k Kept) time.Duration { return k.Gone }},
	{"runs", `delete from runs where number in (select number from runs where until_at < $1 limit $2 for update skip locked)`, func(k Kept) time.Duration { return k.Journal }},
	{"rollouts", `delete from rollouts where number in (select number from rollouts where ended_at < $1 limit $2 for update skip locked)`, func(k Kept) time.Duration { return k.Journal }},
	{"rehearsals", `delete from rehearsals where number in (select number from rehearsals where at < $1 limit $2 for update skip locked)`, func(k Kept) time.Duration { return k.Journal }},
	{"deliveries", `delete from deliveries where number in (select number from deliveries where at < $1 limit $2 for update skip locked)`, func(k Kept) time.Duration { return k.Gone }},
	{"messages", `delete from messages where number in (select number from messages where at < $1 and state <> 'waiting' limit $2 for update skip locked)`, func(k Kept) time.Duration { return k.Gone }},
	{"moves of marks", `delete from mark_moves where number in (select number from mark_moves where at < $1 limit $2 for update skip locked)`, func(k Kept) time.Duration { return k.Journal }},
	{"numbers of deleted groups", `delete from serials s where group_name in (select group_name from serials where at < $1 limit $2 for update skip locked)
		and not exists (select 1 from groups g where g.name = s.group_name) and not exists (select 1 from instances i where i.group_name = s.group_name)`,
		func(k Kept) time.Duration { return k.Journal }},
	{"replicas", `delete from replicas where id in (select id from replicas r where until < $1 and not exists (select 1 from groups where replica = r.id) limit $2)`,
		func(Kept) time.Duration { return keepEvents }},
}

// Prune removes what was over for longer than it is kept at the time now, in
// transactions of at most batch rows, and returns how many rows of each kind went.
// What went before an error is gone.
func (s *Store) Prune(ctx context.Context, now time.Time, k Kept, batch int) (map[string]int64, error) {
	went := map[string]int64{}
	for _, p := range prunings {
		for {
			tag, err := s.q.Exec(ctx, p.sql, now.Add(-p.kept(k)), batch)
			if err != nil {
				return went, err
			}
			went[p.what] += tag.RowsAffected()
			if tag.RowsAffected() < int64(batch) {
				break
			}
		}
	}
	for at, more := int64(0), true; more; {
		var seen int
		var n int64
		err := s.q.QueryRow(ctx, `with page as (select number, at, instance, instances, rollout from journal where number > $1 order by number limit $3),
			went as (delete from journal j using page p where j.number = p.number and p.at < $2
				and not exists (select 1 from instances i where (i.id = p.instance or i.id = any(p.instances)) and i.state <> 'gone')
				and not exists (select 1 from rollouts r where r.number = p.rollout and r.ended_at is null)
				returning 1)
			select coalesce(max(number), 0), count(*) filter (where at < $2), (select count(*) from went) from page`,
			at, now.Add(-k.Journal), batch).Scan(&at, &seen, &n)
		if err != nil {
			return went, err
		}
		went["journal"] += n
		more = seen == batch // the last of the page was old as well
	}
	return went, nil
}
