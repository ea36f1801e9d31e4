package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet"
	"unitas/internal/store"
)

// What images and templates have in common: withdrawal and marks.

// withdrawal reads what both kinds of withdrawal need.
func (s *Server) withdrawal(ctx context.Context, kind, name, version string, match *string, w *contract.Withdrawal) (v fleet.Version, successor string, revision int64, err error) {
	if revision, err = ifMatch(match); err != nil {
		return v, "", 0, err
	}
	if v, err = s.resolve(ctx, kind, "", name+"@"+version); err != nil || w.Successor == nil {
		return v, "", revision, err
	}
	next, err := s.resolve(ctx, kind, "successor", *w.Successor)
	if err != nil {
		return v, "", revision, err
	}
	state := ""
	if kind == "image" {
		var i store.Image
		i, err = s.Store.Image(ctx, next)
		state = i.State
	} else {
		var t store.Template
		t, err = s.Store.Template(ctx, next)
		state = t.State
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		err = invalid("/successor", "there is no %s %s", kind, next)
	case err == nil && next == v:
		err = invalid("/successor", "%s cannot follow itself", v)
	case err == nil && state != store.Ready:
		err = invalid("/successor", "the %s %s is %s; name one that is ready", kind, next, state)
	}
	return v, next.String(), revision, err
}

func (s *Server) marks(ctx context.Context, kind, name string) (contract.Marks, error) {
	marks, moves, err := s.Store.Marks(ctx, kind, name)
	number := func(n int) *int {
		if n == 0 {
			return nil
		}
		return &n
	}
	return contract.Marks{
		Items: each(marks, func(m store.Mark) contract.Mark { return contract.Mark{Mark: m.Mark, Version: m.Version} }),
		History: each(moves, func(m store.MarkMove) contract.MarkMove {
			return contract.MarkMove{Mark: m.Mark, From: number(m.FromVersion), To: number(m.ToVersion), At: m.At.UTC(), By: m.Actor}
		}),
	}, err
}

// setMark moves a mark, or takes it away when n is 0.
func (s *Server) setMark(ctx context.Context, kind, name, mark string, n int) (contract.Marks, error) {
	if mark == "marks" {
		return contract.Marks{}, invalid("mark", "a mark cannot be called marks; choose another name")
	}
	v := fleet.Version{Name: name, N: n}
	err := s.Store.SetMark(ctx, s.now(), actor(ctx), kind, v, mark)
	switch {
	case errors.Is(err, store.ErrNotFound) && n == 0:
		return contract.Marks{}, &problem{status: http.StatusNotFound, kind: "not-found", detail: fmt.Sprintf("The %s %s has no mark %s.", kind, name, mark)}
	case err != nil:
		return contract.Marks{}, about(kind, v.String(), err)
	}
	return s.marks(ctx, kind, name)
}

// ListImageMarks lists marks.
func (s *Server) ListImageMarks(ctx context.Context, r routes.ListImageMarksRequestObject) (routes.ListImageMarksResponseObject, error) {
	out, err := s.marks(ctx, "image", r.Name)
	return routes.ListImageMarks200JSONResponse(out), err
}

// SetImageMark moves a mark.
func (s *Server) SetImageMark(ctx context.Context, r routes.SetImageMarkRequestObject) (routes.SetImageMarkResponseObject, error) {
	out, err := s.setMark(ctx, "image", r.Name, r.Mark, r.Body.Version)
	return routes.SetImageMark200JSONResponse(out), err
}

// RemoveImageMark takes a mark away.
func (s *Server) RemoveImageMark(ctx context.Context, r routes.RemoveImageMarkRequestObject) (routes.RemoveImageMarkResponseObject, error) {
	out, err := s.setMark(ctx, "image", r.Name, r.Mark, 0)
	return routes.RemoveImageMark200JSONResponse(out), err
}

// ListTemplateMarks lists marks.
func (s *Server) ListTemplateMarks(ctx context.Context, r routes.ListTemplateMarksRequestObject) (routes.ListTemplateMarksResponseObject, error) {
	out, err := s.marks(ctx, "template", r.Name)
	return routes.ListTemplateMarks200JSONResponse(out), err
}

// SetTemplateMark moves a mark.
func (s *Server) SetTemplateMark(ctx context.Context, r routes.SetTemplateMarkRequestObject) (routes.SetTemplateMarkResponseObject, error) {
	out, err := s.setMark(ctx, "template", r.Name, r.Mark, r.Body.Version)
	return routes.SetTemplateMark200JSONResponse(out), err
}

// RemoveTemplateMark takes a mark away.
func (s *Server) RemoveTemplateMark(ctx context.Context, r routes.RemoveTemplateMarkRequestObject) (routes.RemoveTemplateMarkResponseObject, error) {
	out, err := s.setMark(ctx, "template", r.Name, r.Mark, 0)
	return routes.RemoveTemplateMark200JSONResponse(out), err
}
