package store_test

import (
	"errors"
	"testing"

	"unitas/internal/store"
)

// TestCourses saves a course and has it otherwise, from the revision that was read alone.
func TestCourses(t *testing.T) {
	s := open(t)
	for _, c := range []struct {
		revision int64
		note     string
		want     error
	}{
		{1, "of nothing", store.ErrNotFound},
		{0, "first", nil},
		{0, "twice", store.ErrExists},
		{1, "second", nil},
		{1, "from what it no longer is", store.ErrStale},
		{store.AnyRevision, "whatever it is", nil},
	} {
		if err := s.SaveCourse(ctx, noon, "ada", "careful", c.revision, []string{c.note}, c.note); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", c.note, err, c.want)
		}
	}
	c, err := s.Course(ctx, "careful")
	if err != nil || c.Revision != 3 || c.Note != "whatever it is" || string(c.Settings) != `["whatever it is"]` {
		t.Errorf("it is %+v, %v", c, err)
	}
	if err := s.DeleteCourse(ctx, noon, "ada", "careful", 2); !errors.Is(err, store.ErrStale) {
		t.Errorf("forgotten from what it no longer is: %v", err)
	}
	if err := s.DeleteCourse(ctx, noon, "ada", "careful", 3); err != nil {
		t.Error(err)
	}
	if all, err := s.Courses(ctx); err != nil || len(all) != 0 {
		t.Errorf("left are %v, %v", all, err)
	}
}
