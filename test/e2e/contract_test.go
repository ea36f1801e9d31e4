package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"unitas/internal/api/routes"
)

// inside are words of the implementation, which no answer has.
var inside = regexp.MustCompile(`strconv|json:|[Uu]nmarshal|\bEOF\b|dial tcp|SQLSTATE|pgx|\bsql\b|goroutine|panic|\.go:\d|interface \{|nil pointer|reflect\.|runtime error|looking for beginning|mime:|binding|struct\b`)

// odd are values that fit no field, or hardly one.
var odd = []string{
	`null`, `true`, `-1`, `0`, `1e308`, `1e-308`, `99999999999999999999999999`, `0.1`, `""`, `" "`, `"\u0000"`, `"\u202e\u001b[31m"`, `"` + strings.Repeat("x", 70_000) + `"`,
	`[]`, `[[]]`, `[null]`, `{}`, `{"a":{"b":{"c":1}}}`, `"*"`, `"../../etc/passwd"`, `"%00"`, `"2026-02-30T00:00:00Z"`, `["a","a","a"]`, `"' or 1=1 --"`,
}

// sending is one request of bad input.
type sending struct{ method, path, body, why string }

// values are what stands for parameters in paths: what is there, and what is odd.
var values = map[string][]string{
	"name": {"timetable", "front", "sailings-up", "timetable-web", "none", "%00", "..", "a%2Fb", strings.Repeat("n", 300), "%E2%80%AE"}, "version": {"1", "0", "-1", "99", "x", "9999999999999999999"},
	"id": {"timetable-001", "none", "%2e%2e", strings.Repeat("i", 300)}, "number": {"1", "0", "-1", "x", "9223372036854775808"}, "region": {"harbour", "moon"}, "address": {"127.0.0.1:1", "none", "%5B::1%5D:80"}, "mark": {"stable", "1", "%0a"},
	"check": {"sailings-up", "none"}, "hook": {"warm-cache", "none", "%00"}, "kind": {"image", "x"}, "rule": {"even", "none", "%00"}, "metric": {"cpu", "disk", "push:%00"},
}

// TestTheContractHolds sends every operation bad input that follows from the contract
// itself: nothing is answered with a fault of the service, and every refusal is a problem
// document with pointers and without a word of the implementation.
func TestTheContractHolds(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(4)
	spec, err := routes.GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	sent, refused := 0, 0
	c := &http.Client{Timeout: 20 * time.Second}
	for _, path := range slices.Sorted(maps.Keys(spec.Paths.Map())) {
		for method, op := range spec.Paths.Value(path).Operations() {
			if op.OperationID == "watchEvents" { // it does not end
				continue
			}
			for _, one := range sendings(path, method, op) {
				if t.Failed() && sent > 20_000 {
					return
				}
				sent++
				if s.refusesWell(c, one) {
					refused++
				}
			}
		}
	}
	t.Logf("%d requests were sent, %d refused", sent, refused)
	if sent < 2000 || refused < sent/2 {
		t.Errorf("only %d requests were sent and %d refused: the contract is not what is read", sent, refused)
	}
	s.eventually("the group is as it was asked to be in the end", func() error { return answers("http://" + s.listen + "/readyz") })
}

