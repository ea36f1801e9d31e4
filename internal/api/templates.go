package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet"
	"unitas/internal/fleet/template"
	"unitas/internal/machine"
	"unitas/internal/store"
	"unitas/internal/userdata"
)

// ListTemplates lists template versions.
func (s *Server) ListTemplates(ctx context.Context, r routes.ListTemplatesRequestObject) (routes.ListTemplatesResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Templates(ctx, some(r.Params.Name, ""), p)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(t store.Template) store.Cursor { return versionKey(t.Name, t.Version) })
	return routes.ListTemplates200JSONResponse{Items: each(items, fromTemplate), Next: next}, nil
}

func fromTemplate(t store.Template) contract.Template {
	out := contract.Template{Name: t.Name, Version: t.Version, Image: t.ImageRef().String(), ImageDigest: t.ImageDigest, Port: t.Port, Cpus: t.CPUs,
		MemoryBytes: t.MemoryBytes, DiskBytes: t.DiskBytes, Processes: t.Processes, Addresses: t.Addresses, PricePerHour: t.PricePerHour, ZonePrices: notNil(t.ZonePrices), Interruptible: t.Interruptible,
		UserData: t.UserData, Environment: notNil(t.Environment), Labels: notNil(t.Labels), Note: t.Note, State: contract.TemplateState(t.State), Why: t.Why,
		Successor: text(t.Successor), Marks: t.Marks, Revision: t.Revision, CreatedAt: t.CreatedAt.UTC(), CreatedBy: t.CreatedBy,
		Ports: each(t.Ports, func(p template.Port) contract.OpenPort {
			protocol := contract.OpenPortProtocol(p.Protocol)
			return contract.OpenPort{Port: p.Port, Protocol: &protocol, Sources: &p.Sources}
		})}
	if t.RevisedFrom > 0 {
		out.RevisedFrom = &t.RevisedFrom
	}
	return out
}

func toPorts(ports *contract.OpenPorts, otherwise []template.Port) []template.Port {
	if ports == nil {
		return otherwise
	}
	return each(*ports, func(p contract.OpenPort) template.Port {
		return template.Port{Port: p.Port, Protocol: string(given(p.Protocol)), Sources: some(p.Sources, nil)}
	})
}

// CreateTemplate makes version 1.
func (s *Server) CreateTemplate(ctx context.Context, r routes.CreateTemplateRequestObject) (routes.CreateTemplateResponseObject, error) {
	b := r.Body
	out, err := s.makeTemplate(ctx, newTemplate(*b), b.Image, nil)
	if errors.Is(err, store.ErrExists) {
		return nil, templateExists(b.Name)
	}
	switch {
	case err != nil:
		return nil, err
	case given(r.Params.DryRun):
		return routes.CreateTemplate200JSONResponse(out), nil
	}
	return routes.CreateTemplate201JSONResponse(out), nil
}

// newTemplate is what a new template says, with the usual for what it does not.
func newTemplate(b contract.NewTemplate) store.Template {
	return store.Template{Name: b.Name, Note: some(b.Note, ""), Spec: template.Spec{
		Port: given(b.Port), CPUs: given(b.Cpus), MemoryBytes: given(b.MemoryBytes),
		DiskBytes: given(b.DiskBytes), Processes: given(b.Processes), Addresses: given(b.Addresses), Ports: toPorts(b.Ports, nil),
		PricePerHour: given(b.PricePerHour), ZonePrices: some(b.ZonePrices, nil), Interruptible: given(b.Interruptible), UserData: some(b.UserData, ""),
		Environment: some(b.Environment, map[string]string{}), Labels: some(b.Labels, map[string]string{})}}
}

func templateExists(name string) error {
	return &problem{status: 409, kind: "exists",
		detail: fmt.Sprintf("There is a template %s already; make its next version with: unitas template revise %s", name, name)}
}

