package api

import (
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"slices"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/labstack/echo/v5"

	"unitas/internal/api/routes"
	"unitas/internal/fleet/words"
)

// validator holds requests against the contract before a handler sees them.
type validator struct {
	routes map[string]*routers.Route // by method and path as Echo writes it
}

var pathParameter = regexp.MustCompile(`\{([^}]+)\}`)

func newValidator() (*validator, error) {
	spec, err := routes.GetSpec()
	if err != nil {
		return nil, fmt.Errorf("read the contract: %w", err)
	}
	v := &validator{routes: map[string]*routers.Route{}}
	for path, item := range spec.Paths.Map() {
		for method, operation := range item.Operations() {
			v.routes[method+" "+pathParameter.ReplaceAllString(path, ":$1")] = &routers.Route{
				Spec: spec, Server: spec.Servers[0], Path: path, PathItem: item, Method: method, Operation: operation,
			}
		}
	}
	return v, nil
}

func (v *validator) middleware(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		route := v.routes[c.Request().Method+" "+c.Path()]
		if route == nil {
			return next(c)
		}
		err := v.validate(c, route)
		if p := toProblem(err); p != nil && len(p.fields) > 0 {
			if more := v.further(c, route, next, p.fields); len(more) > 0 {
				err = invalidFields(append(p.fields, more...))
			}
		}
		if err != nil {
			return err
		}
		return next(c)
	}
}

func (v *validator) validate(c *echo.Context, route *routers.Route) error {
	r := c.Request()
	query, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return &problem{status: http.StatusBadRequest, kind: "invalid", detail: "The query of the address is not well formed; write a semicolon as %3B and a percent sign as %25."}
	}
	var faults []fieldFault
	for name, values := range query {
		for _, v := range values {
			if why := unfit(v, false); why != "" {
				faults = append(faults, fieldFault{words.Plain(name, 100), why})
			}
		}
		k := slices.IndexFunc(route.Operation.Parameters, func(p *openapi3.ParameterRef) bool {
			return p.Value.In == "query" && p.Value.Name == name
		})
		now := calledNow(route.Operation.Extensions, name)
		switch {
		case k < 0 && now != "":
			faults = append(faults, fieldFault{name, "is called " + now + " now"})
		case k < 0:
			faults = append(faults, fieldFault{words.Plain(name, 100), fmt.Sprintf("there is no parameter %q", words.Plain(name, 100))})
		case slices.Contains(values, "") && !route.Operation.Parameters[k].Value.Schema.Value.Type.Is("string"):
			faults = append(faults, fieldFault{name, "is empty; give a value, or leave it out"})
		}
	}
	if takesJSON(route) {
		if err := checkType(r); err != nil {
			return err
		}
		if err := checkJSON(r); err != nil {
			return err
		}
	}
	for _, p := range c.PathValues() {
		if why := unfit(p.Value, false); why != "" {
			faults = append(faults, fieldFault{p.Name, why})
		}
	}
	held := r
	if !takesJSON(route) {
		// The validator reads a whole body for its check of who asks, which is ours
		// to do; an upload must stream.
		held = r.Clone(r.Context())
		held.Body = http.NoBody
	}
	err = openapi3filter.ValidateRequest(r.Context(), &openapi3filter.RequestValidationInput{
		Request: held, PathParams: pathParams(c), Route: route,
		Options: &openapi3filter.Options{
			MultiError: true, ExcludeRequestBody: !takesJSON(route), AuthenticationFunc: openapi3filter.NoopAuthenticationFunc,
		},
	})
	faults = append(faults, faultsOf(err)...)
	r.URL.RawQuery = held.URL.RawQuery // with the defaults of what was left out
	if len(faults) == 0 {
		return nil
	}
	return invalidFields(faults)
}

func pathParams(c *echo.Context) map[string]string {
	params := map[string]string{}
	for _, p := range c.PathValues() {
		params[p.Name] = p.Value
	}
	return params
}

// checkType refuses a body that says it is something else than JSON.
func checkType(r *http.Request) error {
	said := r.Header.Get("Content-Type")
	kind, _, err := mime.ParseMediaType(said)
	if err == nil && kind == "application/json" {
		return nil
	}
	detail := "The request does not say what its body is; send it as JSON with the header Content-Type: application/json."
	if said != "" {
		detail = fmt.Sprintf("The body is said to be %q; send it as JSON with the header Content-Type: application/json.", words.Plain(said, 100))
	}
	return &problem{status: http.StatusUnsupportedMediaType, kind: "invalid", detail: detail}
}

func takesJSON(route *routers.Route) bool {
	body := route.Operation.RequestBody
	return body != nil && body.Value.Content["application/json"] != nil
}
