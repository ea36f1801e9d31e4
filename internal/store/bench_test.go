package store_test

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// BenchmarkListImages lists 50 of 100,000 image versions and holds it against
// the bare query of the same rows by their index, in turns.
func BenchmarkListImages(b *testing.B) {
	url := pgtest.Database(b)
	s, err := store.Open(ctx, url)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `insert into images (name, version, state, digest, size_bytes, start, created_by, places)
		select 'image-' || lpad((n / 100)::text, 4, '0'), n % 100 + 1, 'ready', 'sha256:' || md5(n::text), n, '{./x}', 'ada', '{"harbour": {"since": "2026-06-01T00:00:00Z"}}'
		from generate_series(0, 99999) n`); err != nil {
		b.Fatal(err)
	}
	if _, err := conn.Exec(ctx, `analyze images`); err != nil {
		b.Fatal(err)
	}
	after := store.Cursor{"image-0500", "51"}
	var bare, whole time.Duration
	for b.Loop() {
		begun := time.Now()
		rows, err := conn.Query(ctx, `select name, version, state, digest, size_bytes, start, created_at, created_by, origin, source, parent, parent_version,
			labels, environment, recipe, step, why, successor, places, replica, revision from images
			where name >= 'image-0500' and (name > 'image-0500' or version < 51) order by name, version desc limit 50`)
		if err != nil {
			b.Fatal(err)
		}
		n := 0
		for rows.Next() {
			if _, err := rows.Values(); err != nil {
				b.Fatal(err)
			}
			n++
		}
		if n != 50 {
			b.Fatalf("%d rows", n)
		}
		middle := time.Now()
		images, err := s.Images(ctx, store.ImageQuery{Page: store.Page{Limit: 50, After: after}})
		if err != nil || len(images) != 50 {
			b.Fatalf("%d images: %v", len(images), err)
		}
		bare, whole = bare+middle.Sub(begun), whole+time.Since(middle)
	}
	b.ReportMetric(whole.Seconds()/bare.Seconds(), "ratio")
	b.ReportMetric(float64(whole.Microseconds())/float64(b.N), "µs/list")
}
