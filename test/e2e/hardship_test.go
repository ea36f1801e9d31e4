package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/pgserver/pgtest"
)

// poisons are what no column can hold, and what none should.
var poisons = []struct {
	name  string
	value any
}{
	{"NUL", "a\x00b"}, {"a control character", "a\x1b[2Jb"}, {"a lone NUL", "\x00"}, {"very long", strings.Repeat("a", 70_000)}, {"a large integer", json.Number("9223372036854775807")},
	{"one beyond any", json.Number("1" + strings.Repeat("0", 40))}, {"a large number", json.Number("1e300")}, {"less than nothing", json.Number("-9223372036854775808")},
}

// TestNothingSentFails sends every operation of the contract every poison in every
// parameter, header and field: the answer blames the request, never the service.
func TestNothingSentFails(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	spec, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	sent := 0
	send := func(what, method, path string, body []byte, headers http.Header) {
		t.Helper()
		req, err := http.NewRequest(method, "http://"+s.listen+path, bytes.NewReader(body))
		if err != nil {
			return // what cannot be sent does no harm
		}
		req.Header = headers.Clone()
		req.Header.Set("Authorization", "Bearer "+s.token)
		if req.Header.Get("If-Match") == "" {
			req.Header.Set("If-Match", "*")
		}
		c := http.Client{Timeout: 30 * time.Second}
		res, err := c.Do(req)
		if err != nil {
			t.Errorf("%s: %v", what, err)
			return
		}
		defer res.Body.Close()
		raw, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		sent++
		if res.StatusCode >= 500 {
			t.Errorf("%s: %s: %s", what, res.Status, raw)
		}
	}
	jsonHeader := http.Header{"Content-Type": {"application/json"}}
	for _, path := range slices.Sorted(func(yield func(string) bool) {
		for p := range spec.Paths.Map() {
			if !yield(p) {
				return
			}
		}
	}) {
		item := spec.Paths.Find(path)
		for method, op := range item.Operations() {
			if op.OperationID == "watchEvents" {
				continue // it has no end
			}
			usual := strings.NewReplacer("{name}", "timetable", "{version}", "1", "{id}", "timetable-001", "{number}", "1", "{mark}", "stable", "{region}", "harbour", "{address}", "127.0.0.1:1").Replace(path)
			for _, p := range append(slices.Clone(op.Parameters), item.Parameters...) {
				for _, poison := range []string{"a%00b", "a%FFb", "%1b[2J", "99999999999999999999", "-1", "1e300", "9223372036854775807", strings.Repeat("9", 9)} {
					what := fmt.Sprintf("%s %s with %s=%s", method, path, p.Value.Name, poison)
					switch p.Value.In {
					case "path":
						send(what, method, strings.Replace(path, "{"+p.Value.Name+"}", poison, 1), []byte("{}"), jsonHeader)
					case "query":
						send(what, method, usual+"?"+p.Value.Name+"="+poison, []byte("{}"), jsonHeader)
					case "header":
						h := jsonHeader.Clone()
						h.Set(p.Value.Name, strings.NewReplacer("%00", "", "%FF", "\xff", "%1b", "").Replace(poison))
						send(what, method, usual, []byte("{}"), h)
					}
				}
			}
			if op.RequestBody == nil || op.RequestBody.Value.Content["application/json"] == nil || op.OperationID == "runCommand" {
				continue
			}
			schema := op.RequestBody.Value.Content["application/json"].Schema.Value
			good := example(schema, 0)
			for _, at := range leaves(good, nil) {
				for _, poison := range poisons {
					raw, err := json.Marshal(with(good, at, poison.value))
					if err != nil {
						t.Fatal(err)
					}
					send(fmt.Sprintf("%s %s with %s at %v", method, path, poison.name, at), method, usual+dry(op), raw, jsonHeader)
				}
			}
		}
	}
	t.Logf("%d requests", sent)
	if sent < 1000 {
		t.Errorf("only %d requests were sent", sent)
	}
	s.whole(4) // and nothing of it did any harm
}

// dry asks for a dry run where there is one.
func dry(op *openapi3.Operation) string {
	for _, p := range op.Parameters {
		if p.Value.Name == "dry_run" {
			return "?dry_run=true"
		}
	}
	return ""
}

// example is a value that the schema allows, with every field.
func example(s *openapi3.Schema, depth int) any {
	switch {
	case s.Example != nil:
		return s.Example
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Default != nil && !s.Type.Is("array") && !s.Type.Is("object"):
		return s.Default
	case s.Type.Is("object"):
		out := map[string]any{}
		for name, p := range s.Properties {
			if depth < 4 {
				out[name] = example(p.Value, depth+1)
			}
		}
		if s.AdditionalProperties.Schema != nil {
			out["service"] = example(s.AdditionalProperties.Schema.Value, depth+1)
		}
		return out
	case s.Type.Is("array"):
		return []any{example(s.Items.Value, depth+1)}
	case s.Type.Is("integer"), s.Type.Is("number"):
		if s.Min != nil {
			return *s.Min
		}
		return 1
	case s.Type.Is("boolean"):
		return false
	case strings.HasPrefix(s.Pattern, "^[a-z](?:[a-z0-9-]"):
		return "timetable"
	case s.Pattern == "^/":
		return "/up"
	}
	return "x"
}

