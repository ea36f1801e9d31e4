package api

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/catalogue"
	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/image"
	"unitas/internal/store"
)

// ListPlaces tells the regions and zones, with what runs there.
func (s *Server) ListPlaces(ctx context.Context, _ routes.ListPlacesRequestObject) (routes.ListPlacesResponseObject, error) {
	counts, err := s.Store.CountPlaces(ctx)
	if err != nil {
		return nil, err
	}
	out := routes.ListPlaces200JSONResponse{Items: []contract.RegionPlace{}}
	for i, r := range s.Places {
		place := contract.RegionPlace{Name: r.Name, Home: i == 0, Images: counts.Images[r.Name], ImageBytes: counts.Bytes[r.Name]}
		for _, z := range r.Zones {
			place.Zones = append(place.Zones, contract.ZonePlace{Name: z, Instances: counts.Instances[z], Serving: counts.Serving[z]})
		}
		out.Items = append(out.Items, place)
	}
	return out, nil
}

// labelsOf reads NAME=VALUE; the contract has checked the form.
func labelsOf(pairs *[]string) map[string]string {
	labels := map[string]string{}
	for _, p := range some(pairs, nil) {
		name, value, _ := strings.Cut(p, "=")
		labels[name] = value
	}
	return labels
}

// ListImages lists image versions.
func (s *Server) ListImages(ctx context.Context, r routes.ListImagesRequestObject) (routes.ListImagesResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	q := store.ImageQuery{Name: some(r.Params.Name, ""), Text: some(r.Params.Text, ""), Label: labelsOf(r.Params.Label),
		Origin: string(some(r.Params.Origin, "")), State: string(some(r.Params.State, "")), Page: p}
	if age := r.Params.NewerThanSeconds; age != nil {
		q.After = time.Now().Add(-durationOf(age, 0))
	}
	if age := r.Params.OlderThanSeconds; age != nil {
		q.Before = time.Now().Add(-durationOf(age, 0))
	}
	items, err := s.Store.Images(ctx, q)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(i store.Image) store.Cursor { return versionKey(i.Name, i.Version) })
	return routes.ListImages200JSONResponse{Items: each(items, fromImage), Next: next}, nil
}

func fromImage(i store.Image) contract.Image {
	out := contract.Image{Name: i.Name, Version: i.Version, State: contract.ImageState(i.State), Digest: i.Digest, SizeBytes: i.SizeBytes,
		Start: i.Start, Origin: contract.ImageOrigin(i.Origin), Source: i.Source, Labels: notNil(i.Labels), Places: []contract.ImagePlace{}, Marks: i.Marks,
		Recipe: text(i.Recipe), Step: i.Step, Why: i.Why, Successor: text(i.Successor), Revision: i.Revision, CreatedAt: i.CreatedAt.UTC(), CreatedBy: i.CreatedBy}
	if i.Parent != "" {
		out.Parent = text(i.ParentRef().String())
	}
	for _, region := range slices.Sorted(maps.Keys(i.Places)) {
		p := i.Places[region]
		out.Places = append(out.Places, contract.ImagePlace{Region: region, Since: p.Since.UTC(), CopiedFrom: text(p.From)})
	}
	return out
}

func fromUsers(u store.Users) *contract.Users {
	return &contract.Users{Groups: u.Groups, Templates: u.Templates, Instances: u.Instances, Children: u.Children}
}

// image reads the version of a path.
func (s *Server) image(ctx context.Context, name, version string) (store.Image, error) {
	v, err := s.resolve(ctx, "image", "", name+"@"+version)
	if err != nil {
		return store.Image{}, err
	}
	i, err := s.Store.Image(ctx, v)
	return i, about("image", v.String(), err)
}

