package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v5"

	"unitas/internal/api/routes"
	"unitas/internal/fleet/words"
)

// TestEveryOperationIsValidated holds the routes that the contract registers
// against those that the validator knows, by method and path.
func TestEveryOperationIsValidated(t *testing.T) {
	v, err := newValidator()
	if err != nil {
		t.Fatal(err)
	}
	e := echo.New()
	routes.RegisterHandlers(e, routes.NewStrictHandler(&Server{}, nil))
	routes := e.Router().Routes()
	if len(routes) < 20 || len(routes) != len(v.routes) {
		t.Errorf("%d routes and %d validators", len(routes), len(v.routes))
	}
	for _, r := range routes {
		if v.routes[r.Method+" "+r.Path] == nil {
			t.Errorf("%s %s has no validator", r.Method, r.Path)
		}
	}
}

// TestOldFieldsAreRefusedByTheirNewNames, for one release; others are only unknown.
func TestOldFieldsAreRefusedByTheirNewNames(t *testing.T) {
	for _, c := range []struct{ method, path, body, want string }{
		{"POST", "/v1/pools", `{"name":"front","check":"up","stay":{"by":"cookie"}}`, "/stay is called affinity now"},
		{"PATCH", "/v1/pools/:name", `{"choose":"least-busy"}`, "/choose is called algorithm now"},
		{"POST", "/v1/listeners", `{"address":"127.0.0.1:8000","kind":"tcp"}`, "/kind is called protocol now"},
		{"PATCH", "/v1/listeners/:address", `{"limits":{"quiet_seconds":5}}`, "/limits/quiet_seconds is called tunnel_idle_seconds now"},
		{"PATCH", "/v1/listeners/:address", `{"routes":[{"pool":"front","divert":{"pool":"fares"}}]}`, "/routes/0/divert is called split now"},
		{"POST", "/v1/groups/:name/rules", `{"name":"even","kind":"steady","settings":{"metric":"cpu","target":60}}`, "/settings/target is called keep_at now"},
		{"PATCH", "/v1/groups/:name/rules/:rule", `{"lines":[]}`, "/lines is called thresholds now"},
		{"POST", "/v1/groups/:name/rollouts", `{"to":"timetable-web@2","gates":[{"kind":"errors","broken":"hold"}]}`, "/gates/0/broken is called on_broken now"},
		{"POST", "/v1/groups/:name/hooks", `{"name":"join","at":"launch","bound_seconds":5}`, "/bound_seconds is called max_deadline_seconds now"},
		{"POST", "/v1/notices", `{"name":"board","topics":["failing-places"],"mail":["sre@saltmere.example"]}`, `/topics/0 "failing-places" is called failing-slots now`},
		{"GET", "/v1/groups/:name/metrics/:metric?over=total", ``, "over is called aggregate now"},
		{"PATCH", "/v1/pools/:name", `{"colour":"red"}`, "/colour there is no such field here"},
	} {
		_, err := held(t, c.method, c.path, c.body)
		p, _ := err.(*problem)
		if p == nil || len(p.fields) != 1 || p.fields[0].pointer+" "+p.fields[0].detail != c.want {
			t.Errorf("%s is refused with %+v, want %s", c.body, err, c.want)
		}
	}
}

func TestIfMatch(t *testing.T) {
	text := func(s string) *string { return &s }
	for _, c := range []struct {
		header *string
		want   int64
		status int
	}{
		{text(`"7"`), 7, 0}, {text(`W/"7"`), 7, 0}, {text("*"), -1, 0},
		{nil, 0, 428}, {text(""), 0, 428}, {text("7x"), 0, 422}, {text(`"x"`), 0, 412},
	} {
		got, err := ifMatch(c.header)
		p, _ := err.(*problem)
		if (p == nil) != (c.status == 0) || (p != nil && p.status != c.status) || got != c.want {
			t.Errorf("%v gave %d %v", c.header, got, err)
		}
	}
}

// held sends a request through the validator and returns it as a handler sees it.
func held(t *testing.T, method, path, body string) (*http.Request, error) {
	t.Helper()
	v, err := newValidator()
	if err != nil {
		t.Fatal(err)
	}
	e := echo.New()
	var seen *http.Request
	e.Add(method, strings.Split(path, "?")[0], func(c *echo.Context) error { seen = c.Request(); return nil }, v.middleware)
	var failed error
	e.HTTPErrorHandler = func(_ *echo.Context, err error) { failed = err }
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	e.ServeHTTP(httptest.NewRecorder(), r)
	return seen, failed
}