// leaves are the places of all values in v that hold no others.
func leaves(v any, at []string) [][]string {
	switch v := v.(type) {
	case map[string]any:
		var all [][]string
		for name, inner := range v {
			all = append(all, leaves(inner, append(slices.Clone(at), name))...)
		}
		return all
	case []any:
		return leaves(v[0], append(slices.Clone(at), "0"))
	}
	return [][]string{at}
}

// with is v with another value at a place.
func with(v any, at []string, value any) any {
	if len(at) == 0 {
		return value
	}
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for name, inner := range v {
			out[name] = inner
		}
		out[at[0]] = with(v[at[0]], at[1:], value)
		return out
	case []any:
		return []any{with(v[0], at[1:], value)}
	}
	return v
}

// TestDeepBodies: brackets end no service.
func TestDeepBodies(t *testing.T) {
	s := start(t)
	for _, body := range []string{strings.Repeat("[", 40<<10), strings.Repeat("[", 98<<10), strings.Repeat(`{"a":`, 100<<10), strings.Repeat("[", 1<<20)} {
		if status, _, answer := s.call("POST", "/v1/groups", body); status != 400 && status != 413 {
			t.Errorf("%d brackets are answered %d %s", len(body), status, answer)
		}
	}
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(raw), "VmHWM:")
	var kib int
	if _, err := fmt.Sscan(rest, &kib); err != nil || kib > 400<<10 {
		t.Errorf("they took %d KiB: %v", kib, err)
	}
}

// TestSameKeyOtherBody: what is asked under a key is told apart by all of it, however
// its kind is written; an upload without a digest by its bytes.
func TestSameKeyOtherBody(t *testing.T) {
	t.Parallel()
	s := start(t)
	body := func(name string) string { return fmt.Sprintf(`{"name":"%s","kind":"tcp"}`, name) }
	with := []string{"Idempotency-Key", "one", "Content-Type", "application/json; charset=utf-8"}
	if status, _, answer := s.call("POST", "/v1/checks", body("sailings-up"), with...); status != 201 {
		t.Fatalf("%d %s", status, answer)
	}
	if status, h, _ := s.call("POST", "/v1/checks", body("sailings-up"), with...); status != 201 || h.Get("Answer-Repeated") != "true" {
		t.Errorf("the same again is answered %d", status)
	}
	if status, _, answer := s.call("POST", "/v1/checks", body("sailings-no"), with...); status != 422 || !strings.Contains(answer, "another request") {
		t.Errorf("another of the same length is answered %d %s", status, answer)
	}
	one := archive(t, "timetable-1")
	other := slices.Clone(one)
	other[len(other)-1] ^= 1
	upload := []string{"Idempotency-Key", "two", "Content-Type", "application/octet-stream"}
	if status, _, answer := s.call("POST", "/v1/images?name=timetable", string(one), upload...); status != 201 {
		t.Fatalf("%d %s", status, answer)
	}
	if status, h, answer := s.call("POST", "/v1/images?name=timetable", string(one), upload...); status != 201 || h.Get("Answer-Repeated") != "true" {
		t.Errorf("the same upload is answered %d %s", status, answer)
	}
	if status, _, answer := s.call("POST", "/v1/images?name=timetable", string(other), upload...); status != 422 || !strings.Contains(answer, "another request") {
		t.Errorf("another upload of the same length is answered %d %s", status, answer)
	}
}

// TestManyConnections: more connections than there is room for, idle or half asked,
// keep nobody out of the interface; nor do those of the listeners.
func TestManyConnections(t *testing.T) {
	s := startOn(t, pgtest.Database(t), func(s *service) { s.files = 512 })
	s.stock()
	s.group(20)
	for _, address := range []string{s.listen, s.front} {
		var held []net.Conn
		for n := range 700 {
			c, err := net.DialTimeout("tcp", address, 5*time.Second)
			if err != nil {
				break // we may have no more ourselves
			}
			held = append(held, c)
			if n%2 == 0 {
				fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
			}
		}
		defer func() {
			for _, c := range held {
				c.Close()
			}
		}()
		fresh := http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
		begun := time.Now()
		for _, u := range []string{"http://" + s.listen + "/readyz", "http://" + s.front + "/"} {
			res, err := fresh.Get(u)
			if err != nil {
				t.Errorf("with %d connections to %s, %s is not answered: %v", len(held), address, u, err)
				continue
			}
			res.Body.Close()
			if res.StatusCode != http.StatusOK {
				t.Errorf("%s is answered %s", u, res.Status)
			}
		}
		if took := time.Since(begun); took > 5*time.Second {
			t.Errorf("it took %s", took)
		}
	}
	s.whole(4)
}