// ReviseTemplate makes the next version from an earlier one.
func (s *Server) ReviseTemplate(ctx context.Context, r routes.ReviseTemplateRequestObject) (routes.ReviseTemplateResponseObject, error) {
	b := r.Body
	from := fleet.Version{Name: r.Name, N: some(b.From, 0)}
	was, err := s.Store.Template(ctx, from)
	if err != nil {
		if from.N > 0 && errors.Is(err, store.ErrNotFound) {
			return nil, invalid("/from", "there is no template %s", from)
		}
		return nil, about("template", r.Name, err)
	}
	t := was
	t.RevisedFrom, t.Note = was.Version, b.Note
	t.Port = some(b.Port, t.Port)
	t.CPUs = some(b.Cpus, t.CPUs)
	t.MemoryBytes = some(b.MemoryBytes, t.MemoryBytes)
	t.DiskBytes = some(b.DiskBytes, t.DiskBytes)
	t.Processes = some(b.Processes, t.Processes)
	t.Addresses = some(b.Addresses, t.Addresses)
	t.Ports = toPorts(b.Ports, t.Ports)
	t.PricePerHour = some(b.PricePerHour, t.PricePerHour)
	t.ZonePrices = some(b.ZonePrices, t.ZonePrices)
	t.Interruptible = some(b.Interruptible, t.Interruptible)
	t.UserData = some(b.UserData, t.UserData)
	t.Environment = some(b.Environment, t.Environment)
	t.Labels = some(b.Labels, t.Labels)
	out, err := s.makeTemplate(ctx, t, some(b.Image, was.ImageRef().String()), &was)
	switch {
	case err != nil:
		return nil, about("template", r.Name, err)
	case given(r.Params.DryRun):
		return routes.ReviseTemplate200JSONResponse(out), nil
	}
	return routes.ReviseTemplate201JSONResponse(out), nil
}

// makeTemplate checks a version, says what is different and what will hurt,
// and records it.
func (s *Server) makeTemplate(ctx context.Context, t store.Template, imageRef string, was *store.Template) (contract.Template, error) {
	t, i, faults, err := s.completeTemplate(ctx, t, imageRef)
	if err != nil {
		return contract.Template{}, err
	}
	if len(faults) > 0 {
		return contract.Template{}, invalidFields(faults)
	}
	changes := []template.Change{}
	if was != nil {
		changes = template.Diff(was.Spec, t.Spec)
	}
	advice, err := s.adviseTemplate(ctx, t, i)
	if err != nil {
		return contract.Template{}, err
	}
	if t, err = s.Store.AddTemplate(ctx, s.now(), actor(ctx), t, was != nil); err != nil {
		return contract.Template{}, err
	}
	out := fromTemplate(t)
	told := each(advice, func(a template.Advice) contract.Advice { return contract.Advice{Field: a.Field, Text: a.Text} })
	out.Advice = &told
	if was != nil {
		different := fromChanges(changes)
		out.Changes = &different
	}
	return out, nil
}

// completeTemplate gives a version its image and what follows from that, and tells
// what is wrong with it.
func (s *Server) completeTemplate(ctx context.Context, t store.Template, imageRef string) (store.Template, store.Image, []fieldFault, error) {
	i, faults, err := s.usableImage(ctx, "/image", imageRef)
	if err != nil {
		return t, i, nil, err
	}
	t.Image, t.ImageVersion, t.ImageDigest = i.Name, i.Version, i.Digest
	t.Complete()
	for _, f := range t.Validate() {
		faults = append(faults, fieldFault{"/" + f.Field, f.Text})
	}
	if _, err := userdata.Parse(t.UserData); err != nil {
		faults = append(faults, fieldFault{"/user_data", err.Error()})
	}
	return t, i, faults, nil
}

func fromChanges(changes []template.Change) []contract.Change {
	return each(changes, func(c template.Change) contract.Change {
		return contract.Change{Field: c.Field, Was: c.Was, Now: c.Now}
	})
}

