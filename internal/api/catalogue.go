package api

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"unitas/internal/api/contract"
	"unitas/internal/fleet"
	"unitas/internal/fleet/health"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// GetService says what this service is.
func (s *Server) GetService(context.Context, contract.GetServiceRequestObject) (contract.GetServiceResponseObject, error) {
	return contract.GetService200JSONResponse{Version: s.Version, Zones: s.Zones, Now: time.Now().UTC()}, nil
}

// ListImages lists image versions.
func (s *Server) ListImages(ctx context.Context, r contract.ListImagesRequestObject) (contract.ListImagesResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Images(ctx, some(r.Params.Name, ""), p)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(i store.Image) store.Cursor { return versionKey(i.Name, i.Version) })
	return contract.ListImages200JSONResponse{Items: each(items, fromImage), Next: next}, nil
}

// ImportImage stores an archive and records it as the next version.
func (s *Server) ImportImage(ctx context.Context, r contract.ImportImageRequestObject) (contract.ImportImageResponseObject, error) {
	a, err := s.Images.Put(ctx, r.Body)
	if err != nil {
		return nil, about("image", r.Params.Name, err)
	}
	i, err := s.Store.AddImage(ctx, time.Now().UTC(), actor(ctx), store.Image{
		Name: r.Params.Name, State: "ready", Digest: a.Digest, SizeBytes: a.Size, Start: a.Manifest.Start,
	})
	if err != nil {
		return nil, err
	}
	return contract.ImportImage201JSONResponse(fromImage(i)), nil
}

// GetImage reads one version.
func (s *Server) GetImage(ctx context.Context, r contract.GetImageRequestObject) (contract.GetImageResponseObject, error) {
	v := fleet.Version{Name: r.Name, N: r.Version}
	i, err := s.Store.Image(ctx, v)
	if err != nil {
		return nil, about("image", v.String(), err)
	}
	return contract.GetImage200JSONResponse{Body: fromImage(i), Headers: contract.GetImage200ResponseHeaders{ETag: etag(1)}}, nil
}

// ListTemplates lists template versions.
func (s *Server) ListTemplates(ctx context.Context, r contract.ListTemplatesRequestObject) (contract.ListTemplatesResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Templates(ctx, some(r.Params.Name, ""), p)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(t store.Template) store.Cursor { return versionKey(t.Name, t.Version) })
	return contract.ListTemplates200JSONResponse{Items: each(items, fromTemplate), Next: next}, nil
}

// CreateTemplate makes version 1.
func (s *Server) CreateTemplate(ctx context.Context, r contract.CreateTemplateRequestObject) (contract.CreateTemplateResponseObject, error) {
	image := parseRef(r.Body.Image)
	t, err := s.addTemplate(ctx, store.Template{
		Name: r.Body.Name, Image: image.Name, ImageVersion: image.N, Port: some(r.Body.Port, 8080), UserData: some(r.Body.UserData, ""),
		Environment: some(r.Body.Environment, map[string]string{}), Labels: some(r.Body.Labels, map[string]string{}), Note: some(r.Body.Note, ""),
	}, false)
	if errors.Is(err, store.ErrExists) {
		return nil, &problem{status: 409, kind: "exists",
			detail: fmt.Sprintf("There is a template %s already; make its next version with: unitas template revise %s", r.Body.Name, r.Body.Name)}
	}
	if err != nil {
		return nil, err
	}
	return contract.CreateTemplate201JSONResponse(fromTemplate(t)), nil
}

// ReviseTemplate makes the next version from the latest.
func (s *Server) ReviseTemplate(ctx context.Context, r contract.ReviseTemplateRequestObject) (contract.ReviseTemplateResponseObject, error) {
	t, err := s.Store.Template(ctx, fleet.Version{Name: r.Name})
	if err != nil {
		return nil, about("template", r.Name, err)
	}
	if r.Body.Image != nil {
		v := parseRef(*r.Body.Image)
		t.Image, t.ImageVersion = v.Name, v.N
	}
	t.Port = some(r.Body.Port, t.Port)
	t.UserData = some(r.Body.UserData, t.UserData)
	t.Environment = some(r.Body.Environment, t.Environment)
	t.Labels = some(r.Body.Labels, t.Labels)
	t.Note = r.Body.Note
	if t, err = s.addTemplate(ctx, t, true); err != nil {
		return nil, err
	}
	return contract.ReviseTemplate201JSONResponse(fromTemplate(t)), nil
}

func (s *Server) addTemplate(ctx context.Context, t store.Template, revise bool) (store.Template, error) {
	i, err := s.Store.Image(ctx, t.ImageRef())
	if errors.Is(err, store.ErrNotFound) {
		return t, invalid("/image", "there is no image %s; unitas image list shows those there are", t.ImageRef())
	}
	if err != nil {
		return t, err
	}
	if i.State != "ready" {
		return t, invalid("/image", "the image %s is %s; only a ready one can be launched", t.ImageRef(), i.State)
	}
	for name := range t.Environment {
		if !variableName(name) {
			return t, invalid("/environment/"+name, "%q is not the name of a variable: letters, digits and _, not beginning with a digit, and not UNITAS_…", name)
		}
	}
	return s.Store.AddTemplate(ctx, time.Now().UTC(), actor(ctx), t, revise)
}