// TestStalledServiceBlamesNobody: a service that stood still for longer than answers
// may take blames no instance for what it did not see.
func TestStalledServiceBlamesNobody(t *testing.T) {
	s := start(t)
	s.stock()
	fails, timeout := 1, 0.2 // one bad answer would be enough
	whatever := "*"
	must[contract.Check](t)(client.Read[contract.Check](s.api.ChangeCheck(ctx, "sailings-up", &contract.ChangeCheckParams{IfMatch: &whatever}, contract.CheckChange{Fails: &fails, TimeoutSeconds: &timeout})))
	s.group(20)
	for range 5 {
		if err := s.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		<-time.After(700 * time.Millisecond)
		if err := s.cmd.Process.Signal(syscall.SIGCONT); err != nil {
			t.Fatal(err)
		}
		<-time.After(300 * time.Millisecond)
	}
	s.whole(4)
	for _, e := range s.journal("verdict.unhealthy") {
		t.Errorf("%s %s", e.Text, e.Because)
	}
}

// TestFullDisk: below the room that is to stay free nothing new comes in, everybody is
// told, what runs goes on; with room again all goes on by itself.
func TestFullDisk(t *testing.T) {
	s := start(t)
	s.stock()
	s.group(20)
	s.stop(syscall.SIGTERM)
	s.flags = []string{"--keep-free", "1000000TiB"}
	s.upAnyhow()
	res, err := http.Get("http://" + s.listen + "/readyz")
	if err != nil {
		t.Fatal(err)
	}
	raw, _ := io.ReadAll(res.Body)
	res.Body.Close()
	if res.StatusCode != http.StatusServiceUnavailable || !strings.Contains(string(raw), "The disk of the service has ") || strings.Contains(string(raw), s.dir) {
		t.Errorf("readyz says %s %s", res.Status, raw)
	}
	service := must[contract.Service](t)(client.Read[contract.Service](s.api.GetService(ctx)))
	if len(service.Troubles) != 1 || !strings.Contains(service.Troubles[0], "kept free") {
		t.Errorf("the service says %v", service.Troubles)
	}
	if status, _, answer := s.call("POST", "/v1/images?name=berths", string(archive(t, "timetable-1")), "Content-Type", "application/octet-stream"); status != http.StatusInsufficientStorage || !strings.Contains(answer, "kept free") {
		t.Errorf("an image is answered %d %s", status, answer)
	}
	s.whole(4)
	whatever, size := "*", 5
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
	s.eventually("the launch is refused", func() error {
		for _, e := range s.journal("instance.leaving") {
			if strings.Contains(e.Because, "are kept free") {
				return nil
			}
		}
		return errors.New("no launch was refused")
	})
	s.stop(syscall.SIGTERM)
	s.flags = nil
	s.up()
	s.whole(5)
}

// TestManyChangesAtOnce: sixty changes of one pool at once are all answered, and the
// service goes on meanwhile.
func TestManyChangesAtOnce(t *testing.T) {
	s := start(t)
	s.stock()
	s.group(20)
	var all sync.WaitGroup
	begun := time.Now()
	for n := range 60 {
		all.Go(func() {
			status, _, answer := s.call("PATCH", "/v1/pools/front", fmt.Sprintf(`{"enough_percent":%d}`, 1+n), "If-Match", "*")
			if status != 200 {
				t.Errorf("change %d is answered %d %s", n, status, answer)
			}
		})
	}
	all.Wait()
	if took := time.Since(begun); took > 20*time.Second {
		t.Errorf("they took %s", took)
	}
	if err := answers("http://" + s.listen + "/readyz"); err != nil {
		t.Error(err)
	}
	s.whole(4)
}

// TestSlowBodies: a body that comes a byte at a time is given up.
func TestSlowBodies(t *testing.T) {
	t.Parallel()
	s := start(t)
	c, err := net.Dial("tcp", s.listen)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "POST /v1/checks HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n", s.token)
	done := make(chan struct{})
	defer close(done)
	go func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(200 * time.Millisecond):
				fmt.Fprint(c, " ")
			}
		}
	}()
	_ = c.SetReadDeadline(time.Now().Add(40 * time.Second))
	raw := make([]byte, 4<<10)
	n, err := c.Read(raw)
	if err != nil || !strings.Contains(string(raw[:n]), "408") || !strings.Contains(string(raw[:n]), "came too slowly") {
		t.Errorf("it is answered %q: %v", raw[:n], err)
	}
}
