package store

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"unitas/internal/fleet"
)

// The states of an image version, as the core names them.
const (
	Baking    = fleet.VersionBaking
	Ready     = fleet.VersionReady
	Broken    = fleet.VersionBroken
	Withdrawn = fleet.VersionWithdrawn
)

// Where an image version came from.
const (
	Provided     = "provided"
	Imported     = "imported"
	Baked        = "baked"
	FromInstance = "from-instance"
)

// Image is one version of a machine image.
type Image struct {
	Name          string
	Version       int
	State         string
	Digest        string // of its manifest, sha256:…
	SizeBytes     int64
	Start         []string // what the machine runs
	CreatedAt     time.Time
	CreatedBy     string
	Origin        string
	Source        string // a file, a reference in a registry, or an instance
	Parent        string
	ParentVersion int
	Labels        map[string]string
	Environment   map[string]string
	Recipe        string
	Step          string // what a bake does, or failed at
	Why           string // of broken and withdrawn
	Successor     string // of withdrawn: what to use instead
	Places        map[string]Place
	Replica       string // that bakes it
	Revision      int64
	Marks         []string
}

// Place is how an image version came to a region.
type Place struct {
	Since time.Time `json:"since"`
	From  string    `json:"from,omitempty"` // the region it was copied from
}

// Ref is the version as people write it.
func (i Image) Ref() fleet.Version { return fleet.Version{Name: i.Name, N: i.Version} }

// ParentRef is the version that it was made from, zero when there is none.
func (i Image) ParentRef() fleet.Version { return fleet.Version{Name: i.Parent, N: i.ParentVersion} }

// Usable refuses new use of a version that is not ready.
func (i Image) Usable() error {
	return fleet.VersionStatus{What: "image", Version: i.Ref(), State: i.State, Why: i.Why, Successor: i.Successor}.Usable()
}

var (
	imageFields = columnsOf[Image]().but("marks")
	imageQuery  = `select ` + imageFields.list("i.") + `,
	array(select mark from marks m where m.kind = 'image' and m.name = i.name and m.version = i.version order by mark) as marks
	from images i `
	insertImage = imageFields.but("revision").insert("images")
	updateImage = `update images set ` + columns{"state", "digest", "size_bytes", "start", "labels", "environment", "step", "why", "successor", "places"}.assigned() +
		`, revision = revision + 1 where name = @name and version = @version`
)

// nextVersion draws the next number under a name; a number is given once.
func (tx *Tx) nextVersion(ctx context.Context, kind, name string) (n int, err error) {
	err = tx.QueryRow(ctx, `insert into counters (kind, name, last) values ($1, $2, 1)
		on conflict (kind, name) do update set last = counters.last + 1 returning last`, kind, name).Scan(&n)
	return n, err
}

// AddImage records the next version of an image, whole or in the making. The
// caller's Version, CreatedAt, CreatedBy and Marks are not looked at.
func (s *Store) AddImage(ctx context.Context, now time.Time, actor string, i Image) (Image, error) {
	err := s.Change(ctx, now, actor, func(tx *Tx) error {
		n, err := tx.nextVersion(ctx, "image", i.Name)
		if err != nil {
			return err
		}
		i.Version, i.CreatedAt, i.CreatedBy, i.Origin = n, now, actor, cmp.Or(i.Origin, Imported)
		if _, err := tx.Exec(ctx, insertImage, values(i)); err != nil {
			return err
		}
		if i, err = tx.image(ctx, fleet.Version{Name: i.Name, N: n}); err != nil {
			return err
		}
		return tx.Record(ctx, "", i.entry())
	})
	return i, err
}

func notNilMap[K comparable, V any](m map[K]V) map[K]V {
	if m == nil {
		return map[K]V{}
	}
	return m
}

// entry is what the journal says when the version comes to its state.
func (i Image) entry() fleet.Entry {
	e := fleet.Entry{Kind: "image." + i.State, Numbers: fleet.Numbers{fleet.Measured("size_bytes", i.SizeBytes)}}
	how := map[string]string{Provided: "it ships with the product", Imported: "a person imported it", Baked: "a person had it baked",
		FromInstance: "a person made it from " + i.Source}[i.Origin]
	switch i.State {
	case Baking:
		e.Text, e.Cause, e.Numbers = fmt.Sprintf("The image %s is being made.", i.Ref()), fleet.Because(how), nil
	case Broken:
		e.Text, e.Cause, e.Numbers = fmt.Sprintf("The image %s is broken at %q.", i.Ref(), i.Step), fleet.Because(i.Why), nil
	case Withdrawn:
		e.Text, e.Cause = fmt.Sprintf("The image %s is withdrawn.", i.Ref()), fleet.Because(i.Why)
		if i.Successor != "" {
			e.Text = fmt.Sprintf("The image %s is withdrawn in favour of %s.", i.Ref(), i.Successor)
		}
	default:
		e.Kind, e.Text, e.Cause = "image."+i.Origin, fmt.Sprintf("The image %s is ready.", i.Ref()), fleet.Because(how)
	}
	return e
}

