package store

import (
	"fmt"
	"reflect"
	"slices"
	"testing"
	"time"
)

// fill gives every field in v a value of its own.
func fill(v reflect.Value, n *int) {
	*n++
	switch {
	case v.Type() == reflect.TypeFor[time.Time]():
		v.Set(reflect.ValueOf(time.Date(2026, 5, 1, 12, 0, *n, 0, time.UTC)))
		return
	case !v.CanSet():
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(fmt.Sprintf("text-%d", *n))
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(*n))
	case reflect.Float64:
		v.SetFloat(float64(*n))
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), n)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range 2 {
			fill(v.Index(i), n)
		}
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(key, n)
		fill(value, n)
		v.SetMapIndex(key, value)
	case reflect.Struct:
		for i := range v.NumField() {
			fill(v.Field(i), n)
		}
	}
}

// TestNoFieldIsLost: what is read from a row of any object is written as it was.
func TestNoFieldIsLost(t *testing.T) {
	n := 0
	same := func(was, is any) {
		t.Helper()
		a, b := values(was), values(is)
		for name := range a {
			if !reflect.DeepEqual(a[name], b[name]) {
				t.Errorf("%T: %s is %v and is written as %v", was, name, a[name], b[name])
			}
		}
		if len(a) < 10 {
			t.Errorf("%T has only %d columns", was, len(a))
		}
	}
	var in instanceRow
	fill(reflect.ValueOf(&in).Elem(), &n)
	same(in, rowOfInstance(in.instance()))
	var c checkRow
	fill(reflect.ValueOf(&c).Elem(), &n)
	same(c, rowOfCheck(c.check()))
	var ro rolloutRow
	fill(reflect.ValueOf(&ro).Elem(), &n)
	ro.Waves = "1,50%,100%"
	same(ro, rowOfRollout(ro.rollout()))
	var g groupRow
	fillIn := func(part any) { fill(reflect.ValueOf(part).Elem(), &n) }
	fillIn(&g.groupSettings)
	fillIn(&g.groupBook)
	for _, part := range []any{&g.Name, &g.Alone, &g.Overrides, &g.Revision, &g.Generation, &g.Epoch, &g.Written, &g.CreatedAt} {
		fillIn(part)
	}
	same(g.groupColumns, rowOfGroup(g.group()))
	var p poolRow
	fillIn(&p.poolColumns)
	same(p.poolColumns, rowOfPool(p.pool()))
}

func TestColumns(t *testing.T) {
	type inner struct{ SettleMs int }
	type row struct {
		ID string
		inner
		CPUs   float64
		Zones  []string
		Labels map[string]string
		UpAt   *time.Time
	}
	c := columnsOf[row]()
	if !slices.Equal(c, columns{"id", "settle_ms", "cpus", "zones", "labels", "up_at"}) {
		t.Errorf("the columns are %v", c)
	}
	if got, want := c.but("zones", "labels", "up_at").insert("things"), `insert into things ("id", "settle_ms", "cpus") values (@id, @settle_ms, @cpus)`; got != want {
		t.Errorf("it is inserted by %s", got)
	}
	args := values(row{ID: "a", inner: inner{7}})
	if args["settle_ms"] != 7 || args["zones"].([]string) == nil || args["labels"].(map[string]string) == nil || args["up_at"] != (*time.Time)(nil) {
		t.Errorf("the values are %v", args)
	}
}