// refusesWell sends one request and holds its answer against what is promised of all. It
// reports whether it was refused.
func (s *service) refusesWell(c *http.Client, one sending) bool {
	req, err := http.NewRequest(one.method, "http://"+s.listen+one.path, strings.NewReader(one.body))
	if err != nil {
		return false // no client could send it
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	if one.body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if one.why == "a stale revision" {
		req.Header.Set("If-Match", `"999999"`)
	} else if one.why == "an odd revision" {
		req.Header.Set("If-Match", `W/"x y`)
	}
	res, err := c.Do(req)
	if err != nil {
		s.t.Errorf("%s %s (%s): %v", one.method, short(one.path), one.why, err)
		return false
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	said := fmt.Sprintf("%s %s %s (%s) is answered %d %s", one.method, short(one.path), short(one.body), one.why, res.StatusCode, short(string(raw)))
	if res.StatusCode >= 500 {
		s.t.Error(said)
		return true
	}
	if res.StatusCode < 400 {
		return false
	}
	var p struct {
		Type, Title, Detail string
		Status              int
		Errors              []struct{ Pointer, Detail string }
	}
	if kind := res.Header.Get("Content-Type"); !strings.HasPrefix(kind, "application/problem+json") || json.Unmarshal(raw, &p) != nil || p.Detail == "" || p.Status != res.StatusCode {
		s.t.Errorf("no problem document: %s", said)
	}
	if res.StatusCode == http.StatusUnprocessableEntity && len(p.Errors) == 0 {
		s.t.Errorf("it points at nothing: %s", said)
	}
	text := p.Title + " " + p.Detail
	for _, e := range p.Errors {
		text += " " + e.Detail
	}
	if m := inside.FindString(text); m != "" && !strings.Contains(one.body+one.path, m) {
		s.t.Errorf("it says %q: %s", m, said)
	}
	return true
}

func short(text string) string {
	if len(text) > 300 {
		return text[:300] + "…"
	}
	return text
}

// sendings are what an operation is sent.
func sendings(path, method string, op *openapi3.Operation) []sending {
	var all []sending
	good := filled(path, func(name string) string { return values[name][0] })
	for _, name := range parameters(path) {
		for _, v := range values[name] {
			all = append(all, sending{method, filled(path, func(n string) string {
				if n == name {
					return v
				}
				return values[n][0]
			}), bodyOf(op), "an odd " + name})
		}
	}
	for _, p := range op.Parameters {
		if p.Value.In == "query" {
			for _, v := range odd {
				all = append(all, sending{method, good + "?" + p.Value.Name + "=" + url.QueryEscape(strings.Trim(v, `"`)), bodyOf(op), "an odd " + p.Value.Name})
			}
			all = append(all, sending{method, good + "?" + p.Value.Name + "=a&" + p.Value.Name + "=b", bodyOf(op), "a doubled " + p.Value.Name})
		}
	}
	if op.RequestBody == nil || op.RequestBody.Value.Content["application/json"] == nil {
		return all
	}
	for _, raw := range append([]string{"", "{", "[", `{"a":1}{"b":2}`, `{"a":1,"a":2}`, "\xff\xfe", strings.Repeat("[", 20_000), `"` + strings.Repeat("y", 2<<20) + `"`}, odd...) {
		all = append(all, sending{method, good, raw, "a body that is none"})
	}
	schema := op.RequestBody.Value.Content["application/json"].Schema.Value
	for _, field := range slices.Sorted(maps.Keys(schema.Properties)) {
		for _, v := range odd {
			all = append(all, sending{method, good, having(op, field, v), "an odd " + field})
		}
		all = append(all, sending{method, good, fmt.Sprintf(`{%q:1,%q:"x",`, field, field) + `"surplus":1}`, "a doubled " + field})
	}
	all = append(all, sending{method, good, having(op, "surplus", `1`), "a field that is none"},
		sending{method, good, bodyOf(op), "no revision"}, sending{method, good, bodyOf(op), "a stale revision"}, sending{method, good, bodyOf(op), "an odd revision"})
	return all
}

var parameter = regexp.MustCompile(`\{(\w+)\}`)

func parameters(path string) (names []string) {
	for _, m := range parameter.FindAllStringSubmatch(path, -1) {
		names = append(names, m[1])
	}
	return names
}

func filled(path string, by func(name string) string) string {
	return parameter.ReplaceAllStringFunc(path, func(m string) string { return by(m[1 : len(m)-1]) })
}

// bodyOf is what an operation needs at least, by the contract.
func bodyOf(op *openapi3.Operation) string {
	if op.RequestBody == nil || op.RequestBody.Value.Content["application/json"] == nil {
		return ""
	}
	return having(op, "", "")
}

// having is a body with one field of the value.
func having(op *openapi3.Operation, field, value string) string {
	schema := op.RequestBody.Value.Content["application/json"].Schema.Value
	fields := map[string]json.RawMessage{}
	for _, name := range schema.Required {
		fields[name] = json.RawMessage(least(schema.Properties[name].Value))
	}
	if field != "" {
		fields[field] = json.RawMessage(value)
	}
	parts := make([]string, 0, len(fields))
	for _, name := range slices.Sorted(maps.Keys(fields)) { // as it is, also what is no JSON
		parts = append(parts, fmt.Sprintf("%q:%s", name, fields[name]))
	}
	return "{" + strings.Join(parts, ",") + "}"
}

// least is a small value of a schema.
func least(s *openapi3.Schema) string {
	switch {
	case len(s.Enum) > 0:
		raw, _ := json.Marshal(s.Enum[0])
		return string(raw)
	case s.Type.Is("integer"), s.Type.Is("number"):
		return "1"
	case s.Type.Is("boolean"):
		return "false"
	case s.Type.Is("array"):
		return "[]"
	case s.Type.Is("object"):
		return "{}"
	}
	return `"x"`
}
