package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/getkin/kin-openapi/openapi3"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// usualSettings are those of a rollout that nothing else is said of: the defaults that the
// contract gives a course.
func usualSettings() (contract.CourseSettings, error) {
	var out contract.CourseSettings
	spec, err := routes.GetSpec()
	if err != nil {
		return out, err
	}
	whole := map[string]any{}
	if err := spec.Components.Schemas["CourseSettings"].Value.VisitJSON(whole, openapi3.VisitAsRequest(), openapi3.DefaultsSet(func() {})); err != nil {
		return out, err
	}
	raw, err := json.Marshal(whole)
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal(raw, &out)
}

// courseOf are the settings of a course, or the usual ones where none is named.
func (s *Server) courseOf(ctx context.Context, name string) (contract.CourseSettings, error) {
	if name == "" {
		return s.usual, nil
	}
	c, err := s.Store.Course(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return contract.CourseSettings{}, invalid("/course", "there is no course %s; see: unitas course list", words.Plain(name, 80))
	}
	if err != nil {
		return contract.CourseSettings{}, err
	}
	return s.settingsOf(c), nil
}

// settingsOf are those of a course; what one of an earlier version does not say is as usual.
func (s *Server) settingsOf(c store.Course) contract.CourseSettings {
	settings := s.usual
	var own contract.CourseSettings
	if json.Unmarshal(c.Settings, &own) != nil {
		return settings
	}
	return over(settings, own)
}

// over are settings with what the others say put over them.
func over(settings, others contract.CourseSettings) contract.CourseSettings {
	set(&settings.Waves, others.Waves)
	set(&settings.Above, others.Above)
	set(&settings.Below, others.Below)
	set(&settings.SoakSeconds, others.SoakSeconds)
	set(&settings.Gates, others.Gates)
	set(&settings.Order, others.Order)
	set(&settings.Pace, others.Pace)
	set(&settings.Hours, others.Hours)
	set(&settings.Note, others.Note)
	return settings
}

// set puts a value where one is given.
func set[T any](to **T, from *T) {
	if from != nil {
		*to = from
	}
}

func (s *Server) fromCourse(c store.Course) contract.Course {
	return contract.Course{Name: c.Name, Settings: s.settingsOf(c), UsedBy: append([]string{}, c.UsedBy...), Revision: c.Revision, CreatedAt: c.CreatedAt.UTC(), CreatedBy: c.CreatedBy}
}

// ListCourses lists them.
func (s *Server) ListCourses(ctx context.Context, _ routes.ListCoursesRequestObject) (routes.ListCoursesResponseObject, error) {
	all, err := s.Store.Courses(ctx)
	return routes.ListCourses200JSONResponse{Items: each(all, s.fromCourse)}, err
}

// GetCourse reads one.
func (s *Server) GetCourse(ctx context.Context, r routes.GetCourseRequestObject) (routes.GetCourseResponseObject, error) {
	c, err := s.Store.Course(ctx, r.Name)
	if err != nil {
		return nil, about("course", r.Name, err)
	}
	return routes.GetCourse200JSONResponse{Body: s.fromCourse(c), Headers: routes.GetCourse200ResponseHeaders{ETag: etag(c.Revision)}}, nil
}

// SaveCourse saves settings by name.
func (s *Server) SaveCourse(ctx context.Context, r routes.SaveCourseRequestObject) (routes.SaveCourseResponseObject, error) {
	if !words.IsName(r.Name) {
		return nil, invalid("/name", "%q is not a name: %s", words.Plain(r.Name, 80), words.NamingRule)
	}
	var revision int64
	if r.Params.IfMatch != nil {
		var err error
		if revision, err = ifMatch(r.Params.IfMatch); err != nil {
			return nil, err
		}
	}
	ro, err := fromSettings(*r.Body)
	if err == nil {
		err = ro.CheckSettings()
	}
	if err != nil {
		return nil, inSeconds(about("course", r.Name, err))
	}
	if err := s.Store.SaveCourse(ctx, s.now(), actor(ctx), r.Name, revision, r.Body, given(r.Body.Note)); err != nil {
		if errors.Is(err, store.ErrExists) {
			return nil, &problem{status: 409, kind: "exists", detail: fmt.Sprintf("There is a course %s already; read it first, and send its ETag as If-Match to have it otherwise.", r.Name)}
		}
		return nil, about("course", r.Name, err)
	}
	if given(r.Params.DryRun) {
		settings, err := json.Marshal(r.Body)
		return routes.SaveCourse200JSONResponse(s.fromCourse(store.Course{Name: r.Name, Settings: settings, Note: given(r.Body.Note), Revision: revision})), err
	}
	c, err := s.Store.Course(ctx, r.Name)
	return routes.SaveCourse200JSONResponse(s.fromCourse(c)), err
}

// DeleteCourse forgets one.
func (s *Server) DeleteCourse(ctx context.Context, r routes.DeleteCourseRequestObject) (routes.DeleteCourseResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := s.Store.DeleteCourse(ctx, s.now(), actor(ctx), r.Name, revision); err != nil {
		return nil, about("course", r.Name, err)
	}
	return routes.DeleteCourse204Response{}, nil
}