// whole is a version with its users and copies.
func (s *Server) whole(ctx context.Context, v fleet.Version) (contract.Image, error) {
	// The copies first: one that is done by then is among the places.
	copies, err := s.Store.Copies(ctx, v, "")
	if err != nil {
		return contract.Image{}, err
	}
	i, err := s.Store.Image(ctx, v)
	if err != nil {
		return contract.Image{}, about("image", v.String(), err)
	}
	users, err := s.Store.ImageUsers(ctx, v)
	if err != nil {
		return contract.Image{}, err
	}
	out := fromImage(i)
	out.Users = fromUsers(users)
	all := each(copies, func(c store.Copy) contract.Copy {
		ended := time.Time{}
		if c.EndedAt != nil {
			ended = c.EndedAt.UTC()
		}
		return contract.Copy{Region: c.Region, From: c.FromRegion, State: contract.CopyState(c.State), DoneBytes: c.DoneBytes, TotalBytes: c.TotalBytes,
			Why: c.Why, StartedAt: c.BeganAt.UTC(), StartedBy: c.Actor, EndedAt: optional(ended)}
	})
	out.Copies = &all
	return out, nil
}

// GetImage reads one version.
func (s *Server) GetImage(ctx context.Context, r routes.GetImageRequestObject) (routes.GetImageResponseObject, error) {
	i, err := s.image(ctx, r.Name, r.Version)
	if err != nil {
		return nil, err
	}
	out, err := s.whole(ctx, i.Ref())
	return routes.GetImage200JSONResponse{Body: out, Headers: routes.GetImage200ResponseHeaders{ETag: etag(i.Revision)}}, err
}

// ImportImage stores an archive or layout and records it as the next version.
func (s *Server) ImportImage(ctx context.Context, r routes.ImportImageRequestObject) (routes.ImportImageResponseObject, error) {
	i, err := s.Catalogue.Import(ctx, catalogue.Upload{Name: r.Params.Name, Region: some(r.Params.Region, ""), Source: some(r.Params.Source, ""),
		Actor: actor(ctx), Labels: labelsOf(r.Params.Label), SHA256: sha256Of(r.Params.ContentDigest)}, r.Body)
	if err != nil {
		return nil, about("image", r.Params.Name, err)
	}
	return routes.ImportImage201JSONResponse(fromImage(i)), nil
}

// sha256Of reads a Content-Digest; the contract has checked its form.
func sha256Of(header *string) []byte {
	if header == nil {
		return nil
	}
	encoded := strings.TrimSuffix(strings.TrimPrefix(*header, "sha-256=:"), ":")
	sum, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil {
		return []byte{} // matches nothing
	}
	return sum
}

// FetchImage brings in an image from a registry.
func (s *Server) FetchImage(ctx context.Context, r routes.FetchImageRequestObject) (routes.FetchImageResponseObject, error) {
	i, err := s.Catalogue.Fetch(ctx, catalogue.Upload{Name: r.Body.Name, Region: some(r.Body.Region, ""), Actor: actor(ctx), Labels: some(r.Body.Labels, nil)},
		r.Body.Reference, image.Credentials{User: some(r.Body.User, ""), Password: some(r.Body.Password, "")})
	if err != nil {
		return nil, about("image", r.Body.Name, err)
	}
	return routes.FetchImage201JSONResponse(fromImage(i)), nil
}

// BakeImage begins to bake.
func (s *Server) BakeImage(ctx context.Context, r routes.BakeImageRequestObject) (routes.BakeImageResponseObject, error) {
	i, err := s.Catalogue.Bake(ctx, catalogue.Upload{Name: r.Params.Name, Region: some(r.Params.Region, ""), Source: some(r.Params.Source, ""), Actor: actor(ctx)},
		r.Body, func(ref string) (store.Image, error) {
			v, err := s.resolve(ctx, "image", "recipe", ref)
			if err != nil {
				return store.Image{}, err
			}
			return s.Store.Image(ctx, v)
		})
	if err != nil {
		return nil, about("image", r.Params.Name, err)
	}
	return routes.BakeImage202JSONResponse(fromImage(i)), nil
}

