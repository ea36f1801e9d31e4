package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/image"
	"unitas/internal/waittest"
)

// call makes one raw request and reads the whole answer.
func (s *service) call(method, path, body string, headers ...string) (status int, h http.Header, answer string) {
	s.t.Helper()
	req, err := http.NewRequest(method, "http://"+s.listen+path, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	return res.StatusCode, res.Header, string(raw)
}

// TestOtherThanJSON: a body that says it is something else is not read as JSON.
func TestOtherThanJSON(t *testing.T) {
	t.Parallel()
	s := start(t)
	for _, kind := range []string{"text/plain", "application/x-www-form-urlencoded", "application/xml; charset=utf-8", "json"} {
		status, h, body := s.call("POST", "/v1/checks", `{"name":"c","kind":"tcp"}`, "Content-Type", kind)
		if status != 415 || h.Get("Content-Type") != "application/problem+json" || !strings.Contains(body, "send it as JSON with the header Content-Type: application/json") {
			t.Errorf("%s is answered with %d %s", kind, status, body)
		}
	}
	if status, _, body := s.call("POST", "/v1/checks", `{"name":"c","kind":"tcp"}`, "Content-Type", "application/json; charset=utf-8"); status != 201 {
		t.Errorf("JSON with its characters named is answered with %d %s", status, body)
	}
}

// TestBadInput: each mistake is answered with a problem that names the field
// and what to do.
func TestBadInput(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	group := func(fields string) string {
		return `{"name":"berths","template":"timetable-web@1","size":3` + fields + `}`
	}
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		pointer, says            string
	}{
		{"an unknown field", "POST", "/v1/groups", group(`,"colour":"red"`), 422, "/colour", "no such field"},
		{"a wrong type", "POST", "/v1/groups", group(`,"max":"nine"`), 422, "/max", `"nine" is not a whole number`},
		{"a field that is missing", "POST", "/v1/groups", `{"name":"berths","size":3}`, 422, "/template", "is missing"},
		{"under the bound", "POST", "/v1/groups", group(`,"min":-1`), 422, "/min", "give 0 or more"},
		{"min over max", "POST", "/v1/groups", group(`,"min":5,"max":4`), 422, "/min", "5 is over the max of 4; raise max as well"},
		{"size over max", "POST", "/v1/groups", group(`,"max":2`), 422, "/size", "between min (1) and max (2)"},
		{"a name against the rule", "POST", "/v1/groups", `{"name":"Berths_","template":"timetable-web@1","size":1}`, 422, "/name", "begins with a lower-case letter"},
		{"a zone that is not there", "POST", "/v1/groups", group(`,"zones":["east-pier","moon"]`), 422, "/zones/1", "there are east-pier, mid-pier, west-pier"},
		{"a zone twice", "POST", "/v1/groups", group(`,"zones":["east-pier","east-pier"]`), 422, "/zones/1", "named twice"},
		{"a pool that is not there", "POST", "/v1/groups", group(`,"pools":["back"]`), 422, "/pools/0", "unitas pool create back"},
		{"a healing check that is not there", "POST", "/v1/groups", group(`,"heal":"nope"`), 422, "/heal", "none of off, machine and traffic"},
		{"a version that does not exist", "POST", "/v1/groups", `{"name":"berths","template":"timetable-web@9","size":1}`, 422, "/template", "there is no template timetable-web@9"},
		{"a version that is none", "POST", "/v1/groups", `{"name":"berths","template":"timetable-web","size":1}`, 422, "/template", "NAME@NUMBER"},
		{"a group twice", "POST", "/v1/groups", `{"name":"timetable","template":"timetable-web@1","size":1}`, 409, "", "There is a group timetable already"},
		{"waves that go down", "POST", "/v1/groups/timetable/rollouts", `{"to":"timetable-web@2","waves":["50%","20%","100%"]}`, 422, "/waves", "must go up"},
		{"waves that end early", "POST", "/v1/groups/timetable/rollouts", `{"to":"timetable-web@2","waves":["1","50%"]}`, 422, "/waves", "must be 100%"},
		{"a wave that is none", "POST", "/v1/groups/timetable/rollouts", `{"to":"timetable-web@2","waves":["all"]}`, 422, "/waves/0", ""},
		{"no room for a rollout", "POST", "/v1/groups/timetable/rollouts", `{"to":"timetable-web@2","above":0}`, 422, "/above", "give one of them at least 1"},
		{"a rollout to where it is", "POST", "/v1/groups/timetable/rollouts", `{"to":"timetable-web@1"}`, 422, "/to", "is on timetable-web@1 already"},
		{"a rollout of nothing", "POST", "/v1/groups/nope/rollouts", `{"to":"timetable-web@2"}`, 404, "", "There is no group nope"},
		{"a template of no image", "POST", "/v1/templates", `{"name":"berths-api","image":"berths@1"}`, 422, "/image", "there is no image berths@1"},
		{"a variable of the service's own", "POST", "/v1/templates", `{"name":"b","image":"timetable@1","environment":{"UNITAS_ZONE":"x"}}`, 422, "/environment/UNITAS_ZONE", "not the name of a variable"},
		{"a revision without a note", "POST", "/v1/templates/timetable-web", `{"image":"timetable@2"}`, 422, "/note", "is missing"},
		{"a timeout over the interval", "POST", "/v1/checks", `{"name":"c","kind":"http","interval_seconds":1,"timeout_seconds":2}`, 422, "/timeout_seconds", "longer than the interval"},
		{"a kind of check that is none", "POST", "/v1/checks", `{"name":"c","kind":"icmp"}`, 422, "/kind", "not one of http, https, tcp, grpc"},
		{"an address that is none", "POST", "/v1/pools", `{"name":"p","listeners":[{"address":"harbour:80"}],"check":"sailings-up"}`, 422, "/listeners/0/address", "127.0.0.1:8000"},
		{"a certificate that is none", "POST", "/v1/pools", `{"name":"p","listeners":[{"address":"127.0.0.1:8443","certificate":"saltmere"}],"check":"sailings-up"}`, 422, "/listeners/0/certificate", "there are none in"},
		{"a certificate by its file", "POST", "/v1/pools", `{"name":"p","listeners":[{"address":"127.0.0.1:8443","certificate":"/etc/passwd"}],"check":"sailings-up"}`, 422, "/listeners/0/certificate", "not the name of a certificate"},
		{"a share of nobody", "PATCH", "/v1/pools/front", `{"shares":[{"group":"ferries"}]}`, 422, "/shares/0/group", "there is no group ferries"},
		{"a drill without an instance", "POST", "/v1/drills", `{"kind":"hang"}`, 422, "/instance", "there is no instance"},
		{"a zone that is none", "POST", "/v1/drills", `{"kind":"zone","zone":"far-pier"}`, 422, "/zone", "there is no zone"},
		{"costs by nothing", "GET", "/v1/costs?by=label:", "", 422, "by", "group, zone or label:NAME"},
		{"a spread that is none", "POST", "/v1/groups?dry_run=true", `{"name":"g","template":"timetable-web@1","size":1,"spread":"wide"}`, 422, "/spread", "even"},
		{"several at once", "POST", "/v1/checks", `{"name":"X","kind":"icmp","port":0}`, 422, "/port", "give 1 or more"},
		{"a key twice", "POST", "/v1/checks", `{"name":"c","name":"d","kind":"tcp"}`, 400, "", "/name is given twice"},
		{"more after the end", "POST", "/v1/checks", `{"name":"c","kind":"tcp"} {}`, 400, "", "goes on after"},
		{"no JSON", "POST", "/v1/checks", `{"name":`, 400, "", "ends too early"},
		{"a parameter that is none", "GET", "/v1/groups?colour=red", "", 422, "colour", "there is no parameter"},
		{"a limit over the bound", "GET", "/v1/groups?limit=5000", "", 422, "limit", "give 1000 or less"},
		{"a cursor that is none", "GET", "/v1/groups?after=!!", "", 422, "after", "is not the `next`"},
		{"a path that is none", "GET", "/v1/colours", "", 404, "", "nothing at this path"},
		{"a method that is none", "PUT", "/v1/groups", "", 405, "", "does not take this method"},
		{"a number that is none", "GET", "/v1/groups?limit=x", "", 422, "limit", `"x" is not a whole number`},
		{"a time in words", "POST", "/v1/groups", group(`,"drain_seconds":7200`), 422, "/drain_seconds", "2h is too long; give 1h or less"},
		{"a size in words", "POST", "/v1/templates", `{"name":"b","image":"timetable@1","memory_bytes":512}`, 422, "/memory_bytes", "512 bytes is too little; give 1MiB or more"},
		{"a list that should be none", "POST", "/v1/groups", `[]`, 422, "", "a list is not an object with fields"},
		{"null", "PATCH", "/v1/groups/timetable", `{"size":true}`, 422, "/size", "true is not a whole number"},
		{"a change without a revision", "PATCH", "/v1/groups/timetable", `{"size":5}`, 428, "", "If-Match"},
		{"a size over max", "PATCH", "/v1/groups/timetable", `{"size":50}`, 422, "/size", "50 is not between min (1) and max (9)"},
	} {
		headers := []string{}
		if c.status != 428 && c.method == "PATCH" {
			headers = []string{"If-Match", "*"}
		}
		status, h, body := s.call(c.method, c.path, c.body, headers...)
		var p contract.Problem
		if err := json.Unmarshal([]byte(body), &p); err != nil || h.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: the answer is no problem: %d %s", c.name, status, body)
			continue
		}
		if status != c.status || p.Status != status || !strings.HasPrefix(p.Type, "urn:unitas:problem:") {
			t.Errorf("%s: status %d, want %d: %s", c.name, status, c.status, body)
		}
		if p.Errors == nil {
			t.Errorf("%s: nothing says where it is: %s", c.name, body)
		}
		for _, word := range []string{"json:", "strconv", "EOF", "unmarshal", "dial tcp", "e+0", "syntax", "schema"} {
			if strings.Contains(body, word) {
				t.Errorf("%s: %s is no word for a person: %s", c.name, word, body)
			}
		}
		detail := ""
		if p.Detail != nil {
			detail = *p.Detail
		}
		named := c.pointer == ""
		if p.Errors != nil {
			named = named || slices.ContainsFunc(*p.Errors, func(e contract.Fault) bool { return e.Pointer == c.pointer })
		}
		if !named || !strings.Contains(detail, c.says) {
			t.Errorf("%s: %s is not named, or %q not said: %s", c.name, c.pointer, c.says, body)
		}
	}
	s.whole(4) // and nothing came of it
}

