package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
)

// Notice is who wants to hear of what.
type Notice struct {
	Name   string
	Topics []string
	Groups []string // none for all
	Send   string   // where signed messages go; "" for nowhere
	Mail   []string // to whom mail goes
	Gather time.Duration
	Off    bool
	// Headers are those that messages have besides: secrets, by name.
	Headers map[string]string
	// FailingAt is since when messages are not heard, and FailingWhy why; zero when they are.
	FailingAt  time.Time
	FailingWhy string
	Revision   int64
	CreatedAt  time.Time
	CreatedBy  string
}

type noticeRow struct {
	Name       string
	Topics     []string
	Groups     []string
	Send       string
	Mail       []string
	GatherMs   int64
	Off        bool
	Headers    map[string]string
	FailingAt  *time.Time
	FailingWhy string
	Revision   int64
	CreatedAt  time.Time
	CreatedBy  string
}

var noticeColumns = columnsOf[noticeRow]()

func (r noticeRow) notice() Notice {
	return Notice{Name: r.Name, Topics: swapped(r.Topics, keptFailingSlots, string(say.FailingSlots)), Groups: r.Groups, Send: r.Send, Mail: r.Mail, Gather: fromMillis(r.GatherMs), Off: r.Off, Headers: r.Headers,
		FailingAt: value(r.FailingAt), FailingWhy: r.FailingWhy, Revision: r.Revision, CreatedAt: r.CreatedAt.UTC(), CreatedBy: r.CreatedBy}
}

// keptFailingSlots is how the topic of failing slots is kept, as the first release wrote it.
const keptFailingSlots = "failing-places"

func keptTopics(topics []string) []string {
	return notNil(swapped(topics, string(say.FailingSlots), keptFailingSlots))
}

// swapped are the words with one of them in place of another.
func swapped(words []string, was, now string) []string {
	words = slices.Clone(words)
	if k := slices.Index(words, was); k >= 0 {
		words[k] = now
	}
	return words
}

// MostNotices is how many there may be.
const MostNotices = 200

// Notices are all, by name.
func (s Reader) Notices(ctx context.Context) ([]Notice, error) {
	rows, err := many[noticeRow](ctx, s.q, `select `+noticeColumns.list("")+` from notices order by name`)
	out := make([]Notice, len(rows))
	for i, r := range rows {
		out[i] = r.notice()
	}
	return out, err
}

// Notice is one by its name.
func (s Reader) Notice(ctx context.Context, name string) (Notice, error) {
	row, err := one[noticeRow](ctx, s.q, `select `+noticeColumns.list("")+` from notices where name = $1`, name)
	return row.notice(), err
}

// ErrTooMany is that there are as many as there may be.
var ErrTooMany = errors.New("there are too many")

// AddNotice adds one, which hears of what happens from now on.
func (s *Store) AddNotice(ctx context.Context, now time.Time, actor string, n Notice, secret string) error {
	last, err := s.CatchUp(ctx)
	if err != nil {
		return err
	}
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `insert into notices (name, topics, groups, send, mail, gather_ms, off, secret, last_event, created_by, created_at, headers)
			select $1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $13 where (select count(*) from notices) < $12 on conflict do nothing`,
			n.Name, keptTopics(n.Topics), notNil(n.Groups), n.Send, notNil(n.Mail), millis(n.Gather), n.Off, secret, last, actor, now, MostNotices, notNilMap(n.Headers))
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			if _, err := tx.Notice(ctx, n.Name); errors.Is(err, ErrNotFound) {
				return ErrTooMany
			}
			return ErrExists
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "notice.made", Text: fmt.Sprintf("The notice %s is made.", n.Name), Cause: fleet.Asked("")})
	})
}