// ImageFromInstance begins to make a version from an instance's files.
func (s *Server) ImageFromInstance(ctx context.Context, r routes.ImageFromInstanceRequestObject) (routes.ImageFromInstanceResponseObject, error) {
	in, parent, err := s.instanceAndImage(ctx, r.Body.Instance)
	if err != nil {
		return nil, err
	}
	if in.State != fleet.Serving && in.State != fleet.Settling {
		return nil, invalid("/instance", "%s is %s; only an instance whose machine runs has files to take", in.ID, in.State)
	}
	if given(r.Body.StopFirst) {
		if answer, err := s.restElsewhere(ctx, in.Group, r.Body); answer != nil || err != nil {
			return answer, err
		}
	}
	who := actor(ctx)
	around := func(_ context.Context, take func() error) error { return take() }
	if given(r.Body.StopFirst) {
		if in.State != fleet.Serving {
			return nil, invalid("/at_rest", "%s is %s; only an instance that serves can be put to rest", in.ID, in.State)
		}
		around = func(ctx context.Context, take func() error) error {
			return s.Control.AtRest(ctx, who, in.ID, in.Group, take)
		}
	}
	i, err := s.Catalogue.FromInstance(ctx, catalogue.Upload{Name: some(r.Body.Name, parent.Name), Actor: who}, in, parent, around)
	if err != nil {
		return nil, about("image", parent.Name, err)
	}
	return routes.ImageFromInstance202JSONResponse(fromImage(i)), nil
}

// instanceAndImage reads a living instance and the image it was launched from.
func (s *Server) instanceAndImage(ctx context.Context, id string) (store.Instance, store.Image, error) {
	in, err := s.Store.Instance(ctx, id)
	if errors.Is(err, store.ErrNotFound) || (err == nil && in.State == fleet.Gone) {
		return in, store.Image{}, invalid("/instance", "there is no instance %s; unitas instance list shows those there are", id)
	}
	if err != nil {
		return in, store.Image{}, err
	}
	v := fleet.Version{}
	if in.Overrides.Image != "" {
		v, err = s.resolve(ctx, "image", "instance", in.Overrides.Image)
	} else {
		var t store.Template
		t, err = s.Store.Template(ctx, in.Version)
		v = t.ImageRef()
	}
	if err != nil {
		return in, store.Image{}, err
	}
	i, err := s.Store.Image(ctx, v)
	return in, i, about("image", v.String(), err)
}

// WithdrawImage stops new use of a version.
func (s *Server) WithdrawImage(ctx context.Context, r routes.WithdrawImageRequestObject) (routes.WithdrawImageResponseObject, error) {
	v, successor, revision, err := s.withdrawal(ctx, "image", r.Name, r.Version, r.Params.IfMatch, r.Body)
	if err != nil {
		return nil, err
	}
	if _, err := s.Store.WithdrawImage(ctx, s.now(), actor(ctx), v, revision, r.Body.Reason, successor); err != nil {
		return nil, about("image", v.String(), err)
	}
	out, err := s.whole(ctx, v)
	return routes.WithdrawImage200JSONResponse(out), err
}

// DeleteImage removes a version that nothing uses.
func (s *Server) DeleteImage(ctx context.Context, r routes.DeleteImageRequestObject) (routes.DeleteImageResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	v, err := s.resolve(ctx, "image", "", r.Name+"@"+r.Version)
	if err != nil {
		return nil, err
	}
	if err := s.Catalogue.Delete(ctx, actor(ctx), v, revision); err != nil {
		return nil, about("image", v.String(), err)
	}
	return routes.DeleteImage204Response{}, nil
}

