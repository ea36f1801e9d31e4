package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Patience is how long one statement or one change may take, the wait for a
// connection included. A database that takes longer counts as not answering.
const Patience = 8 * time.Second

// patient gives every statement its limit in time.
type patient struct{ pool *pgxpool.Pool }

func (p patient) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	return p.pool.Exec(ctx, sql, args...)
}

func (p patient) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	rows, err := p.pool.Query(ctx, sql, args...)
	if err != nil {
		cancel()
		return rows, err
	}
	return patientRows{rows, cancel}, nil
}

func (p patient) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	return patientRow{p.pool.QueryRow(ctx, sql, args...), cancel}
}

type patientRows struct {
	pgx.Rows
	cancel func()
}

func (r patientRows) Close() {
	r.Rows.Close()
	r.cancel()
}

type patientRow struct {
	pgx.Row
	cancel func()
}

func (r patientRow) Scan(into ...any) error {
	defer r.cancel()
	return r.Row.Scan(into...)
}
