package store

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
)

// Image is one version of a machine image.
type Image struct {
	Name      string
	Version   int
	State     string // baking, ready, broken, withdrawn
	Digest    string // sha256:…
	SizeBytes int64
	Start     []string // what the machine runs
	CreatedAt time.Time
	CreatedBy string
}

// Ref is the version as people write it.
func (i Image) Ref() string { return fleet.Version{Name: i.Name, N: i.Version}.String() }

const imageColumns = `name, version, state, digest, size_bytes, start, created_at, created_by`

// AddImage records the next version of an image. The caller's Version,
// CreatedAt and CreatedBy are not looked at.
func (s *Store) AddImage(ctx context.Context, now time.Time, actor string, i Image) (Image, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		if err := tx.lockName(ctx, "image", i.Name); err != nil {
			return err
		}
		var err error
		i, err = one[Image](ctx, tx, `insert into images (name, version, state, digest, size_bytes, start, created_at, created_by)
			values ($1, (select coalesce(max(version), 0) + 1 from images where name = $1), $2, $3, $4, $5, $6, $7)
			returning `+imageColumns, i.Name, i.State, i.Digest, i.SizeBytes, i.Start, now, actor)
		if err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{
			Kind: "image.imported", Text: fmt.Sprintf("The image %s is ready.", i.Ref()), Because: "a person imported it",
			Numbers: map[string]any{"size_bytes": i.SizeBytes},
		})
	})
	return i, err
}

// lockName lets one change at a time count versions under a name.
func (tx *Tx) lockName(ctx context.Context, kind, name string) error {
	_, err := tx.Exec(ctx, `select pg_advisory_xact_lock(hashtextextended($1, 0))`, kind+"/"+name)
	return err
}

// Images lists image versions by name and then newest first; only those of
// one image when name is not empty.
func (s *Store) Images(ctx context.Context, name string, p Page) ([]Image, error) {
	after, version := versionCursor(p.After)
	return many[Image](ctx, s.pool, `select `+imageColumns+` from images
		where ($1 = '' or name = $1) and (name > $2 or (name = $2 and version < $3))
		order by name, version desc limit $4`, name, after, version, p.Limit)
}

func versionCursor(c Cursor) (name string, version int) {
	if len(c) != 2 {
		return "", 0
	}
	version, _ = strconv.Atoi(c[1])
	return c[0], version
}

// Image reads one version.
func (s *Store) Image(ctx context.Context, v fleet.Version) (Image, error) {
	return one[Image](ctx, s.pool, `select `+imageColumns+` from images where name = $1 and version = $2`, v.Name, v.N)
}

// Template is one version of an instance template.
type Template struct {
	Name         string
	Version      int
	Image        string
	ImageVersion int
	ImageDigest  string
	ImageStart   []string
	Port         int
	UserData     string
	Environment  map[string]string
	Labels       map[string]string
	Note         string
	CreatedAt    time.Time
	CreatedBy    string
}

// Ref is the version as people write it.
func (t Template) Ref() fleet.Version { return fleet.Version{Name: t.Name, N: t.Version} }

// ImageRef is the image version that the template launches.
func (t Template) ImageRef() fleet.Version { return fleet.Version{Name: t.Image, N: t.ImageVersion} }

const templateQuery = `select t.name, t.version, t.image, t.image_version, i.digest as image_digest, i.start as image_start, t.port,
	t.user_data, t.environment, t.labels, t.note, t.created_at, t.created_by
	from templates t join images i on i.name = t.image and i.version = t.image_version `

// AddTemplate records a template: version 1, or the next one with revise. It
// returns ErrExists for a version 1 that is there, ErrNotFound for a revision
// of nothing.
func (s *Store) AddTemplate(ctx context.Context, now time.Time, actor string, t Template, revise bool) (Template, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		if err := tx.lockName(ctx, "template", t.Name); err != nil {
			return err
		}
		var latest int
		if err := tx.QueryRow(ctx, `select coalesce(max(version), 0) from templates where name = $1`, t.Name).Scan(&latest); err != nil {
			return err
		}
		kind, because := "template.created", "a person created it"
		switch {
		case revise && latest == 0:
			return ErrNotFound
		case revise:
			kind, because = "template.revised", t.Note
		case latest > 0:
			return ErrExists
		}
		if _, err := tx.Exec(ctx, `insert into templates
			(name, version, image, image_version, port, user_data, environment, labels, note, created_at, created_by)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`, t.Name, latest+1, t.Image, t.ImageVersion, t.Port,
			t.UserData, t.Environment, t.Labels, t.Note, now, actor); err != nil {
			return err
		}
		var err error
		t, err = one[Template](ctx, tx, templateQuery+`where t.name = $1 and t.version = $2`, t.Name, latest+1)
		if err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: kind, Because: because,
			Text: fmt.Sprintf("The template %s launches %s.", t.Ref(), t.ImageRef())})
	})
	return t, err
}

