package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"runtime"
	"strings"
	"testing"
)

func check(body string) error {
	return checkJSON(&http.Request{Body: io.NopCloser(strings.NewReader(body))})
}

func TestCheckJSON(t *testing.T) {
	for _, c := range []struct {
		name, body string
		status     int
		says       string
	}{
		{"an object", `{"name":"berths","labels":{"a":"1","b":"2"},"waves":["1","50%"],"n":[1,2,{"x":null}]}`, 0, ""},
		{"just deep enough", strings.Repeat("[", 64) + strings.Repeat("]", 64), 0, ""},
		{"a level too deep", strings.Repeat("[", 65) + strings.Repeat("]", 65), 400, "deeper than 64"},
		{"objects too deep", strings.Repeat(`{"a":`, 65) + "1" + strings.Repeat("}", 65), 400, "deeper than 64"},
		{"deep and without an end", strings.Repeat("[", 98_000), 400, "deeper than 64"},
		{"a key twice, far in", `{"a":[{"b":1},{"c":1,"c":2}]}`, 400, "/a/1/c is given twice"},
		{"the same key in two objects", `[{"c":1},{"c":1}]`, 0, ""},
		{"a value like a key", `{"a":"a","b":"a"}`, 0, ""},
		{"a pointer is escaped", `{"a/b":{"~":1,"~":2}}`, 400, "/a~1b/~0 is given twice"},
		{"no UTF-8", "{\"note\":\"\xff\"}", 400, "not UTF-8"},
		{"NUL", `{"note":"summer\u0000sailings"}`, 422, "/note"},
		{"NUL in a list", `{"waves":["1","5\u00000%"]}`, 422, "/waves/1"},
		{"NUL in a name", `{"no\u0000te":"x"}`, 422, "control character"},
		{"what a terminal would obey", `{"reason":"\u001b[2J"}`, 422, "U+001B"},
		{"what it would obey as well", `{"reason":"\u009b2J"}`, 422, "U+009B"},
		{"what turns a line round", `{"reason":"it was \u202eadmin"}`, 422, "direction"},
		{"what isolates a direction", `{"labels":{"a":"\u2066x"}}`, 422, "/labels/a"},
		{"letters of every direction", `{"reason":"סירה, قارب, båt"}`, 0, ""},
		{"lines and tabs", `{"reason":"one\n\ttwo\r\n"}`, 0, ""},
		{"a script may", `{"user_data":"#!/bin/sh\nprintf '\u001b[0m'"}`, 0, ""},
		{"but not NUL", `{"user_data":"\u0000"}`, 422, "/user_data"},
		{"and only there", `{"user_data":{"x":"\u001b"}}`, 422, "/user_data/x"},
		{"more after the end", `{} {}`, 400, "goes on after"},
		{"nothing", ``, 400, "ends too early"},
		{"half of it", `{"a":[1,`, 400, "ends too early"},
		{"half a text", `{"a":"b`, 400, "ends too early"},
		{"a comma too many", `{"a":1,}`, 400, "at byte"},
		{"too long", `"` + strings.Repeat("a", maxBody) + `"`, 413, "longer than 1 MiB"},
	} {
		err := check(c.body)
		var p *problem
		says := ""
		if errors.As(err, &p) {
			says = p.detail
			for _, f := range p.fields {
				says += " at " + f.pointer
			}
		}
		if (p == nil) != (c.status == 0) || (p != nil && (p.status != c.status || !strings.Contains(says, c.says))) {
			t.Errorf("%s: %v, want %d %q", c.name, err, c.status, c.says)
		}
	}
}

// TestJSONCostsWhatItIsLong: a body of brackets takes no more than some times its
// length, where a pointer at each level took the square of it.
func TestJSONCostsWhatItIsLong(t *testing.T) {
	for name, body := range map[string]string{
		"brackets": strings.Repeat("[", 1<<20-1),
		"objects":  strings.Repeat(`{"a":`, 200_000),
		"flat":     "[" + strings.Repeat(`"a",`, 250_000) + `1]`,
		"keys":     `{"` + strings.Repeat("k", 500_000) + `":{"` + strings.Repeat("l", 500_000) + `":1}}`,
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_ = check(body)
		runtime.ReadMemStats(&after)
		if took := after.TotalAlloc - before.TotalAlloc; took > 40<<20 {
			t.Errorf("%s: a body of %d KiB took %d MiB", name, len(body)>>10, took>>20)
		}
	}
}

// FuzzJSON holds the walk against the library: what is let pass is JSON, its value is
// the same read again, and nothing that is good is refused but for the rules here.
func FuzzJSON(f *testing.F) {
	for _, seed := range []string{`{"a":1}`, `{"a":{"a":[1,"x",null,true]}}`, `{"a":1,"a":2}`, strings.Repeat("[", 70), `"\u0000"`, `1 2`, `{"a":"\ud800"}`, "\xff", `[{}]`, `{"user_data":"\u001b"}`} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		r := &http.Request{Body: io.NopCloser(bytes.NewReader(raw))}
		err := checkJSON(r)
		var p *problem
		if err != nil && (!errors.As(err, &p) || p.status < 400 || p.status > 499) {
			t.Fatalf("%q gave %v", raw, err)
		}
		if err == nil {
			if !json.Valid(raw) {
				t.Fatalf("%q is let pass", raw)
			}
			if again, _ := io.ReadAll(r.Body); !bytes.Equal(again, raw) {
				t.Fatalf("%q is handed on as %q", raw, again)
			}
		}
		if err != nil && json.Valid(raw) && p.status == 400 && !strings.Contains(p.detail, "twice") && !strings.Contains(p.detail, "deeper") && !strings.Contains(p.detail, "UTF-8") {
			t.Fatalf("%q is refused: %s", raw, p.detail)
		}
	})
}