// ChangeNotice changes one that is at the revision. It hears of nothing that came while it was off.
func (s *Store) ChangeNotice(ctx context.Context, now time.Time, actor string, n Notice, revision int64, secret string) error {
	last, err := s.CatchUp(ctx)
	if err != nil {
		return err
	}
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `update notices set topics = $2, groups = $3, send = $4, mail = $5, gather_ms = $6, last_event = case when off then $7 else last_event end, off = $8,
				secret = case when $9 = '' then secret else $9 end, headers = $11, failing_at = null, failing_why = '', revision = revision + 1
			where name = $1 and ($10::bigint = -1 or revision = $10)`,
			n.Name, keptTopics(n.Topics), notNil(n.Groups), n.Send, notNil(n.Mail), millis(n.Gather), last, n.Off, secret, revision, notNilMap(n.Headers))
		if err := tx.onNotice(ctx, n.Name, tag, err); err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "notice.changed", Text: fmt.Sprintf("The notice %s has other settings.", n.Name), Cause: fleet.Asked("")})
	})
}

// onNotice says why no notice was found that is at the revision.
func (tx *Tx) onNotice(ctx context.Context, name string, tag pgconn.CommandTag, err error) error {
	if err != nil || tag.RowsAffected() > 0 {
		return err
	}
	if _, err := tx.Notice(ctx, name); err != nil {
		return err
	}
	return ErrStale
}

// DeleteNotice removes one with its messages.
func (s *Store) DeleteNotice(ctx context.Context, now time.Time, actor, name string, revision int64) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `delete from notices where name = $1 and ($2::bigint = -1 or revision = $2)`, name, revision)
		if err := tx.onNotice(ctx, name, tag, err); err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "notice.removed", Text: fmt.Sprintf("The notice %s is removed.", name), Cause: fleet.Asked("")})
	})
}

// NoticeSecret is what its messages are signed with.
func (s Reader) NoticeSecret(ctx context.Context, name string) (secret string, err error) {
	err = s.q.QueryRow(ctx, `select secret from notices where name = $1`, name).Scan(&secret)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return secret, err
}

// Told is an entry of the journal with the number of its event.
type Told struct {
	Event int64
	Entry
}

// mostGathered is how many lines are gathered for one message; of more only how many is kept.
const mostGathered = 1000

// Gather has pick choose, for each notice that is on, what of the events that it has not seen it is
// to hear of: a line as it is kept for a message, nil for none. Another service that gathers at the
// same time is not waited for. It reports whether there are notices at all.
func (s *Store) Gather(ctx context.Context, now time.Time, pick func(Notice, Entry) any) (some bool, err error) {
	notices, err := s.Notices(ctx)
	if err != nil {
		return false, err
	}
	for _, n := range notices {
		if n.Off {
			continue
		}
		for more := true; more; {
			if more, err = s.gather(ctx, now, n, pick); err != nil {
				return true, err
			}
		}
	}
	return len(notices) > 0, nil
}

const gatherAtOnce = 500

func (s *Store) gather(ctx context.Context, now time.Time, n Notice, pick func(Notice, Entry) any) (more bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var last int64
		err := tx.QueryRow(ctx, `select last_event from notices where name = $1 and not off for update skip locked`, n.Name).Scan(&last)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		var seen int64
		if err := tx.QueryRow(ctx, `select coalesce(max(number), $1) from (select number from outbox where number > $1 order by number limit $2) o`, last, gatherAtOnce).Scan(&seen); err != nil || seen == last {
			return err
		}
		rows, err := tx.Query(ctx, `select o.number as event, j.number, j.at, j.kind, j.group_name, j.instance, j.rollout, j.actor, j.text, j.because, j.numbers, j.cause, j.instances
			from outbox o join journal j on j.number = (o.data->>'number')::bigint where o.kind = 'journal' and o.number > $1 and o.number <= $2 order by o.number`, last, seen)
		if err != nil {
			return err
		}
		entries, err := pgx.CollectRows(rows, pgx.RowToStructByName[Told])
		if err != nil {
			return err
		}
		var batch pgx.Batch
		for _, e := range entries {
			if line := pick(n, e.Entry); line != nil {
				batch.Queue(`insert into gathered (notice, event, noted_at, line) select $1, $2, $3, $4 where (select count(*) from gathered where notice = $1) < $5 on conflict do nothing`,
					n.Name, e.Event, now, line, mostGathered)
			}
		}
		batch.Queue(`update notices set last_event = $2 where name = $1`, n.Name, seen)
		more = seen-last >= gatherAtOnce
		return tx.SendBatch(ctx, &batch).Close()
	})
	return more, err
}