func (tx *Tx) image(ctx context.Context, v fleet.Version) (Image, error) {
	return one[Image](ctx, tx, imageQuery+`where name = $1 and version = $2`, v.Name, v.N)
}

// ChangeImage lets f change a version that is at the revision (ErrStale
// otherwise) and records what became of it.
func (s *Store) ChangeImage(ctx context.Context, now time.Time, actor string, v fleet.Version, revision int64, f func(*Image) error) (Image, error) {
	var i Image
	err := s.Change(ctx, now, actor, func(tx *Tx) (err error) {
		if i, err = one[Image](ctx, tx, imageQuery+`where name = $1 and version = $2 for update of i`, v.Name, v.N); err != nil {
			return err
		}
		if revision != AnyRevision && i.Revision != revision {
			return ErrStale
		}
		was := i.State
		if err := f(&i); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, updateImage, values(i)); err != nil {
			return err
		}
		i.Revision++
		if i.State == was {
			return nil
		}
		return tx.Record(ctx, "", i.entry())
	})
	return i, err
}

// WithdrawImage stops new use of a version.
func (s *Store) WithdrawImage(ctx context.Context, now time.Time, actor string, v fleet.Version, revision int64, why, successor string) (Image, error) {
	return s.ChangeImage(ctx, now, actor, v, revision, func(i *Image) error {
		if i.State != Ready {
			return &fleet.Refusal{Text: fmt.Sprintf("the image %s is %s; only a ready one can be withdrawn", v, i.State)}
		}
		i.State, i.Why, i.Successor = Withdrawn, why, successor
		return nil
	})
}

// InUse is something that cannot be deleted, with all that uses it.
type InUse struct {
	What string
	By   []string
}

func (u *InUse) Error() string {
	return fmt.Sprintf("%s is in use by %s; nothing was deleted", u.What, strings.Join(u.By, ", "))
}

// Users are what uses a version now.
type Users struct {
	Templates []string // versions that launch the image
	Groups    []string
	Instances []string // those that are not gone
	Children  []string // image versions that were made from it; they keep what they need of it
}

// Words name those that stand in the way of a deletion.
func (u Users) Words() []string {
	var all []string
	for _, part := range []struct {
		what  string
		names []string
	}{{"the group", u.Groups}, {"the template", u.Templates}, {"the instance", u.Instances}} {
		for i, n := range part.names {
			if i == 10 {
				all = append(all, fmt.Sprintf("%d more", len(part.names)-i))
				break
			}
			all = append(all, part.what+" "+n)
		}
	}
	return all
}