// Templates lists template versions by name and then newest first.
func (s *Store) Templates(ctx context.Context, name string, p Page) ([]Template, error) {
	after, version := versionCursor(p.After)
	return many[Template](ctx, s.pool, templateQuery+`
		where ($1 = '' or t.name = $1) and (t.name > $2 or (t.name = $2 and t.version < $3))
		order by t.name, t.version desc limit $4`, name, after, version, p.Limit)
}

// Template reads one version; the latest for N = 0.
func (s *Store) Template(ctx context.Context, v fleet.Version) (Template, error) {
	return one[Template](ctx, s.pool, templateQuery+`where t.name = $1 and
		t.version = case when $2 = 0 then (select max(version) from templates where name = $1) else $2 end`, v.Name, v.N)
}

// Check is a health check with its bookkeeping.
type Check struct {
	health.Check
	Revision  int64
	CreatedAt time.Time
}

type checkRow struct {
	Name                  string
	Kind                  string
	Port                  int
	Path                  string
	IntervalMs, TimeoutMs int64
	Passes, Fails         int
	Revision              int64
	CreatedAt             time.Time
}

func (r checkRow) check() Check {
	return Check{
		Check: health.Check{Name: r.Name, Kind: health.Kind(r.Kind), Port: r.Port, Path: r.Path,
			Interval: fromMillis(r.IntervalMs), Timeout: fromMillis(r.TimeoutMs), Passes: r.Passes, Fails: r.Fails},
		Revision: r.Revision, CreatedAt: r.CreatedAt,
	}
}

const checkColumns = `name, kind, port, path, interval_ms, timeout_ms, passes, fails, revision, created_at`

// AddCheck records a check.
func (s *Store) AddCheck(ctx context.Context, now time.Time, actor string, c health.Check) (Check, error) {
	var row checkRow
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		var err error
		row, err = one[checkRow](ctx, tx, `insert into checks (name, kind, port, path, interval_ms, timeout_ms, passes, fails, created_at)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9) returning `+checkColumns,
			c.Name, string(c.Kind), c.Port, c.Path, millis(c.Interval), millis(c.Timeout), c.Passes, c.Fails, now)
		if err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "check.created", Text: fmt.Sprintf("The check %s is made.", c.Name), Because: "a person created it"})
	})
	return row.check(), err
}

// Checks lists checks by name.
func (s *Store) Checks(ctx context.Context, p Page) ([]Check, error) {
	rows, err := many[checkRow](ctx, s.pool, `select `+checkColumns+` from checks where name > $1 order by name limit $2`, nameCursor(p.After), p.Limit)
	out := make([]Check, len(rows))
	for i, r := range rows {
		out[i] = r.check()
	}
	return out, err
}

func nameCursor(c Cursor) string {
	if len(c) == 0 {
		return ""
	}
	return c[0]
}

// Check reads one check.
func (s *Store) Check(ctx context.Context, name string) (Check, error) {
	row, err := one[checkRow](ctx, s.pool, `select `+checkColumns+` from checks where name = $1`, name)
	return row.check(), err
}

// Pool is the set of targets behind a listener.
type Pool struct {
	Name      string
	Listen    string // address:port
	Check     string
	Revision  int64
	CreatedAt time.Time
}

const poolColumns = `name, listen, "check", revision, created_at`

// AddPool records a pool.
func (s *Store) AddPool(ctx context.Context, now time.Time, actor string, p Pool) (Pool, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		var err error
		p, err = one[Pool](ctx, tx, `insert into pools (name, listen, "check", created_at) values ($1, $2, $3, $4) returning `+poolColumns,
			p.Name, p.Listen, p.Check, now)
		if err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "pool.created", Text: fmt.Sprintf("The pool %s listens on %s.", p.Name, p.Listen), Because: "a person created it"})
	})
	return p, err
}

// Pools lists pools by name.
func (s *Store) Pools(ctx context.Context, p Page) ([]Pool, error) {
	return many[Pool](ctx, s.pool, `select `+poolColumns+` from pools where name > $1 order by name limit $2`, nameCursor(p.After), p.Limit)
}

// Pool reads one pool.
func (s *Store) Pool(ctx context.Context, name string) (Pool, error) {
	return one[Pool](ctx, s.pool, `select `+poolColumns+` from pools where name = $1`, name)
}
