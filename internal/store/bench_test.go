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

// BenchmarkTenThousand reads what the console reads of a group of the largest
// size: all groups with their instances, and one page of a thousand.
func BenchmarkTenThousand(b *testing.B) {
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
	for _, statement := range []string{
		`insert into images (name, version, state, digest, size_bytes, start, created_by) values ('timetable', 1, 'ready', 'sha256:0', 1, '{./x}', 'ada')`,
		`insert into templates (name, version, image, image_version, port, user_data, environment, labels, note, created_by)
			values ('timetable-web', 1, 'timetable', 1, 8080, '', '{}', '{}', '', 'ada')`,
		`insert into groups (name, size, min, max, template, template_version, zones, heal, settle_ms, drain_ms, next_serial)
			values ('timetable', 10000, 0, 10000, 'timetable-web', 1, '{east-pier,mid-pier,west-pier}', 'machine', 60000, 1000, 10000)`,
		`insert into instances (id, group_name, serial, zone, template, template_version, state, since, cause, slot, address, address_number, ordered_at, up_at, served_at)
			select 'timetable-' || lpad(to_hex(n), 4, '0'), 'timetable', n, (array['east-pier','mid-pier','west-pier'])[n % 3 + 1], 'timetable-web', 1, 'serving', now(),
			'{"code": "checked", "about": "sailings-up", "words": "passed 2 of 2: 200, 200"}', n, '127.64.' || n / 250 || '.' || n % 250, n, now(), now(), now() from generate_series(1, 10000) n`,
		`analyze instances`,
	} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			b.Fatal(err)
		}
	}
	var all, page time.Duration
	for b.Loop() {
		begun := time.Now()
		groups, err := s.LoadAll(ctx, store.Page{Limit: 100}, func(string) bool { return false })
		if err != nil || len(groups) != 1 || len(groups[0].Instances) != 10_000 {
			b.Fatalf("%d groups: %v", len(groups), err)
		}
		middle := time.Now()
		instances, err := s.Instances(ctx, "timetable", false, store.Page{Limit: 1000, After: store.Cursor{"timetable", "5000"}})
		if err != nil || len(instances) != 1000 {
			b.Fatalf("%d instances: %v", len(instances), err)
		}
		all, page = all+middle.Sub(begun), page+time.Since(middle)
	}
	b.ReportMetric(float64(all.Milliseconds())/float64(b.N), "ms/groups")
	b.ReportMetric(float64(page.Microseconds())/1000/float64(b.N), "ms/page")
}
