package api

import (
	"testing"

	"github.com/labstack/echo/v5"

	"unitas/internal/api/routes"
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
