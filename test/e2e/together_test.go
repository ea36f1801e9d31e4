package e2e

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"unitas/api/contract"
)

// TestAllThatIsWrongAtOnce: what the contract refuses and what the service knows to be wrong with
// the rest are told in one answer, nothing is told that only follows from a field that was refused,
// and nothing is made.
func TestAllThatIsWrongAtOnce(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	before := len(s.journal(""))
	for _, c := range []struct {
		name, method, path, body string
		pointers                 string
	}{
		{"of a group", "POST", "/v1/groups", `{"name":"Berths_","template":"timetable-web@9","size":1,"zones":["moon"],"colour":"red","heal":"nope"}`, "/colour /heal /name /template /zones/0"},
		{"a size that is none, of which the min is no more", "POST", "/v1/groups", `{"name":"berths","template":"timetable-web@1","size":"x","min":5,"pools":["back"]}`, "/pools/0 /size"},
		{"one of a list", "POST", "/v1/groups", `{"name":"berths","template":"timetable-web@1","size":1,"zones":[7,"east-pier","moon"]}`, "/zones/0 /zones/2"},
		{"what must be there is not", "POST", "/v1/groups", `{"size":1,"template":"timetable-web@1","pools":["back"]}`, "/name /pools/0"},
		{"of a pool", "POST", "/v1/pools?dry_run=true", `{"name":"p","check":"nope","algorithm":"any","listeners":[{"address":"harbour:80"}]}`, "/algorithm /check /listeners/0/address"},
		{"of a change", "PATCH", "/v1/pools/front", `{"algorithm":"any","shares":[{"group":"ferries"}],"weights":{"nobody":5}}`, "/algorithm /shares/0/group /weights/nobody"},
		{"of a rollout", "POST", "/v1/groups/timetable/rollouts", `{"to":"timetable-web@1","soak_seconds":-1}`, "/soak_seconds /to"},
		{"of a rollout's waves", "POST", "/v1/groups/timetable/rollouts", `{"to":"timetable-web@2","waves":["50%","20%"],"order":"any"}`, "/order /waves"},
		{"of a template", "POST", "/v1/templates", `{"name":"b","image":"nope@1","port":0}`, "/image /port"},
		{"of a notice", "POST", "/v1/notices", `{"name":"n","topics":["heals"],"send":"nowhere","gather_seconds":-1}`, "/gather_seconds /send"},
	} {
		status, _, raw := s.call(c.method, c.path, c.body, "If-Match", "*")
		var p contract.Problem
		if err := json.Unmarshal([]byte(raw), &p); err != nil || status != 422 || p.Errors == nil {
			t.Errorf("%s: %d %s", c.name, status, raw)
			continue
		}
		var all []string
		for _, f := range *p.Errors {
			all = append(all, f.Pointer)
			if f.Detail == "" || !strings.Contains(*p.Detail, f.Detail) {
				t.Errorf("%s: %+v is not in %q", c.name, f, *p.Detail)
			}
		}
		slices.Sort(all)
		if is := strings.Join(all, " "); is != c.pointers {
			t.Errorf("%s: told is of %s, want %s\n%s", c.name, is, c.pointers, *p.Detail)
		}
	}
	if n := len(s.journal("")); n != before {
		t.Errorf("%d entries more are in the journal", n-before)
	}
	for _, path := range []string{"/v1/groups/berths", "/v1/pools/p", "/v1/templates/b/1", "/v1/notices/n"} {
		if status, _, _ := s.call("GET", path, ""); status != 404 {
			t.Errorf("%s is answered %d", path, status)
		}
	}
}
