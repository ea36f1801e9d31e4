package api

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/labstack/echo/v5"
)

// All that is wrong with a request is told at once: what the contract finds, and what the service
// finds in the rest. So a request that the contract refuses is tried once more without its bad
// fields, as a dry run; what that refuses is told as well.

// further is what the service finds wrong with the fields that the contract takes.
func (v *validator) further(c *echo.Context, route *routers.Route, next echo.HandlerFunc, faults []fieldFault) []fieldFault {
	dry := slices.ContainsFunc(route.Operation.Parameters, func(p *openapi3.ParameterRef) bool { return p.Value.Name == "dry_run" })
	if !dry || !takesJSON(route) || slices.ContainsFunc(faults, func(f fieldFault) bool { return !strings.HasPrefix(f.pointer, "/") }) {
		return nil
	}
	was, answer := c.Request(), c.Response()
	rest, ok := withoutFaults(was, route, faults)
	if !ok {
		return nil
	}
	r := was.Clone(was.Context())
	r.GetBody = nil // of the body as it was
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(rest.body)), int64(len(rest.body))
	r.Header.Del("Idempotency-Key")
	q := r.URL.Query()
	q.Set("dry_run", "true")
	r.URL.RawQuery = q.Encode()
	if openapi3filter.ValidateRequest(r.Context(), &openapi3filter.RequestValidationInput{Request: r, PathParams: pathParams(c), Route: route,
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}}) != nil {
		return nil
	}
	c.SetRequest(r)
	c.SetResponse(echo.NewResponse(nowhere{http.Header{}}, c.Logger()))
	p := toProblem(next(c))
	c.SetRequest(was)
	c.SetResponse(answer)
	if p == nil || p.kind != "invalid" {
		return nil
	}
	var out []fieldFault
	for _, f := range p.fields {
		if pointer, ok := rest.place(f); ok {
			out = append(out, fieldFault{pointer, f.detail})
		}
	}
	return out
}

// remains is a body without what was wrong with it.
type remains struct {
	body   []byte
	schema *openapi3.Schema
	gone   []string         // its fields that are gone or are others
	number bool             // one of them is a number
	kept   map[string][]int // where the elements of a list stood, of those of which some are gone
}

// withoutFaults takes the faulty fields out of a body, and of lists the faulty elements. One that
// must be there is given a value that the contract takes.
func withoutFaults(r *http.Request, route *routers.Route, faults []fieldFault) (rest remains, ok bool) {
	raw, err := io.ReadAll(io.LimitReader(r.Body, maxBody))
	r.Body = io.NopCloser(bytes.NewReader(raw))
	var fields map[string]any
	if err != nil || json.Unmarshal(raw, &fields) != nil || fields == nil {
		return rest, false
	}
	schema := route.Operation.RequestBody.Value.Content["application/json"].Schema.Value
	rest.schema, rest.kept = schema, map[string][]int{}
	bad := map[string][]int{}
	for _, f := range faults {
		parts := strings.Split(strings.TrimPrefix(f.pointer, "/"), "/")
		list, isList := fields[parts[0]].([]any)
		k := -1
		if isList && len(parts) > 1 {
			if n, err := strconv.Atoi(parts[1]); err == nil && n < len(list) {
				k = n
			}
		}
		bad[parts[0]] = append(bad[parts[0]], k)
	}
	for name, at := range bad {
		if list, isList := fields[name].([]any); isList && !slices.Contains(at, -1) {
			some := []any{}
			for k, v := range list {
				if !slices.Contains(at, k) {
					some, rest.kept[name] = append(some, v), append(rest.kept[name], k)
				}
			}
			fields[name] = some
			continue
		}
		rest.gone, rest.number = append(rest.gone, name), rest.number || isNumber(schema.Properties[name])
		delete(fields, name)
		if !slices.Contains(schema.Required, name) {
			continue
		}
		if fields[name], ok = anyOf(schema.Properties[name]); !ok {
			return rest, false
		}
	}
	rest.body, err = json.Marshal(fields)
	return rest, err == nil
}

// anyOf is a value that a schema takes, of the plain ones.
func anyOf(s *openapi3.SchemaRef) (any, bool) {
	if s == nil {
		return nil, false
	}
	for _, v := range append(slices.Clone(s.Value.Enum), "none", "none@1", "127.0.0.1:1", 1.0, false, []any{}, map[string]any{}) {
		if s.Value.VisitJSON(v) == nil {
			return v, true
		}
	}
	return nil, false
}

// place is where a fault of what remains is in the body as it was; one that may only follow from
// what is gone is not told. Numbers are compared with each other, so without one of them nothing
// is known of the others.
func (rest remains) place(f fieldFault) (pointer string, ok bool) {
	parts := strings.Split(strings.TrimPrefix(f.pointer, "/"), "/")
	if slices.Contains(rest.gone, parts[0]) || (rest.number && isNumber(rest.schema.Properties[parts[0]])) {
		return "", false
	}
	if kept := rest.kept[parts[0]]; kept != nil && len(parts) > 1 {
		if k, err := strconv.Atoi(parts[1]); err == nil && k < len(kept) {
			parts[1] = strconv.Itoa(kept[k])
		}
	}
	return "/" + strings.Join(parts, "/"), true
}

func isNumber(s *openapi3.SchemaRef) bool {
	return s != nil && s.Value.Type != nil && (s.Value.Type.Is("integer") || s.Value.Type.Is("number"))
}

// nowhere is an answer that nobody reads.
type nowhere struct{ header http.Header }

func (n nowhere) Header() http.Header       { return n.header }
func (nowhere) Write(p []byte) (int, error) { return len(p), nil }
func (nowhere) WriteHeader(int)             {}