func TestBadArchives(t *testing.T) {
	t.Parallel()
	s := start(t)
	good := archive(t, "timetable-1")
	for name, c := range map[string]struct {
		raw  []byte
		says string
	}{
		"cut off":                            {good[:len(good)/2], "it was cut off"},
		"no archive":                         {[]byte("hello"), "make an archive with: tar -czf"},
		"empty":                              {nil, "make an archive with: tar -czf"},
		"one that would leave its directory": {packed(t, image.File{Name: "../../etc/cron.d/x", Content: []byte("x")}), `entry "../../etc/cron.d/x" would leave the machine's directory`},
	} {
		_, _, err := client.Read[contract.Image](s.api.ImportImageWithBody(ctx, &contract.ImportImageParams{Name: "timetable"}, "application/octet-stream", bytes.NewReader(c.raw)))
		var e *client.Error
		if !errors.As(err, &e) || e.Status != 422 || !strings.Contains(e.Error(), "The image is refused: ") || !strings.Contains(e.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	name := "timetable"
	if images := must[contract.ImageList](t)(client.Read[contract.ImageList](s.api.ListImages(ctx, &contract.ListImagesParams{Name: &name}))); len(images.Items) != 0 {
		t.Errorf("there are %+v", images.Items)
	}
}

func TestTokens(t *testing.T) {
	t.Parallel()
	s := start(t)
	for _, path := range []string{"/v1/groups", "/metrics", "/v1/events"} {
		for _, authorization := range []string{"", "Bearer nope", "Basic YTpi"} {
			if status, h, body := s.call("GET", path, "", "Authorization", authorization); status != 401 || h.Get("WWW-Authenticate") == "" || !strings.Contains(body, "token") {
				t.Errorf("%s with %q: %d %s", path, authorization, status, body)
			}
		}
	}
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/openapi.json": `"openapi":"3.0.3"`, "/": "<!doctype html>"} {
		if status, _, body := s.call("GET", path, "", "Authorization", ""); status != 200 || !strings.Contains(body, want) {
			t.Errorf("%s is answered %d %.80s", path, status, body)
		}
	}
	if status, _, body := s.call("GET", "/metrics", ""); status != 200 || !strings.Contains(body, "unitas_decision_seconds") || !strings.Contains(body, "unitas_probes_total") {
		t.Errorf("the metrics are %d %.200s", status, body)
	}
	for _, path := range []string{"/v1/groups", "/healthz", "/"} {
		if status, h, body := s.call("HEAD", path, ""); status != 200 || body != "" || h.Get("Content-Type") == "" {
			t.Errorf("HEAD %s is answered %d %q", path, status, body)
		}
	}
	if status, _, _ := s.call("GET", "/assets/missing.js", "", "Authorization", ""); status != 404 {
		t.Errorf("a missing asset is answered %d", status)
	}
}

func TestRevisionsAndRepeats(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	_, h, _ := s.call("GET", "/v1/groups/timetable", "")
	etag := h.Get("ETag")
	if status, _, body := s.call("PATCH", "/v1/groups/timetable", `{"size":5}`, "If-Match", etag); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	status, _, body := s.call("PATCH", "/v1/groups/timetable", `{"size":2}`, "If-Match", etag)
	if status != 412 || !strings.Contains(body, "changed since it was read") {
		t.Errorf("a stale change is answered %d %s", status, body)
	}
	s.whole(5) // the stale one did nothing

	create := `{"name":"up","kind":"tcp"}`
	key := []string{"Idempotency-Key", "k-1"}
	status, _, first := s.call("POST", "/v1/checks", create, key...)
	again, h, second := s.call("POST", "/v1/checks", create, key...)
	if status != 201 || again != 201 || first != second || h.Get("Answer-Repeated") != "true" {
		t.Errorf("the same key gave %d and %d: %s %s", status, again, first, second)
	}
	if status, _, body := s.call("POST", "/v1/checks", `{"name":"other","kind":"tcp"}`, key...); status != 422 || !strings.Contains(body, "used for another request") {
		t.Errorf("the key for another request: %d %s", status, body)
	}
	if status, _, _ := s.call("POST", "/v1/checks", create); status != 409 {
		t.Errorf("without the key the second is answered %d", status)
	}
}

func TestPagesAndEvents(t *testing.T) {
	t.Parallel()
	s := start(t)
	var want []string
	for n := range 7 {
		name := fmt.Sprintf("check-%d", n)
		s.call("POST", "/v1/checks", fmt.Sprintf(`{"name":%q,"kind":"tcp"}`, name))
		want = append(want, name)
	}
	var got []string
	next := ""
	for {
		_, _, body := s.call("GET", "/v1/checks?limit=3&after="+next, "")
		var page contract.CheckList
		if err := json.Unmarshal([]byte(body), &page); err != nil {
			t.Fatal(err)
		}
		for _, c := range page.Items {
			got = append(got, c.Name)
		}
		if page.Next == nil {
			break
		}
		next = *page.Next
	}
	if !slices.Equal(got, want) {
		t.Errorf("the pages hold %v", got)
	}

	// A reader that comes back gets what it missed, once.
	watch, stop := context.WithCancel(t.Context())
	defer stop()
	events := make(chan client.Event, 100)
	ready := make(chan bool, 10)
	go func() {
		_ = s.api.Events(watch, "", func() { ready <- true }, func(e client.Event) error { events <- e; return nil })
	}()
	waittest.For(t, "the stream", ready)
	s.call("POST", "/v1/checks", `{"name":"seen","kind":"tcp"}`)
	first := waittest.For(t, "the event", events)
	if !strings.Contains(string(first.Data), "check.created") || first.Kind != "journal" {
		t.Errorf("the event is %+v", first)
	}
	stop()
	s.call("POST", "/v1/checks", `{"name":"missed","kind":"tcp"}`)
	watch, stop = context.WithCancel(t.Context())
	defer stop()
	res, err := s.api.WatchEvents(watch, &contract.WatchEventsParams{LastEventID: &first.ID})
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	var stream strings.Builder
	buf := make([]byte, 1024)
	for !strings.Contains(stream.String(), "missed") {
		n, err := res.Body.Read(buf)
		stream.Write(buf[:n])
		if err != nil {
			t.Fatalf("the stream ended: %v, %s", err, stream.String())
		}
	}
	if strings.Contains(stream.String(), "seen is made") {
		t.Errorf("an event came twice: %s", stream.String())
	}
}
