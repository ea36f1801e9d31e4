package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/fleet"
	"unitas/internal/fleet/template"
)

// Template is one version of an instance template.
type Template struct {
	template.Spec
	Name             string
	Version          int
	ImageDigest      string
	ImageStart       []string
	ImageEnvironment map[string]string
	ImageState       string
	ImageWhy         string
	ImageSuccessor   string
	ImagePlaces      map[string]Place
	Note             string
	RevisedFrom      int // the version that it was revised from; 0 for none
	State            string
	Why              string
	Successor        string
	Revision         int64
	CreatedAt        time.Time
	CreatedBy        string
	Marks            []string
}

// Ref is the version as people write it.
func (t Template) Ref() fleet.Version { return fleet.Version{Name: t.Name, N: t.Version} }

// ImageRef is the image version that the template launches.
func (t Template) ImageRef() fleet.Version { return fleet.Version{Name: t.Image, N: t.ImageVersion} }

// Usable refuses new use of a version that is withdrawn, or whose image is.
func (t Template) Usable() error {
	own := fleet.VersionStatus{What: "template", Version: t.Ref(), State: t.State, Why: t.Why, Successor: t.Successor}
	if err := own.Usable(); err != nil {
		return err
	}
	return fleet.VersionStatus{What: "image", Version: t.ImageRef(), State: t.ImageState, Why: t.ImageWhy, Successor: t.ImageSuccessor}.Usable()
}

var (
	templateFields = columnsOf[Template]().but("marks", "image_digest", "image_start", "image_environment", "image_state", "image_why", "image_successor", "image_places")
	templateQuery  = `select ` + templateFields.list("t.") + `, i.digest as image_digest, i.start as image_start,
	i.environment as image_environment, i.state as image_state, i.why as image_why, i.successor as image_successor, i.places as image_places,
	array(select mark from marks m where m.kind = 'template' and m.name = t.name and m.version = t.version order by mark) as marks
	from templates t join images i on i.name = t.image and i.version = t.image_version `
	insertTemplate = templateFields.but("revision").insert("templates")
)

// AddTemplate records a template: version 1 of a new name, or the next one
// when it was revised from another. It returns ErrExists for a new name that
// is there, ErrNotFound for a revision of nothing.
func (s *Store) AddTemplate(ctx context.Context, now time.Time, actor string, t Template, revise bool) (Template, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) (err error) {
		t, err = tx.AddTemplate(ctx, t, revise)
		return err
	})
	return t, err
}

// AddTemplate is [Store.AddTemplate] within a change.
func (tx *Tx) AddTemplate(ctx context.Context, t Template, revise bool) (Template, error) {
	n, err := tx.nextVersion(ctx, "template", t.Name)
	if err != nil {
		return t, err
	}
	var there bool
	if err := tx.QueryRow(ctx, `select exists (select 1 from templates where name = $1)`, t.Name).Scan(&there); err != nil {
		return t, err
	}
	kind, because := "template.created", "a person created it"
	switch {
	case revise && !there:
		return t, ErrNotFound
	case revise:
		kind, because = "template.revised", t.Note
	case there:
		return t, ErrExists
	}
	t.Version, t.State, t.Marks, t.CreatedAt, t.CreatedBy = n, Ready, []string{}, tx.Now, tx.Actor
	if _, err := tx.Exec(ctx, insertTemplate, values(t)); err != nil {
		return t, err
	}
	if t, err = one[Template](ctx, tx, templateQuery+`where t.name = $1 and t.version = $2`, t.Name, n); err != nil {
		return t, err
	}
	return t, tx.Record(ctx, "", fleet.Entry{Kind: kind, Cause: fleet.Because(because),
		Text: fmt.Sprintf("The template %s launches %s.", t.Ref(), t.ImageRef())})
}

// Templates lists template versions by name and then newest first.
func (s *Store) Templates(ctx context.Context, name string, p Page) ([]Template, error) {
	after, version := versionCursor(p.After)
	return many[Template](ctx, s.q, templateQuery+`
		where ($1 = '' or t.name = $1) and t.name >= $2 and (t.name > $2 or t.version < $3)
		order by t.name, t.version desc limit $4`, name, after, version, p.Limit)
}

// Template reads one version; the latest for N = 0.
func (s Reader) Template(ctx context.Context, v fleet.Version) (Template, error) {
	return one[Template](ctx, s.q, templateQuery+`where t.name = $1 and
		t.version = case when $2 = 0 then (select max(version) from templates where name = $1) else $2 end`, v.Name, v.N)
}

// WithdrawTemplate stops new use of a version.
func (s *Store) WithdrawTemplate(ctx context.Context, now time.Time, actor string, v fleet.Version, revision int64, why, successor string) (Template, error) {
	var t Template
	err := s.changeTemplate(ctx, now, actor, v, revision, func(tx *Tx) error {
		tag, err := tx.Exec(ctx, `update templates set state = 'withdrawn', why = $3, successor = $4, revision = revision + 1
			where name = $1 and version = $2 and state = 'ready'`, v.Name, v.N, why, successor)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return &fleet.Refusal{Text: fmt.Sprintf("the template %s is withdrawn already", v)}
		}
		if t, err = one[Template](ctx, tx, templateQuery+`where t.name = $1 and t.version = $2`, v.Name, v.N); err != nil {
			return err
		}
		text := fmt.Sprintf("The template %s is withdrawn.", v)
		if successor != "" {
			text = fmt.Sprintf("The template %s is withdrawn in favour of %s.", v, successor)
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "template.withdrawn", Text: text, Cause: fleet.Because(why)})
	})
	return t, err
}

