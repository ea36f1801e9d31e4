package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"unitas/api/contract"
)

func serve(t *testing.T, h http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	c, err := Connect(s.URL+"/", "secret")
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestReadAndRefusal(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer secret" {
			t.Error("no token was sent")
		}
		if r.URL.Path != "/v1/groups/stranger" {
			w.Header().Set(contract.VersionHeader, "1")
		}
		switch r.URL.Path {
		case "/v1/groups/stranger":
			fmt.Fprint(w, `{"fares":[]}`)
		case "/v1/groups/timetable":
			w.Header().Set("ETag", `"7"`)
			fmt.Fprint(w, `{"name":"timetable","size":6}`)
		case "/v1/groups/nope":
			w.WriteHeader(404)
			fmt.Fprint(w, `{"type":"urn:unitas:problem:not-found","title":"There is no such thing","status":404,"detail":"There is no group nope."}`)
		default:
			w.WriteHeader(502)
			fmt.Fprint(w, "<html>")
		}
	})
	g, etag, err := Read[contract.Group](c.GetGroup(context.Background(), "timetable"))
	if err != nil || g.Size != 6 || etag != `"7"` {
		t.Errorf("%+v %s %v", g, etag, err)
	}
	if _, _, err = Read[contract.Group](c.GetGroup(context.Background(), "nope")); !Is(err, "not-found") || err.Error() != "There is no group nope" {
		t.Errorf("the refusal is %v", err)
	}
	if _, _, err = Read[contract.Group](c.GetGroup(context.Background(), "stranger")); !errors.Is(err, ErrStranger) {
		t.Errorf("an answer of something else is %v", err)
	}
	if _, _, err = Read[contract.Group](c.GetGroup(context.Background(), "x")); err == nil || err.Error() != "the service answered 502 Bad Gateway" {
		t.Errorf("an answer that is no problem is %v", err)
	}
}

// TestEventsAreTakenUp breaks the stream off after each event: the client
// comes back with the id of the last.
func TestEventsAreTakenUp(t *testing.T) {
	var came []string
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		last := r.Header.Get("Last-Event-ID")
		came = append(came, last)
		if r.URL.Query().Get("group") != "timetable" {
			t.Errorf("asked for %s", r.URL)
		}
		fmt.Fprintf(w, "retry: 1000\n\n: a comment\n\nid: %s1\nevent: journal\ndata: {\"number\":\ndata: 1}\n\n", last)
	})
	over := errors.New("seen enough")
	var seen []string
	err := c.Events(context.Background(), "timetable", nil, func(e Event) error {
		seen = append(seen, e.ID+e.Kind+string(e.Data))
		if len(seen) == 2 {
			return over
		}
		return nil
	})
	if !errors.Is(err, over) || fmt.Sprint(came) != "[ 1]" || seen[1] != `11journal{"number":1}` {
		t.Errorf("%v, came with %q, saw %q", err, came, seen)
	}
}
