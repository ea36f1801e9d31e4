package traffic

import (
	"reflect"
	"strings"
	"testing"
	"time"
)

// TestDifferences: every setting of a pool and of a listener that is another is told, with what
// it was. A setting that is added is found here when nothing tells of it.
func TestDifferences(t *testing.T) {
	var pool Sharing
	if all := pool.Differences(&Sharing{Algorithm: RoundRobin, WhenNoneHealthy: Refuse, Targets: Targets{Protocol: Plain, Trust: TrustHost}}); len(all) != 0 {
		t.Errorf("what is usual is told as another: %q", all)
	}
	each(t, reflect.TypeFor[Sharing](), nil, func(set func(reflect.Value)) []string {
		var now Sharing
		set(reflect.ValueOf(&now).Elem())
		return pool.Differences(&now)
	})
	var l Listener
	each(t, reflect.TypeFor[Listener](), []string{"Address", "Regions", "Enough", "AccessLog.Percent"}, func(set func(reflect.Value)) []string {
		var now Listener
		set(reflect.ValueOf(&now).Elem())
		return l.Differences(&now)
	})

	was, now := NewListener("127.0.0.1:8000", "front", ""), NewListener("127.0.0.1:8000", "", "saltmere")
	now.Routes = []Route{{Path: "/fares", Pool: "fares", Split: &Split{Pool: "fares-next", Percent: 5}}}
	now.RegionOrder, now.Regions, now.Enough = InOrder, []string{"harbour", "headland"}, 60
	now.AccessLog, now.Limits.BodyBytes, now.Limits.RequestsPS = AccessLog{Keep: KeepSampled, Percent: 5}, 1<<20, 2.5
	want := "protocol https, was http; pool none, was front; route 1. /fares → fares (5 % → fares-next) is new; certificates saltmere, was none; HTTP/2 on, was off; " +
		"region order harbour before headland, with 60 % enough, was alike; body limit 1 MiB, was none; requests a second of an address 2.5, was none; access log 5 % and all failures, was failures"
	if is := strings.Join(was.Differences(&now), "; "); is != want {
		t.Errorf("it is told as\n%s\nwant\n%s", is, want)
	}
	was.Routes, now = []Route{{Path: "/old", Pool: "fares"}, {Path: "/a", Pool: "fares"}, {Path: "/b", Pool: "fares"}}, was
	now.Routes = []Route{{Path: "/b", Pool: "fares"}, {Path: "/a", Pool: "fares"}}
	if is := strings.Join(was.Differences(&now), "; "); is != "route 1. /old → fares is gone; the other routes in another order" {
		t.Errorf("it is told as %s", is)
	}
	a, b := Sharing{Shares: []Share{{Group: "timetable", Weight: 90}}, Weights: map[string]int{"timetable-001": 25}, Enough: 50}, Sharing{Weights: map[string]int{"timetable-002": 10}, Enough: 50, Targets: Targets{Eject: UsualEject, Affinity: Affinity{By: ByCookie, For: time.Hour}}}
	want = "shares none, was timetable 90; weight of timetable-001 100, was 25; weight of timetable-002 10, was 100; affinity by a cookie for 1 h, was none; " +
		"ejects after 5 failures in a row or with 30 points more failures than the others or when 4 times as slow as the others (of 50 requests; first for 10 s, at most 5 m), was none"
	if is := strings.Join(a.Differences(&b), "; "); is != want {
		t.Errorf("it is told as\n%s\nwant\n%s", is, want)
	}
}

// each has every field, those of structs in it too, be another by itself, and wants a difference
// told for it unless it says nothing without others.
func each(t *testing.T, of reflect.Type, without []string, told func(set func(reflect.Value)) []string) {
	t.Helper()
	var walk func(of reflect.Type, path string, index []int)
	walk = func(of reflect.Type, path string, index []int) {
		for i := range of.NumField() {
			f := of.Field(i)
			at, name := append(append([]int{}, index...), i), strings.TrimPrefix(path+"."+f.Name, ".")
			if f.Type.Kind() == reflect.Struct {
				walk(f.Type, name, at)
				continue
			}
			skip := strings.HasPrefix(name, "Targets.Affinity.") || strings.HasPrefix(name, "Targets.Eject.") && !strings.HasSuffix(name, "Failures")
			for _, w := range without {
				skip = skip || name == w
			}
			if skip {
				continue
			}
			all := told(func(v reflect.Value) { another(v.FieldByIndex(at)) })
			if len(all) != 1 {
				t.Errorf("%s.%s is another, and told is %q", of.Name(), name, all)
			}
		}
	}
	walk(of, "", nil)
}

// another gives a field a value that it usually has not.
func another(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString(map[reflect.Type]string{reflect.TypeFor[RegionOrder](): "measured"}[v.Type()])
		if v.String() == "" {
			v.SetString("another")
		}
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(3 * time.Second))
	case reflect.Float64:
		v.SetFloat(3)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		if v.Type().Elem().Kind() == reflect.String {
			v.Index(0).SetString("another")
		}
	case reflect.Map:
		v.Set(reflect.ValueOf(map[string]int{"timetable-001": 7}))
	}
}