// usableImage finds an image for new use; what is wrong with it is a fault of
// the field.
func (s *Server) usableImage(ctx context.Context, field, ref string) (store.Image, []fieldFault, error) {
	var p *problem
	v, err := s.resolve(ctx, "image", strings.TrimPrefix(field, "/"), ref)
	if errors.As(err, &p) && len(p.fields) > 0 {
		return store.Image{}, p.fields, nil
	}
	if err != nil {
		return store.Image{}, nil, err
	}
	i, err := s.Store.Image(ctx, v)
	if errors.Is(err, store.ErrNotFound) {
		return i, []fieldFault{{field, fmt.Sprintf("there is no image %s; unitas image list shows those there are", v)}}, nil
	}
	if err != nil {
		return i, nil, err
	}
	if err := i.Usable(); err != nil {
		return i, []fieldFault{{field, err.Error()}}, nil
	}
	return i, nil, nil
}

// adviseTemplate looks at what the version would be used among.
func (s *Server) adviseTemplate(ctx context.Context, t store.Template, i store.Image) ([]template.Advice, error) {
	w := template.Around{HaveImage: slices.Sorted(maps.Keys(i.Places))}
	groups, err := s.Store.GroupsOfTemplate(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	asked := map[string]bool{}
	for _, g := range groups {
		regions := map[string]bool{}
		for _, z := range g.Zones {
			if r, ok := s.Places.Of(z); ok {
				regions[r.Name] = true
			}
		}
		w.Groups = append(w.Groups, template.Group{Name: g.Name, Regions: slices.Sorted(maps.Keys(regions))})
		for _, name := range g.AllChecks() {
			if asked[name] {
				continue
			}
			asked[name] = true
			c, err := s.Store.Check(ctx, name)
			if err != nil {
				return nil, err
			}
			w.Checks = append(w.Checks, template.Check{Name: name, Port: c.Port})
		}
	}
	ids, err := s.Store.InstancesOfTemplate(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	gauger, can := s.Machines.(machine.Gauger)
	for _, id := range ids {
		if !can {
			break
		}
		if used, known := gauger.Memory(id); known && used > w.Used {
			w.Used, w.Instance = used, id
		}
	}
	return t.Advise(w), nil
}

// TemplateFromInstance makes a template that launches the like of an instance.
func (s *Server) TemplateFromInstance(ctx context.Context, r routes.TemplateFromInstanceRequestObject) (routes.TemplateFromInstanceResponseObject, error) {
	in, i, err := s.instanceAndImage(ctx, r.Body.Instance)
	if err != nil {
		return nil, err
	}
	t, err := s.Store.Template(ctx, in.Version)
	if err != nil {
		return nil, about("template", in.Version.String(), err)
	}
	if o := in.Overrides; o.UserData != nil {
		t.UserData = *o.UserData
	}
	t.Labels = notNil(maps.Clone(t.Labels))
	maps.Copy(t.Labels, in.Overrides.Labels)
	t.Note = some(r.Body.Note, fmt.Sprintf("what %s was launched with", in.ID))
	var was *store.Template
	if latest, err := s.Store.Template(ctx, fleet.Version{Name: r.Body.Name}); err == nil {
		was = &latest
		t.RevisedFrom = latest.Version
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	} else {
		t.RevisedFrom = 0
	}
	t.Name = r.Body.Name
	out, err := s.makeTemplate(ctx, t, i.Ref().String(), was)
	return routes.TemplateFromInstance201JSONResponse(out), err
}

func (s *Server) template(ctx context.Context, name, version string) (store.Template, error) {
	v, err := s.resolve(ctx, "template", "", name+"@"+version)
	if err != nil {
		return store.Template{}, err
	}
	t, err := s.Store.Template(ctx, v)
	return t, about("template", v.String(), err)
}

// GetTemplate reads one version.
func (s *Server) GetTemplate(ctx context.Context, r routes.GetTemplateRequestObject) (routes.GetTemplateResponseObject, error) {
	t, err := s.template(ctx, r.Name, r.Version)
	if err != nil {
		return nil, err
	}
	users, err := s.Store.TemplateUsers(ctx, t.Ref())
	if err != nil {
		return nil, err
	}
	out := fromTemplate(t)
	out.Users = fromUsers(users)
	return routes.GetTemplate200JSONResponse{Body: out, Headers: routes.GetTemplate200ResponseHeaders{ETag: etag(t.Revision)}}, nil
}

// WithdrawTemplate stops new use of a version.
func (s *Server) WithdrawTemplate(ctx context.Context, r routes.WithdrawTemplateRequestObject) (routes.WithdrawTemplateResponseObject, error) {
	v, successor, revision, err := s.withdrawal(ctx, "template", r.Name, r.Version, r.Params.IfMatch, r.Body)
	if err != nil {
		return nil, err
	}
	t, err := s.Store.WithdrawTemplate(ctx, s.now(), actor(ctx), v, revision, r.Body.Reason, successor)
	return routes.WithdrawTemplate200JSONResponse(fromTemplate(t)), about("template", v.String(), err)
}

// DeleteTemplate removes a version that nothing uses.
func (s *Server) DeleteTemplate(ctx context.Context, r routes.DeleteTemplateRequestObject) (routes.DeleteTemplateResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	v, err := s.resolve(ctx, "template", "", r.Name+"@"+r.Version)
	if err != nil {
		return nil, err
	}
	if err := s.Store.DeleteTemplate(ctx, s.now(), actor(ctx), v, revision); err != nil {
		return nil, about("template", v.String(), err)
	}
	return routes.DeleteTemplate204Response{}, nil
}

// DiffTemplates tells what is different in another version.
func (s *Server) DiffTemplates(ctx context.Context, r routes.DiffTemplatesRequestObject) (routes.DiffTemplatesResponseObject, error) {
	a, err := s.template(ctx, r.Name, r.Version)
	if err != nil {
		return nil, err
	}
	name, version, _ := strings.Cut(r.Params.To, "@")
	b, err := s.template(ctx, name, version)
	if err != nil {
		return nil, err
	}
	return routes.DiffTemplates200JSONResponse{From: a.Ref().String(), To: b.Ref().String(),
		Changes: fromChanges(template.Diff(a.Spec, b.Spec)), UserData: lineDiff(a.UserData, b.UserData)}, nil
}

// lineDiff lists all lines of both texts, none when they are the same.
func lineDiff(a, b string) []contract.LineChange {
	out := []contract.LineChange{}
	if a == b {
		return out
	}
	if a != "" && !strings.HasSuffix(a, "\n") {
		a += "\n"
	}
	if b != "" && !strings.HasSuffix(b, "\n") {
		b += "\n"
	}
	was, now := 0, 0
	add := func(kind contract.LineChangeKind, line string) {
		c := contract.LineChange{Kind: kind, Text: strings.TrimSuffix(line, "\n")}
		if kind != contract.LineChangeKindNew {
			was++
			n := was
			c.Was = &n
		}
		if kind != contract.LineChangeKindGone {
			now++
			n := now
			c.Now = &n
		}
		out = append(out, c)
	}
	lines := func(kind contract.LineChangeKind, text string) {
		for line := range strings.SplitAfterSeq(text, "\n") {
			if line != "" {
				add(kind, line)
			}
		}
	}
	at := 0
	for _, e := range udiff.Lines(a, b) {
		lines(contract.LineChangeKindSame, a[at:e.Start])
		lines(contract.LineChangeKindGone, a[e.Start:e.End])
		lines(contract.LineChangeKindNew, e.New)
		at = e.End
	}
	lines(contract.LineChangeKindSame, a[at:])
	return out
}

// launchable says why a template cannot be launched anew in the zones, or "".
func (s *Server) launchable(ctx context.Context, r store.Reader, v fleet.Version, zones []string) (why string, err error) {
	t, err := r.Template(ctx, v)
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Sprintf("there is no template %s; unitas template list shows those there are", v), nil
	}
	if err != nil {
		return "", err
	}
	if err := t.Usable(); err != nil {
		return err.Error(), nil
	}
	return s.absent(t.ImageRef(), t.ImagePlaces, zones), nil
}

// absent says which region of the zones lacks an image, and what mends it.
func (s *Server) absent(v fleet.Version, places map[string]store.Place, zones []string) string {
	missing := s.Catalogue.MissingIn(places, zones)
	if len(missing) == 0 {
		return ""
	}
	return fmt.Sprintf("the image %s is not in %s; copy it first with: unitas image copy %s --to %s", v, strings.Join(missing, " nor in "), v, missing[0])
}
