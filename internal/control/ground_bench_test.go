package control_test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"

	"unitas/internal/control"
	"unitas/internal/feed"
	"unitas/internal/fleet"
	"unitas/internal/machine"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// How large the ground is: a part of all when UNITAS_BENCH_PART says so.
const (
	groundGroups    = 1000
	groundInstances = 100_000
	groundGone      = 1_000_000
	groundJournal   = 2_000_000
)

// ground is a database with all of that, and how many groups and instances there are.
func ground(b *testing.B) (url string, groups, instances int) {
	b.Helper()
	part := 1
	if text := os.Getenv("UNITAS_BENCH_PART"); text != "" {
		part, _ = strconv.Atoi(text)
	}
	groups, instances = groundGroups/part, groundInstances/part
	url = pgtest.Database(b)
	s, err := store.Open(ctx, url)
	if err != nil {
		b.Fatal(err)
	}
	s.Close()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(ctx)
	columns := `id, group_name, serial, zone, template, template_version, state, since, cause, slot, address, address_number, ordered_at, up_at, served_at`
	for _, sql := range []string{
		`set synchronous_commit = off`,
		`insert into images (name, version, state, digest, size_bytes, start, created_by) values ('timetable', 1, 'ready', 'sha256:0', 1, '{./x}', 'ada')`,
		`insert into templates (name, version, image, image_version, port, user_data, environment, labels, note, created_by)
			values ('timetable-web', 1, 'timetable', 1, 8080, '', '{}', '{}', '', 'ada')`,
		fmt.Sprintf(`insert into groups (name, size, min, max, template, template_version, zones, heal, settle_ms, drain_ms, next_serial, slots)
			select 'group-' || g, %d, 0, %d, 'timetable-web', 1, '{east-pier,mid-pier,west-pier}', 'machine', 60000, 1000, 100000, '[]' from generate_series(0, %d) g`,
			instances/groups, instances/groups, groups-1),
		fmt.Sprintf(`insert into instances (%s) select 'i-' || n, 'group-' || n %% %d, n, (array['east-pier','mid-pier','west-pier'])[(n / %d) %% 3 + 1], 'timetable-web', 1, 'serving', now(),
			'{"code": "unasked"}', n / %d + 1, 'a-' || n, n, now(), now(), now() from generate_series(0, %d) n`, columns, groups, groups, groups, instances-1),
		fmt.Sprintf(`insert into instances (%s) select 'gone-' || n, 'group-' || n %% %d, 1000000 + n, 'east-pier', 'timetable-web', 1, 'gone', now() - interval '1 day',
			'{"code": "cleared"}', 1, 'g-' || n, n, now(), now(), now() - n * interval '1 second' from generate_series(1, %d) n`, columns, groups, groundGone/part),
		fmt.Sprintf(`insert into journal (at, kind, group_name, instance, actor, text, because, numbers)
			select now() - n * interval '1 second', 'instance.serving', 'group-' || n %% %d, 'gone-' || n %% 1000000, 'unitas', 'It serves.', 'it is well', '{}' from generate_series(1, %d) n`,
			groups, groundJournal/part),
		`analyze`,
	} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			b.Fatalf("%v: %s", err, sql)
		}
	}
	return url, groups, instances
}

// BenchmarkGround starts a service on a large database, and tells how long it takes until
// all groups are under control, what a quiet fleet costs, and how lists are read.
func BenchmarkGround(b *testing.B) {
	for b.Loop() { // once, and measured by itself
	}
	url, groups, instances := ground(b)
	y := newYard()
	for n := range instances {
		y.machines[fmt.Sprint("i-", n)] = fleet.MachineRunning
	}
	s, err := store.Open(ctx, url)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	log := slog.New(slog.DiscardHandler)
	changes, err := feed.Open(ctx, s, log)
	if err != nil {
		b.Fatal(err)
	}
	running, stop := context.WithCancel(ctx)
	defer stop()
	go changes.Run(running)
	ctl := control.New(control.Config{Store: s, Feed: changes, Machines: list{y}, Balancer: noTraffic{}, Self: store.Replica{ID: "one"}, Log: log, Metrics: prometheus.NewRegistry()})
	ended := make(chan error, 1)
	begun := time.Now()
	go func() { ended <- ctl.Run(running) }()
	for kept := 0; kept < groups; {
		if time.Since(begun) > 4*time.Minute {
			b.Fatalf("after %s %d groups are under control", time.Since(begun), kept)
		}
		time.Sleep(20 * time.Millisecond)
		kept = ctl.Known()
	}
	b.ReportMetric(time.Since(begun).Seconds(), "s/start")

	time.Sleep(5 * time.Second)
	used, at := cpu(), time.Now()
	time.Sleep(30 * time.Second) // more than one sweep
	b.ReportMetric(100*(cpu()-used).Seconds()/time.Since(at).Seconds(), "%quiet")

	var bare, page time.Duration
	const lists = 200
	for n := range lists {
		begun := time.Now()
		all, err := s.Instances(ctx, fmt.Sprint("group-", n%groups), false, store.Page{Limit: 100})
		if err != nil || len(all) != instances/groups {
			b.Fatalf("%d instances: %v", len(all), err)
		}
		middle := time.Now()
		ctl.AddFacts(all)
		bare, page = bare+middle.Sub(begun), page+time.Since(middle)
	}
	b.ReportMetric(float64(page.Nanoseconds())/float64(lists*instances/groups), "ns/facts")
	b.ReportMetric((bare+page).Seconds()/bare.Seconds(), "ratio/page")
	stop()
	if err := <-ended; err != nil {
		b.Error(err)
	}
}

// list is a yard of which a list says that all machines run.
type list struct{ *yard }

func (l list) List(context.Context) ([]machine.Fact, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	facts := make([]machine.Fact, 0, len(l.machines))
	for id, state := range l.machines {
		facts = append(facts, machine.Fact{ID: id, State: state})
	}
	return facts, nil
}

func cpu() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