// TestDefaultsStandInTheContract: what a caller leaves out of a request is in it when a
// handler sees it, and a change changes nothing that it does not name.
func TestDefaultsStandInTheContract(t *testing.T) {
	for _, c := range []struct{ method, path, body, want string }{
		{"POST", "/v1/checks", `{"name":"sailings-up","kind":"http"}`,
			`{"name":"sailings-up","kind":"http","port":8080,"path":"/","statuses":"200-299","verify":true,"interval_seconds":5,"passes":2,"fails":3}`},
		{"POST", "/v1/groups", `{"name":"timetable","template":"timetable-web@1","size":3}`,
			`{"name":"timetable","template":"timetable-web@1","size":3,"pools":[],"heal":"machine","heal_limit_percent":30,"shed":"outdated","spread":"even","above":1,"pin_new":false,"hooks_at_once":false,"settle_seconds":60,"drain_seconds":30}`},
		{"POST", "/v1/pools", `{"name":"front","listeners":[{"address":"127.0.0.1:8000"}],"check":"sailings-up","shares":[{"group":"timetable"}]}`,
			`{"name":"front","listeners":[{"address":"127.0.0.1:8000"}],"check":"sailings-up","shares":[{"group":"timetable","weight":100,"reserve":false}],"algorithm":"round-robin","when_none_healthy":"refuse","slow_start_seconds":0,"enough_percent":50}`},
		{"PATCH", "/v1/groups/:name", `{"size":3}`, `{"size":3}`},
		{"PATCH", "/v1/checks/:name", `{"fails":3}`, `{"fails":3}`},
		{"PATCH", "/v1/pools/:name", `{"check":"sailings-up"}`, `{"check":"sailings-up"}`},
	} {
		r, err := held(t, c.method, c.path, c.body)
		if err != nil {
			t.Errorf("%s %s: %v", c.method, c.path, err)
			continue
		}
		var got, want any
		if err := json.NewDecoder(r.Body).Decode(&got); err != nil || json.Unmarshal([]byte(c.want), &want) != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("%s %s is seen as %v, not %v", c.method, c.path, got, want)
		}
	}
	if r, err := held(t, "GET", "/v1/instances?group=timetable", ""); err != nil || r.URL.Query().Get("gone") != "false" || r.URL.Query().Get("limit") != "100" || r.URL.Query().Get("group") != "timetable" {
		t.Errorf("a list is asked as %v: %v", r, err)
	}
}

// TestEveryPatternHasItsHint: no person is answered with a regular expression.
func TestEveryPatternHasItsHint(t *testing.T) {
	spec, err := routes.GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	seen, found := map[*openapi3.Schema]bool{}, 0
	var look func(at string, s *openapi3.SchemaRef)
	look = func(at string, s *openapi3.SchemaRef) {
		if s == nil || s.Value == nil || seen[s.Value] {
			return
		}
		seen[s.Value] = true
		if s.Value.Pattern != "" {
			found++
			if hint, ok := s.Value.Extensions["x-hint"].(string); !ok || hint == "" || strings.ContainsAny(hint, `^\`) {
				t.Errorf("%s must match %s and has no hint (%q)", at, s.Value.Pattern, hint)
			}
		}
		look(at+"[]", s.Value.Items)
		look(at+"{}", s.Value.AdditionalProperties.Schema)
		for name, p := range s.Value.Properties {
			look(at+"."+name, p)
		}
	}
	for name, s := range spec.Components.Schemas {
		look(name, s)
	}
	for path, item := range spec.Paths.Map() {
		for method, o := range item.Operations() {
			for _, p := range o.Parameters {
				look(fmt.Sprintf("%s %s %s", method, path, p.Value.Name), p.Value.Schema)
			}
		}
	}
	if hint := spec.Components.Schemas["Name"].Value.Extensions["x-hint"]; hint != "is not a name: "+words.NamingRule {
		t.Errorf("the contract says of a name that it %s", hint)
	}
	if found < 7 {
		t.Errorf("only %d patterns were found", found)
	}
	if _, err := held(t, "POST", "/v1/groups", `{"name":"No","template":"x","size":1}`); err == nil || !strings.Contains(err.Error(), `"No" is not a name: a name begins`) || !strings.Contains(err.Error(), `"x" is not a version; give NAME@NUMBER`) {
		t.Errorf("a bad name is answered with %v", err)
	}
}