// DeleteImage removes a version that nothing uses; an *InUse error names what does.
func (s *Store) DeleteImage(ctx context.Context, now time.Time, actor string, v fleet.Version, revision int64) (Image, error) {
	var i Image
	err := s.Change(ctx, now, actor, func(tx *Tx) (err error) {
		if i, err = one[Image](ctx, tx, imageQuery+`where name = $1 and version = $2 for update of i`, v.Name, v.N); err != nil {
			return err
		}
		if revision != AnyRevision && i.Revision != revision {
			return ErrStale
		}
		if i.State == Baking {
			return &fleet.Refusal{Text: fmt.Sprintf("the image %s is being made; wait until it is ready or broken", v)}
		}
		users, err := imageUsers(ctx, tx, v)
		if err != nil {
			return err
		}
		if by := users.Words(); len(by) > 0 {
			return &InUse{"the image " + v.String(), by}
		}
		if err := tx.dropMarks(ctx, "image", v); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from images where name = $1 and version = $2`, v.Name, v.N); err != nil {
			return err
		}
		return tx.Record(ctx, "", fleet.Entry{Kind: "image.deleted", Text: fmt.Sprintf("The image %s is deleted.", v), Cause: fleet.Because("a person asked for it")})
	})
	return i, err
}

// ImageUsers returns what uses a version now.
func (s *Store) ImageUsers(ctx context.Context, v fleet.Version) (Users, error) {
	return imageUsers(ctx, s.q, v)
}

func imageUsers(ctx context.Context, q querier, v fleet.Version) (Users, error) {
	var u Users
	err := q.QueryRow(ctx, `with t as (select name, version from templates where image = $1 and image_version = $2)
		select coalesce((select array_agg(name || '@' || version order by name, version) from t), '{}'),
		coalesce((select array_agg(g.name order by g.name) from groups g where not alone
			and ((g.template, g.template_version) in (select name, version from t) or exists (select 1 from rollouts r
				where r.group_name = g.name and r.ended_at is null and (r.to_name, r.to_version) in (select name, version from t)))), '{}'),
		coalesce((select array_agg(id order by id) from (select id from instances where living_template is not null and
			case when overrides->>'image' <> '' then overrides->>'image' = $3 else (living_template, template_version) in (select name, version from t) end
			union select name from groups where override_image = $1 and override_version = $2) x), '{}'),
		coalesce((select array_agg(name || '@' || version order by name, version) from images where parent = $1 and parent_version = $2), '{}')`,
		v.Name, v.N, v.String()).Scan(&u.Templates, &u.Groups, &u.Instances, &u.Children)
	return u, err
}

// ImageQuery narrows a list of images; zero fields do not narrow.
type ImageQuery struct {
	Name   string
	Text   string // in the name or the source
	Label  map[string]string
	Origin string
	State  string
	// Made after and before these times.
	After, Before time.Time
	Page          Page
}

// Images lists image versions by name and then newest first.
func (s *Store) Images(ctx context.Context, q ImageQuery) ([]Image, error) {
	after, version := versionCursor(q.Page.After)
	args := []any{q.Page.Limit}
	var where []string
	narrow := func(condition string, v ...any) {
		for _, one := range v {
			args = append(args, one)
			condition = strings.Replace(condition, "?", "$"+strconv.Itoa(len(args)), 1)
		}
		where = append(where, condition)
	}
	if after != "" {
		// The first condition is where the index is entered.
		narrow("name >= ? and (name > ? or version < ?)", after, after, version)
	}
	if q.Name != "" {
		narrow("name = ?", q.Name)
	}
	if q.Text != "" {
		text := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(q.Text) + "%"
		narrow("(name ilike ? or source ilike ?)", text, text)
	}
	if len(q.Label) > 0 {
		narrow("labels @> ?", q.Label)
	}
	if q.Origin != "" {
		narrow("origin = ?", q.Origin)
	}
	if q.State != "" {
		narrow("state = ?", q.State)
	}
	if !q.After.IsZero() {
		narrow("created_at > ?", q.After)
	}
	if !q.Before.IsZero() {
		narrow("created_at < ?", q.Before)
	}
	condition := ""
	if len(where) > 0 {
		condition = "where " + strings.Join(where, " and ")
	}
	return many[Image](ctx, s.q, imageQuery+condition+` order by name, version desc limit $1`, args...)
}

func versionCursor(c Cursor) (name string, version int) {
	if len(c) != 2 {
		return "", 0
	}
	version, _ = strconv.Atoi(c[1])
	return c[0], version
}

// Image reads one version.
func (s Reader) Image(ctx context.Context, v fleet.Version) (Image, error) {
	return one[Image](ctx, s.q, imageQuery+`where name = $1 and version = $2`, v.Name, v.N)
}

// ImagesIn returns the digests of all versions that a region has, by reference.
func (s *Store) ImagesIn(ctx context.Context, region string) (map[string]string, error) {
	rows, err := s.q.Query(ctx, `select name || '@' || version, digest from images where places ? $1 and digest <> ''`, region)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[string]string{}
	for rows.Next() {
		var ref, digest string
		if err := rows.Scan(&ref, &digest); err != nil {
			return nil, err
		}
		all[ref] = digest
	}
	return all, rows.Err()
}

// BakingOf returns what a replica was making.
func (s *Store) BakingOf(ctx context.Context, replica string) ([]Image, error) {
	return many[Image](ctx, s.q, imageQuery+`where state = 'baking' and replica = $1 order by name, version`, replica)
}

// Lineage returns the ancestors of a version, its nearest first, and all that
// was made from the oldest of them that is still there.
func (s *Store) Lineage(ctx context.Context, v fleet.Version) ([]Image, error) {
	return many[Image](ctx, s.q, `with recursive up as (
			select name, version, parent, parent_version, 0 as depth from images where name = $1 and version = $2
			union select i.name, i.version, i.parent, i.parent_version, up.depth + 1 from images i join up on i.name = up.parent and i.version = up.parent_version
			where up.depth < 100),
		top as (select name, version from up order by depth desc limit 1),
		down as (
			select name, version, 0 as depth from top
			union select i.name, i.version, down.depth + 1 from images i join down on i.parent = down.name and i.parent_version = down.version
			where down.depth < 100)
		`+imageQuery+`where (name, version) in (select name, version from down) order by created_at, name, version limit 500`, v.Name, v.N)
}
