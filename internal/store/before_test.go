package store_test

import (
	"reflect"
	"slices"
	"testing"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/traffic"
	"unitas/internal/pgserver/pgtest"
	"unitas/internal/store"
)

// TestSettingsOfBefore: what the first release wrote of listeners and pools is read under the names
// of now, and written as it was, so that either can read what the other wrote.
func TestSettingsOfBefore(t *testing.T) {
	url := pgtest.Database(t)
	s, conn := stock(t, url), connect(t, url)
	raw := func(sql string, args ...any) (n int64) {
		t.Helper()
		tag, err := conn.Exec(ctx, sql, args...)
		if err != nil {
			t.Fatal(err)
		}
		return tag.RowsAffected()
	}
	const listener = `{"kind": "https", "routes": [{"path": "/fares", "pool": "front", "divert": {"pool": "front", "percent": 5}}], "certificates": ["saltmere"], "least_tls": "1.3", "http2": true, "tell": true,
		"nearby": ["harbour"], "near": "in-order", "enough": 60, "log": {"keep": "share", "percent": 5}, "upgrades": ["none"],
		"limits": {"head": 30000000000, "idle": 120000000000, "quiet": 600000000000, "request": 0, "head_bytes": 65536, "body_bytes": 0, "connections": 0, "connections_per_second": 0, "requests_per_second": 0}}`
	const targets = `{"speak": "https", "trust": "anyone", "stay": {"by": "cookie", "for": 3600000000000}}`
	raw(`update listeners set settings = $1 where address = '127.0.0.1:8000'`, listener)
	raw(`update pools set choose = 'least-busy', nobody = 'try-all', targets = $1 where name = 'front'`, targets)
	l, err := s.Listener(ctx, "127.0.0.1:8000")
	want := traffic.Listener{Address: "127.0.0.1:8000", Pool: "front", Protocol: traffic.HTTPS, Certificates: []string{"saltmere"}, MinTLS: "1.3", HTTP2: true, ProxyProtocol: true,
		Routes:  []traffic.Route{{Path: "/fares", Pool: "front", Split: &traffic.Split{Pool: "front", Percent: 5}}},
		Regions: []string{"harbour"}, RegionOrder: traffic.InOrder, Enough: 60, AccessLog: traffic.AccessLog{Keep: traffic.KeepSampled, Percent: 5}, Upgrades: traffic.NoUpgrades,
		Limits: traffic.ListenerLimits{Head: 30 * time.Second, Idle: 2 * time.Minute, TunnelIdle: 10 * time.Minute, HeadBytes: 64 << 10}}
	if err != nil || !reflect.DeepEqual(l.Listener, want) {
		t.Errorf("the listener is read as\n%+v, %v, want\n%+v", l.Listener, err, want)
	}
	p, err := s.Pool(ctx, "front")
	if err != nil || p.Algorithm != traffic.LeastBusy || p.WhenNoneHealthy != traffic.TryAll || p.Protocol != traffic.Secure || p.Affinity != (traffic.Affinity{By: traffic.ByCookie, For: time.Hour}) {
		t.Errorf("the pool is read as %+v, %v", p, err)
	}
	if _, err := s.ChangeListener(ctx, noon, "ada", "127.0.0.1:8000", store.AnyRevision, func(store.Reader, *store.Listener) (fleet.Cause, error) { return fleet.Asked(""), nil }); err != nil {
		t.Fatal(err)
	}
	if raw(`select 1 from listeners where address = '127.0.0.1:8000' and settings = $1::jsonb`, listener) != 1 {
		t.Error("it is written in another way than it was")
	}
	if raw(`select 1 from pools where name = 'front' and choose = 'least-busy' and targets = $1::jsonb`, targets) != 1 {
		t.Error("the pool is kept in another way than it was")
	}
}

// TestTopicsOfBefore: the topic of failing slots is kept under the name that the first release gave
// it, so that either hears of them by what the other wrote.
func TestTopicsOfBefore(t *testing.T) {
	url := pgtest.Database(t)
	s, conn := stock(t, url), connect(t, url)
	if err := s.AddNotice(ctx, noon, "ada", store.Notice{Name: "board", Topics: []string{"heals", "failing-slots"}, Send: "http://127.0.0.1:9/"}, "s"); err != nil {
		t.Fatal(err)
	}
	kept := func() (topics []string) {
		t.Helper()
		if err := conn.QueryRow(ctx, `select topics from notices where name = 'board'`).Scan(&topics); err != nil {
			t.Fatal(err)
		}
		return topics
	}
	n, err := s.Notice(ctx, "board")
	if err != nil || !slices.Equal(n.Topics, []string{"heals", "failing-slots"}) || !slices.Equal(kept(), []string{"heals", "failing-places"}) {
		t.Errorf("it is read as %q (%v) and kept as %q", n.Topics, err, kept())
	}
	n.Topics = []string{"failing-slots"}
	if err := s.ChangeNotice(ctx, noon, "ada", n, store.AnyRevision, ""); err != nil || !slices.Equal(kept(), []string{"failing-places"}) {
		t.Errorf("changed (%v) it is kept as %q", err, kept())
	}
}
