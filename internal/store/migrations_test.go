package store

import (
	"context"
	"database/sql"
	"io/fs"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"

	"unitas/internal/fleet/traffic"
	"unitas/internal/pgserver/pgtest"
)

// TestListenersOfAnEarlierRelease: what listened listens on as it did, a check whose name means
// something now has another, and all of it goes back.
func TestListenersOfAnEarlierRelease(t *testing.T) {
	ctx, url := context.Background(), pgtest.Database(t)
	db, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		t.Fatal(err)
	}
	to, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := to.UpTo(ctx, 14); err != nil {
		t.Fatal(err)
	}
	for _, do := range []string{
		`insert into checks (name, kind, port, path, interval_ms, timeout_ms, passes, fails) values ('traffic', 'http', 80, '/', 5000, 2000, 2, 3)`,
		`insert into pools (name, "check") values ('front', 'traffic')`,
		`insert into listeners (address, pool, position) values ('127.0.0.1:8000', 'front', 0)`,
		`insert into listeners (address, pool, position, certificate) values ('127.0.0.1:8443', 'front', 1, 'saltmere')`,
		`insert into listeners (address, pool, position, certificate, key) values ('127.0.0.1:8444', 'front', 2, '/srv/a.pem', '/srv/a.key')`,
	} {
		if _, err := db.ExecContext(ctx, do); err != nil {
			t.Fatalf("%s: %v", do, err)
		}
	}
	s, err := Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	p, err := s.Pool(ctx, "front")
	if err != nil {
		t.Fatal(err)
	}
	if p.Check != "traffic-check" || len(p.Listeners) != 3 {
		t.Fatalf("the pool is %+v", p)
	}
	for i, want := range []Listener{NewListener("127.0.0.1:8000", "front", ""), NewListener("127.0.0.1:8443", "front", "saltmere"), NewListener("127.0.0.1:8444", "front", "/srv/a.pem")} {
		l := p.Listeners[i]
		if l.Address != want.Address || l.Pool != "front" || l.Protocol != want.Protocol || l.HTTP2 != want.HTTP2 || l.Limits != traffic.UsualListenerLimits || l.AccessLog != want.AccessLog || (i == 2) != (l.Key == "/srv/a.key") ||
			len(l.Certificates) != len(want.Certificates) || (len(l.Certificates) > 0 && l.Certificates[0] != want.Certificates[0]) {
			t.Errorf("a listener is %+v, want %+v", l, want)
		}
	}
	s.Close()
	if _, err := to.DownTo(ctx, 14); err != nil {
		t.Fatal(err)
	}
	var certificate string
	if err := db.QueryRowContext(ctx, `select certificate from listeners where address = '127.0.0.1:8443'`).Scan(&certificate); err != nil || certificate != "saltmere" {
		t.Errorf("gone back its certificate is %q, %v", certificate, err)
	}
}
