package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"unitas/internal/fleet"
)

// Course is settings of a rollout under a name. The settings are as the contract has them.
type Course struct {
	Name      string
	Settings  json.RawMessage
	Note      string
	UsedBy    []string // groups whose usual one it is
	Revision  int64
	CreatedAt time.Time
	CreatedBy string
}

const courseQuery = `select name, settings, note, revision, created_at, created_by,
	array(select g.name from groups g where g.course = c.name order by 1) as used_by from courses c `

// Courses lists them by name.
func (s *Store) Courses(ctx context.Context) ([]Course, error) {
	return many[Course](ctx, s.q, courseQuery+`order by name limit 1000`)
}

// Course reads one.
func (s Reader) Course(ctx context.Context, name string) (Course, error) {
	return one[Course](ctx, s.q, courseQuery+`where name = $1`, name)
}

// SaveCourse makes a course, when the revision is 0, or has one that is at the revision
// otherwise ([ErrExists], [ErrStale]).
func (s *Store) SaveCourse(ctx context.Context, now time.Time, actor, name string, revision int64, settings any, note string) error {
	raw, err := json.Marshal(settings)
	if err != nil {
		return err
	}
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		kind, text := "course.saved", fmt.Sprintf("The course %s is saved.", name)
		if revision == 0 {
			if _, err := tx.Exec(ctx, `insert into courses (name, settings, note, created_at, created_by) values ($1, $2, $3, $4, $5)`, name, raw, note, now, actor); err != nil {
				return err
			}
		} else {
			kind, text = "course.changed", fmt.Sprintf("The course %s has other settings.", name)
			tag, err := tx.Exec(ctx, `update courses set settings = $2, note = $3, revision = revision + 1 where name = $1 and $4 in ($5::bigint, revision)`, name, raw, note, revision, AnyRevision)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				if _, err := tx.Course(ctx, name); err != nil {
					return err
				}
				return ErrStale
			}
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: kind, Text: text, Cause: fleet.Because(note)})
	})
}

// DeleteCourse forgets a course that is the usual one of no group.
func (s *Store) DeleteCourse(ctx context.Context, now time.Time, actor, name string, revision int64) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		c, err := tx.Course(ctx, name)
		switch {
		case err != nil:
			return err
		case len(c.UsedBy) > 0:
			return &fleet.Refusal{Text: fmt.Sprintf("the course %s is the usual one of %s; give that another first", name, c.UsedBy[0])}
		case revision != AnyRevision && revision != c.Revision:
			return ErrStale
		}
		if _, err := tx.Exec(ctx, `delete from courses where name = $1`, name); err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "course.deleted", Text: fmt.Sprintf("The course %s is forgotten.", name), Cause: fleet.Asked("")})
	})
}
