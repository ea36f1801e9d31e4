package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// AddToken records a bearer token by its SHA-256 hash.
func (s *Store) AddToken(ctx context.Context, name, token string) error {
	hash := sha256.Sum256([]byte(token))
	_, err := s.q.Exec(ctx, `insert into tokens (name, hash) values ($1, $2)
		on conflict (name) do update set hash = excluded.hash, created_at = now()`, name, hash[:])
	return err
}

// FirstToken records the bearer token that make returns, unless there are tokens: of
// services that start together one makes it.
func (s *Store) FirstToken(ctx context.Context, name string, make func() (string, error)) (made bool, err error) {
	err = s.Change(ctx, time.Now().UTC(), Service, func(tx *Tx) error {
		if _, err := tx.Exec(ctx, `lock table tokens in share row exclusive mode`); err != nil {
			return err
		}
		var n int
		if err := tx.QueryRow(ctx, `select count(*) from tokens`).Scan(&n); err != nil || n > 0 {
			return err
		}
		token, err := make()
		if err != nil {
			return err
		}
		hash := sha256.Sum256([]byte(token))
		made = true
		_, err = tx.Exec(ctx, `insert into tokens (name, hash) values ($1, $2)`, name, hash[:])
		return err
	})
	return made && err == nil, err
}

// TokenName returns whose token it is, or ErrNotFound.
func (s *Store) TokenName(ctx context.Context, token string) (string, error) {
	hash := sha256.Sum256([]byte(token))
	var name string
	err := s.q.QueryRow(ctx, `select name from tokens where hash = $1`, hash[:]).Scan(&name)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return name, err
}

// Repeat is a creation that was asked for under a key before.
type Repeat struct {
	Fingerprint []byte
	Status      *int // nil while the first is still being answered
	Body        []byte
}

// BeginRepeat records the key, or returns what was recorded under it in the
// last day. A first request that was not heard of for a minute frees its key; see
// [Store.KeepRepeat].
func (s *Store) BeginRepeat(ctx context.Context, token, key string, fingerprint []byte) (before *Repeat, err error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from repeats where token = $1 and key = $2 and (created_at < now() - interval '1 day'
			or (status is null and created_at < now() - interval '1 minute'))`, token, key); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `insert into repeats (token, key, fingerprint) values ($1, $2, $3) on conflict do nothing`, token, key, fingerprint)
		if err != nil || tag.RowsAffected() == 1 {
			return err
		}
		r, err := one[Repeat](ctx, tx, `select fingerprint, status, body from repeats where token = $1 and key = $2`, token, key)
		before = &r
		return err
	})
	return before, err
}

// KeepRepeat says that the first request under a key is still being answered.
func (s *Store) KeepRepeat(ctx context.Context, token, key string) error {
	_, err := s.q.Exec(ctx, `update repeats set created_at = now() where token = $1 and key = $2 and status is null`, token, key)
	return err
}

// EndRepeat records the answer to the first request under a key with what it was, or
// frees the key when the request was not carried out.
func (s *Store) EndRepeat(ctx context.Context, token, key string, status int, fingerprint, body []byte) error {
	var err error
	if status >= 200 && status < 300 {
		_, err = s.q.Exec(ctx, `update repeats set status = $3, fingerprint = $4, body = $5 where token = $1 and key = $2`, token, key, status, fingerprint, body)
	} else {
		_, err = s.q.Exec(ctx, `delete from repeats where token = $1 and key = $2`, token, key)
	}
	return err
}
