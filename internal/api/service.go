package api

import (
	"context"
	"errors"
	"slices"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/control"
	"unitas/internal/store"
)

// GetService says what this service is.
func (s *Server) GetService(ctx context.Context, _ routes.GetServiceRequestObject) (routes.GetServiceResponseObject, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	restored, err := s.Control.Restored(ctx)
	if err != nil {
		s.Log.Warn("what was restored could not be compared", "error", err)
	}
	parts := s.parts(ctx, restored)
	wrong := slices.DeleteFunc(slices.Clone(parts), func(p contract.ServicePart) bool {
		return p.Part == contract.Listeners // which are told where they are felt
	})
	out := routes.GetService200JSONResponse{Version: s.Version, Troubles: troubles(wrong...), Zones: s.Places.Zones(), Now: s.now(), Parts: parts, Strays: []contract.Stray{}}
	for _, m := range s.Control.Strays() {
		out.Strays = append(out.Strays, contract.Stray{Machine: m.Machine, StopsInSeconds: m.Stops.Seconds()})
	}
	if f := restored; f != nil {
		out.Restored = &contract.RestoredRecords{TakenAt: f.Taken.UTC(), RestoredAt: f.At.UTC(), Instances: f.Instances, Present: f.Present, Other: f.Other, Absent: f.Absent, Unknown: f.Unknown}
	}
	return out, nil
}

// ResumeService has restored records be acted on again.
func (s *Server) ResumeService(ctx context.Context, r routes.ResumeServiceRequestObject) (routes.ResumeServiceResponseObject, error) {
	err := s.Store.Resume(ctx, s.now(), actor(ctx), some(r.Body.Reason, ""))
	if errors.Is(err, store.ErrNotFound) {
		return nil, &problem{status: 409, kind: "conflict", detail: "The service acts already: its records were not restored, or somebody resumed it."}
	}
	if err != nil {
		return nil, err
	}
	return routes.ResumeService204Response{}, nil
}

// StopStrays stops machines that no record knows.
func (s *Server) StopStrays(ctx context.Context, r routes.StopStraysRequestObject) (routes.StopStraysResponseObject, error) {
	known := s.Control.Strays()
	for _, id := range r.Body.Machines {
		if !slices.ContainsFunc(known, func(m control.Stray) bool { return m.Machine == id }) {
			return nil, notStray(id)
		}
	}
	for _, id := range r.Body.Machines {
		err := s.Control.StopStray(ctx, id, actor(ctx), some(r.Body.Reason, ""))
		if errors.Is(err, control.ErrNoStray) {
			return nil, notStray(id)
		}
		if err != nil {
			return nil, err
		}
	}
	return routes.StopStrays204Response{}, nil
}

func notStray(id string) error {
	return &problem{status: 409, kind: "conflict", detail: "The machine " + id + " is none that no record knows; unitas service lists those."}
}
