package fleet

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"unitas/internal/fleet/health"
)

// TestShiftMovesAllTimes fills every time that there is in a view, whatever it is called,
// and expects all of them moved and the view left as it was.
func TestShiftMovesAllTimes(t *testing.T) {
	at := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	view := View{
		Group:     Group{Book: Book{Setbacks: make([]Setback, 2), Slots: make([]Slot, 2)}},
		Instances: []Instance{{Reports: make([]health.Report, 2)}, {}},
		Rollout:   &Rollout{RolloutBook: RolloutBook{Times: make([]WaveTime, 2)}},
	}
	if n := eachTime(reflect.ValueOf(&view).Elem(), "", func(_ string, v *time.Time) { *v = at }); n < 20 {
		t.Fatalf("only %d times were found", n)
	}
	d := view.Shift(time.Hour)
	moved := 0
	for _, what := range []any{d.Group, d.Changed, d.Rollout} {
		moved += eachTime(reflect.ValueOf(what), "", func(path string, v *time.Time) {
			by := time.Hour
			if strings.HasSuffix(path, ".StartAt") { // a person gave it, by the clock on the wall
				by = 0
			}
			if !v.Equal(at.Add(by)) {
				t.Errorf("%T%s is %s, not an hour later", what, path, v)
			}
		})
	}
	left := eachTime(reflect.ValueOf(&view).Elem(), "", func(path string, v *time.Time) {
		if !v.Equal(at) {
			t.Errorf("the view itself changed: %s is %s", path, v)
		}
	})
	if moved != left-1 { // but for Watched, which is no record
		t.Errorf("%d times were moved of %d", moved, left)
	}
	var none View
	none.Instances = make([]Instance, 1)
	if in := none.Shift(time.Hour).Changed[0]; !in.Since.IsZero() || !in.Up.IsZero() {
		t.Errorf("what never was is moved: %+v", in)
	}
}

// eachTime calls f with every time in v, and returns how many there are.
func eachTime(v reflect.Value, path string, f func(path string, v *time.Time)) (n int) {
	switch {
	case v.Type() == reflect.TypeFor[time.Time]():
		f(path, v.Addr().Interface().(*time.Time))
		return 1
	case v.Kind() == reflect.Pointer && !v.IsNil():
		return eachTime(v.Elem(), path, f)
	case v.Kind() == reflect.Slice:
		for i := range v.Len() {
			n += eachTime(v.Index(i), path+"[]", f)
		}
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			if field := v.Type().Field(i); field.IsExported() {
				n += eachTime(v.Field(i), path+"."+field.Name, f)
			}
		}
	}
	return n
}

func TestNothingBeganInTheFuture(t *testing.T) {
	now := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	in := Instance{Since: now.Add(time.Hour), Ordered: now.Add(-time.Hour), Up: now.Add(time.Minute)}
	in.NoLater(now)
	if !in.Since.Equal(now) || !in.Up.Equal(now) || !in.Ordered.Equal(now.Add(-time.Hour)) || !in.Served.IsZero() {
		t.Errorf("the times are %+v", in)
	}
}