// ExportImage streams a version as an OCI layout.
func (s *Server) ExportImage(ctx context.Context, r routes.ExportImageRequestObject) (routes.ExportImageResponseObject, error) {
	i, err := s.image(ctx, r.Name, r.Version)
	if err != nil {
		return nil, err
	}
	if i.Digest == "" || len(i.Places) == 0 {
		return nil, &problem{status: http.StatusConflict, kind: "conflict", detail: fmt.Sprintf("The image %s is %s; there is nothing to export.", i.Ref(), i.State)}
	}
	pr, pw := io.Pipe()
	caught.Go("an export", func() {
		err := io.ErrUnexpectedEOF
		defer func() { pw.CloseWithError(err) }()
		err = s.Catalogue.Export(ctx, i, pw)
	})
	return routes.ExportImage200ApplicationxTarResponse{Body: pr}, nil
}

// bakeLog streams a log; followed, until the version is made.
type bakeLog struct {
	ctx  context.Context
	file *os.File
	more func() bool // whether the version is still being made
}

func (b bakeLog) VisitGetBakeLogResponse(w http.ResponseWriter) error {
	defer b.file.Close()
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(http.StatusOK)
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		more := b.more() // asked first, so that what is written last is read
		if _, err := io.Copy(w, b.file); err != nil {
			return err
		}
		if err := http.NewResponseController(w).Flush(); err != nil || !more {
			return err
		}
		select {
		case <-b.ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// GetBakeLog reads how a version was made.
func (s *Server) GetBakeLog(ctx context.Context, r routes.GetBakeLogRequestObject) (routes.GetBakeLogResponseObject, error) {
	i, err := s.image(ctx, r.Name, r.Version)
	if err != nil {
		return nil, err
	}
	f, err := s.Catalogue.BakeLog(i.Ref())
	if errors.Is(err, os.ErrNotExist) {
		return nil, &problem{status: http.StatusNotFound, kind: "not-found", detail: fmt.Sprintf("The image %s was not made by this service (it is %s), so there is no log.", i.Ref(), i.Origin)}
	}
	if err != nil {
		return nil, err
	}
	more := func() bool {
		now, err := s.Store.Image(ctx, i.Ref())
		return err == nil && now.State == store.Baking
	}
	if !given(r.Params.Follow) {
		more = func() bool { return false }
	}
	return bakeLog{ctx, f, more}, nil
}

// GetImageLineage tells where a version comes from and what came of it.
func (s *Server) GetImageLineage(ctx context.Context, r routes.GetImageLineageRequestObject) (routes.GetImageLineageResponseObject, error) {
	i, err := s.image(ctx, r.Name, r.Version)
	if err != nil {
		return nil, err
	}
	all, err := s.Store.Lineage(ctx, i.Ref())
	return routes.GetImageLineage200JSONResponse{Items: each(all, fromImage)}, err
}

// CopyImage begins to bring a version to a region.
func (s *Server) CopyImage(ctx context.Context, r routes.CopyImageRequestObject) (routes.CopyImageResponseObject, error) {
	i, err := s.image(ctx, r.Name, r.Version)
	if err != nil {
		return nil, err
	}
	if _, ok := s.Places.Region(r.Body.To); !ok {
		return nil, invalid("/to", "there is no region %q; there are %s", r.Body.To, s.Places.Names())
	}
	if err := s.Catalogue.StartCopy(ctx, actor(ctx), i, r.Body.To); err != nil {
		return nil, about("image", i.Ref().String(), err)
	}
	out, err := s.whole(ctx, i.Ref())
	return routes.CopyImage202JSONResponse(out), err
}

// StopCopy breaks a copy off.
func (s *Server) StopCopy(ctx context.Context, r routes.StopCopyRequestObject) (routes.StopCopyResponseObject, error) {
	i, err := s.image(ctx, r.Name, r.Version)
	if err != nil {
		return nil, err
	}
	if err := s.Catalogue.StopCopy(i.Ref(), r.Region); err != nil {
		return nil, about("image", i.Ref().String(), err)
	}
	out, err := s.whole(ctx, i.Ref())
	return routes.StopCopy202JSONResponse(out), err
}