// changeTemplate locks a version that is at the revision and lets f change it.
func (s *Store) changeTemplate(ctx context.Context, now time.Time, actor string, v fleet.Version, revision int64, f func(*Tx) error) error {
	return s.Change(ctx, now, actor, func(tx *Tx) error {
		type row struct{ Revision int64 }
		r, err := one[row](ctx, tx, `select revision from templates where name = $1 and version = $2 for update`, v.Name, v.N)
		if err != nil {
			return err
		}
		if revision != AnyRevision && r.Revision != revision {
			return ErrStale
		}
		return f(tx)
	})
}

// DeleteTemplate removes a version that nothing uses; an *InUse error names
// what does.
func (s *Store) DeleteTemplate(ctx context.Context, now time.Time, actor string, v fleet.Version, revision int64) error {
	return s.changeTemplate(ctx, now, actor, v, revision, func(tx *Tx) error {
		users, err := templateUsers(ctx, tx, v)
		if err != nil {
			return err
		}
		if len(users.Words()) > 0 {
			return &InUse{"the template " + v.String(), users.Words()}
		}
		if err := tx.dropMarks(ctx, "template", v); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from templates where name = $1 and version = $2`, v.Name, v.N); err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "template.deleted", Text: fmt.Sprintf("The template %s is deleted.", v), Cause: fleet.Because("a person asked for it")})
	})
}

// TemplateUsers returns what uses a version now.
func (s *Store) TemplateUsers(ctx context.Context, v fleet.Version) (Users, error) {
	return templateUsers(ctx, s.q, v)
}

func templateUsers(ctx context.Context, q querier, v fleet.Version) (Users, error) {
	u := Users{Templates: []string{}, Children: []string{}}
	err := q.QueryRow(ctx, `select
		coalesce((select array_agg(g.name order by g.name) from groups g where not alone and ((g.template = $1 and g.template_version = $2)
			or exists (select 1 from rollouts r where r.group_name = g.name and r.ended_at is null
				and ((r.to_name = $1 and r.to_version = $2) or (r.from_name = $1 and r.from_version = $2)
				or exists (select 1 from jsonb_array_elements(case jsonb_typeof(r.before) when 'array' then r.before else '[]' end) b
					where b->'version'->>'Name' = $1 and (b->'version'->>'N')::int = $2))))), '{}'),
		coalesce((select array_agg(id order by id) from instances where living_template = $1 and template_version = $2), '{}')`,
		v.Name, v.N).Scan(&u.Groups, &u.Instances)
	return u, err
}

// GroupsOfTemplate are the groups that launch any version of the template,
// with what the advice about a new version needs.
func (s *Store) GroupsOfTemplate(ctx context.Context, name string) ([]Group, error) {
	rows, err := many[groupRow](ctx, s.q, groupQuery+`where g.template = $1 and not g.alone order by name`, name)
	out := make([]Group, len(rows))
	for i, r := range rows {
		out[i] = r.group()
	}
	return out, err
}

// InstancesOfTemplate are the instances of any version that are not gone.
func (s *Store) InstancesOfTemplate(ctx context.Context, name string) ([]string, error) {
	rows, err := s.q.Query(ctx, `select id from instances where living_template = $1`, name)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// PlaceCounts is what runs where, by zone, and which images lie where, by region.
type PlaceCounts struct {
	Instances, Serving, Images map[string]int
	Bytes                      map[string]int64
}

// ZoneLoss is what the loss of zones takes from one group.
type ZoneLoss struct {
	Group   string
	Goes    int // instances that have machines there
	Serving int // that serve now, anywhere
	Stays   int // of those, elsewhere
}

// ZoneLosses are what the loss of zones takes, by group.
func (s Reader) ZoneLosses(ctx context.Context, zones []string) ([]ZoneLoss, error) {
	return many[ZoneLoss](ctx, s.q, `select group_name as "group", (count(*) filter (where zone = any($1)))::int as goes,
			(count(*) filter (where state = 'serving'))::int as serving, (count(*) filter (where state = 'serving' and not zone = any($1)))::int as stays
		from instances where state <> 'gone' group by group_name having bool_or(zone = any($1)) order by group_name`, zones)
}

// CountPlaces counts what is not gone.
func (s *Store) CountPlaces(ctx context.Context) (PlaceCounts, error) {
	c := PlaceCounts{Instances: map[string]int{}, Serving: map[string]int{}, Images: map[string]int{}, Bytes: map[string]int64{}}
	type zone struct {
		Zone    string
		N       int
		Serving int
	}
	zones, err := many[zone](ctx, s.q, `select zone, count(*)::int as n, (count(*) filter (where state = 'serving'))::int as serving
		from instances where state <> 'gone' group by zone`)
	if err != nil {
		return c, err
	}
	for _, z := range zones {
		c.Instances[z.Zone], c.Serving[z.Zone] = z.N, z.Serving
	}
	type region struct {
		Region string
		N      int
		Bytes  int64
	}
	regions, err := many[region](ctx, s.q, `select key as region, count(*)::int as n, sum(size_bytes)::bigint as bytes
		from images, jsonb_object_keys(places) as key group by key`)
	for _, r := range regions {
		c.Images[r.Region], c.Bytes[r.Region] = r.N, r.Bytes
	}
	return c, err
}