// Message is one that is or was to be sent.
type Message struct {
	Number   int64
	Notice   string
	At       time.Time
	Content  json.RawMessage // its lines, as they were gathered
	State    string          // waiting, sent or failed
	Tries    int
	NextAt   time.Time
	TriedAt  *time.Time
	TookMs   int64
	Status   int
	CameBack string
	SentBy   string // the person who had it sent, or sent again
}

var messageColumns = columnsOf[Message]()

// Flush makes a message for each notice for which lines have been gathered for long enough.
func (s *Store) Flush(ctx context.Context, now time.Time) error {
	_, err := s.q.Exec(ctx, `with due as (select n.name from notices n
			where (select min(noted_at) from gathered where notice = n.name) + n.gather_ms * interval '1 millisecond' <= $1 for update of n skip locked),
		lines as (delete from gathered g using due where g.notice = due.name returning g.notice, g.event, g.line)
		insert into messages (notice, at, content, state, next_at) select notice, $1, jsonb_agg(line order by event), 'waiting', $1 from lines group by notice`, now)
	return err
}

// AddMessage adds one that a person sends.
func (s *Store) AddMessage(ctx context.Context, now time.Time, actor, name string, content any) (number int64, err error) {
	raw, err := json.Marshal(content)
	if err != nil {
		return 0, err
	}
	err = s.q.QueryRow(ctx, `insert into messages (notice, at, content, state, next_at, sent_by) values ($1, $2, $3, 'waiting', $2, $4) returning number`, name, now, raw, actor).Scan(&number)
	return number, err
}

// sending is for how long a message that is being sent is left to whoever sends it.
const sending = 2 * time.Minute

// Claim takes up to n messages that are due, to be sent by the caller.
func (s *Store) Claim(ctx context.Context, now time.Time, n int) ([]Message, error) {
	return many[Message](ctx, s.q, `update messages set tries = tries + 1, next_at = $2 where number in (select number from messages
			where state = 'waiting' and next_at <= $1 order by next_at limit $3 for update skip locked) returning `+messageColumns.list(""), now, now.Add(sending), n)
}

// ClaimOne takes one to be sent now, whatever became of it.
func (s *Store) ClaimOne(ctx context.Context, now time.Time, actor, notice string, number int64) (Message, error) {
	return one[Message](ctx, s.q, `update messages set tries = tries + 1, state = 'waiting', next_at = $1, sent_by = $4 where number = $2 and notice = $3 returning `+messageColumns.list(""), now.Add(sending), number, notice, actor)
}

// Sent records what came of sending a message: state is what it is now, next when it is tried
// again. It reports whether the notice began to fail with it, or is heard again.
func (s *Store) Sent(ctx context.Context, m Message, heard bool, now, next time.Time) (changed bool, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update messages set state = $2, next_at = $3, tried_at = $4, took_ms = $5, status = $6, came_back = $7 where number = $1`,
			m.Number, m.State, next, now, m.TookMs, m.Status, m.CameBack); err != nil {
			return err
		}
		q := `update notices set failing_at = null, failing_why = '' where name = $1 and failing_at is not null`
		args := []any{m.Notice}
		if !heard {
			q = `update notices set failing_at = $2, failing_why = $3 where name = $1 and failing_at is null`
			args = append(args, now, m.CameBack)
		}
		tag, err := tx.Exec(ctx, q, args...)
		changed = err == nil && tag.RowsAffected() > 0
		return err
	})
	return changed, err
}

// Messages are those of a notice, newest first.
func (s Reader) Messages(ctx context.Context, notice string, limit int) ([]Message, error) {
	return many[Message](ctx, s.q, `select `+messageColumns.list("")+` from messages where notice = $1 order by number desc limit $2`, notice, limit)
}