func variableName(name string) bool {
	for i, r := range name {
		letter := r == '_' || (r >= 'A' && r <= 'Z') || (r >= 'a' && r <= 'z')
		if !letter && (i == 0 || r < '0' || r > '9') {
			return false
		}
	}
	return name != "" && (len(name) < 7 || name[:7] != "UNITAS_")
}

// GetTemplate reads one version.
func (s *Server) GetTemplate(ctx context.Context, r contract.GetTemplateRequestObject) (contract.GetTemplateResponseObject, error) {
	v := fleet.Version{Name: r.Name, N: r.Version}
	t, err := s.Store.Template(ctx, v)
	if err != nil {
		return nil, about("template", v.String(), err)
	}
	return contract.GetTemplate200JSONResponse{Body: fromTemplate(t), Headers: contract.GetTemplate200ResponseHeaders{ETag: etag(1)}}, nil
}

// ListChecks lists checks.
func (s *Server) ListChecks(ctx context.Context, r contract.ListChecksRequestObject) (contract.ListChecksResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Checks(ctx, p)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(c store.Check) store.Cursor { return store.Cursor{c.Name} })
	return contract.ListChecks200JSONResponse{Items: each(items, fromCheck), Next: next}, nil
}

// CreateCheck makes a check.
func (s *Server) CreateCheck(ctx context.Context, r contract.CreateCheckRequestObject) (contract.CreateCheckResponseObject, error) {
	b := r.Body
	interval := durationOf(b.IntervalSeconds, 5*time.Second)
	check := health.Check{
		Name: b.Name, Kind: health.Kind(b.Kind), Port: some(b.Port, 8080), Path: some(b.Path, "/"), Interval: interval,
		Timeout: durationOf(b.TimeoutSeconds, min(2*time.Second, interval)), Passes: some(b.Passes, 2), Fails: some(b.Fails, 3),
	}
	switch {
	case b.Name == "off" || b.Name == "machine":
		return nil, invalid("/name", "%q says how a group heals and cannot name a check; choose another name", b.Name)
	case check.Timeout > check.Interval:
		return nil, invalid("/timeout_seconds", "the timeout of %s is longer than the interval of %s; give at most the interval",
			words.Span(check.Timeout), words.Span(check.Interval))
	}
	c, err := s.Store.AddCheck(ctx, time.Now().UTC(), actor(ctx), check)
	if err != nil {
		return nil, about("check", b.Name, err)
	}
	return contract.CreateCheck201JSONResponse(fromCheck(c)), nil
}

// GetCheck reads one check.
func (s *Server) GetCheck(ctx context.Context, r contract.GetCheckRequestObject) (contract.GetCheckResponseObject, error) {
	c, err := s.Store.Check(ctx, r.Name)
	if err != nil {
		return nil, about("check", r.Name, err)
	}
	return contract.GetCheck200JSONResponse{Body: fromCheck(c), Headers: contract.GetCheck200ResponseHeaders{ETag: etag(c.Revision)}}, nil
}

// ListPools lists pools.
func (s *Server) ListPools(ctx context.Context, r contract.ListPoolsRequestObject) (contract.ListPoolsResponseObject, error) {
	p, err := page(r.Params.Limit, r.Params.After)
	if err != nil {
		return nil, err
	}
	items, err := s.Store.Pools(ctx, p)
	if err != nil {
		return nil, err
	}
	items, next := cut(items, p, func(p store.Pool) store.Cursor { return store.Cursor{p.Name} })
	return contract.ListPools200JSONResponse{Items: each(items, s.fromPool), Next: next}, nil
}

func (s *Server) fromPool(p store.Pool) contract.Pool {
	stats, ok := s.Balancer.Stats(p.Name)
	if !ok {
		stats.Trouble = "not opened yet"
	}
	return fromPool(p, stats)
}

// CreatePool makes a pool and opens its listener.
func (s *Server) CreatePool(ctx context.Context, r contract.CreatePoolRequestObject) (contract.CreatePoolResponseObject, error) {
	host, port, err := net.SplitHostPort(r.Body.Listen)
	if err != nil || net.ParseIP(host) == nil {
		return nil, invalid("/listen", "%q is not an address with a port; give one such as 127.0.0.1:8000", r.Body.Listen)
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
		return nil, invalid("/listen", "%q is not a port from 1 to 65535", port)
	}
	if _, err := s.Store.Check(ctx, r.Body.Check); errors.Is(err, store.ErrNotFound) {
		return nil, invalid("/check", "there is no check %s; make it first with: unitas check create %s", r.Body.Check, r.Body.Check)
	} else if err != nil {
		return nil, err
	}
	p, err := s.Store.AddPool(ctx, time.Now().UTC(), actor(ctx), store.Pool{Name: r.Body.Name, Listen: r.Body.Listen, Check: r.Body.Check})
	if err != nil {
		return nil, about("pool with this name or address,", r.Body.Name, err)
	}
	s.Control.PoolAdded(p)
	return contract.CreatePool201JSONResponse(s.fromPool(p)), nil
}

// GetPool reads one pool.
func (s *Server) GetPool(ctx context.Context, r contract.GetPoolRequestObject) (contract.GetPoolResponseObject, error) {
	p, err := s.Store.Pool(ctx, r.Name)
	if err != nil {
		return nil, about("pool", r.Name, err)
	}
	return contract.GetPool200JSONResponse{Body: s.fromPool(p), Headers: contract.GetPool200ResponseHeaders{ETag: etag(p.Revision)}}, nil
}
