// Package architecture holds the tree against the plan in docs/architecture.md.
package architecture

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// allowed says what each room may import of ours. A room that is not here may
// not be there; a prefix that ends in /... stands for all below it.
var allowed = map[string][]string{
	"unitas/cmd/unitas":                  {"unitas/cli", "unitas/internal/caught", "unitas/internal/service", "unitas/internal/places", "unitas/internal/image/bake", "unitas/internal/backup", "unitas/internal/fleet/..."},
	"unitas/cli":                         {"unitas/api/contract", "unitas/client", "unitas/internal/fleet/words"},
	"unitas/client":                      {"unitas/api/contract"},
	"unitas/web":                         {},
	"unitas/demo/timetable":              {},
	"unitas/demo/receiver":               {},
	"unitas/demo/hostile":                {},
	"unitas/demo/catcher":                {"unitas/internal/mailcatch"},
	"unitas/internal/mailcatch":          {},
	"unitas/demo/play":                   {"unitas/api/contract", "unitas/client", "unitas/internal/machine/process", "unitas/internal/mailcatch"},
	"unitas/internal/service":            {"unitas/internal/...", "unitas/web"},
	"unitas/internal/api":                {"unitas/api/contract", "unitas/internal/api/routes", "unitas/internal/control", "unitas/internal/store", "unitas/internal/fleet/...", "unitas/internal/image/...", "unitas/internal/catalogue", "unitas/internal/places", "unitas/internal/userdata", "unitas/internal/machine", "unitas/internal/balancer", "unitas/internal/drill", "unitas/internal/datadir", "unitas/internal/feed", "unitas/internal/certificates", "unitas/internal/notice", "unitas/internal/calendar"},
	"unitas/internal/api/routes":         {"unitas/api/contract"},
	"unitas/api/contract":                {},
	"unitas/internal/control":            {"unitas/internal/clock", "unitas/internal/store", "unitas/internal/machine", "unitas/internal/balancer", "unitas/internal/probe", "unitas/internal/feed", "unitas/internal/certificates", "unitas/internal/notice", "unitas/internal/calendar", "unitas/internal/fleet/..."},
	"unitas/internal/notice":             {"unitas/internal/fleet/words"},
	"unitas/internal/clock":              {},
	"unitas/internal/feed":               {"unitas/internal/store"},
	"unitas/internal/store":              {"unitas/internal/fleet/..."},
	"unitas/internal/caught":             {},
	"unitas/internal/wary":               {},
	"unitas/internal/conns":              {},
	"unitas/internal/certificates":       {},
	"unitas/internal/sockets":            {},
	"unitas/internal/backup":             {"unitas/internal/pgserver", "unitas/internal/places", "unitas/internal/datadir", "unitas/internal/store"},
	"unitas/internal/datadir":            {"unitas/internal/wary"},
	"unitas/internal/probe":              {"unitas/internal/conns", "unitas/internal/fleet/..."},
	"unitas/internal/machine":            {"unitas/internal/fleet/..."},
	"unitas/internal/machine/process":    {"unitas/internal/wary", "unitas/internal/machine", "unitas/internal/image", "unitas/internal/userdata", "unitas/internal/datadir", "unitas/internal/fleet/..."},
	"unitas/internal/balancer":           {"unitas/internal/fleet/..."},
	"unitas/internal/balancer/builtin":   {"unitas/internal/balancer", "unitas/internal/balancer/form", "unitas/internal/balancer/wire", "unitas/internal/balancer/accesslog", "unitas/internal/conns", "unitas/internal/fleet/..."},
	"unitas/internal/balancer/wire":      {},
	"unitas/internal/balancer/accesslog": {},
	"unitas/internal/balancer/form":      {},
	"unitas/internal/catalogue":          {"unitas/internal/wary", "unitas/internal/store", "unitas/internal/image/...", "unitas/internal/places", "unitas/internal/machine", "unitas/internal/datadir", "unitas/internal/fleet/..."},
	"unitas/internal/places":             {},
	"unitas/internal/userdata":           {},
	"unitas/internal/image":              {"unitas/internal/wary", "unitas/internal/datadir", "unitas/internal/fleet/words"},
	"unitas/internal/image/bake":         {"unitas/internal/wary", "unitas/internal/image", "unitas/internal/fleet/words"},
	"unitas/internal/certtest":           {},
	"unitas/internal/porttest":           {},
	"unitas/internal/waittest":           {},
	"unitas/internal/pgserver":           {"unitas/internal/datadir"},
	"unitas/internal/pgserver/pgtest":    {"unitas/internal/pgserver"},
	"unitas/internal/fleet/gate":         {},
	"unitas/internal/fleet":              {"unitas/internal/fleet/gate", "unitas/internal/fleet/health", "unitas/internal/fleet/metric", "unitas/internal/fleet/placement", "unitas/internal/fleet/rollout", "unitas/internal/fleet/scaling", "unitas/internal/fleet/words"},
	"unitas/internal/fleet/metric":       {},
	"unitas/internal/fleet/scaling":      {"unitas/internal/fleet/metric", "unitas/internal/fleet/words"},
	"unitas/internal/calendar":           {"unitas/internal/fleet/..."},
	"unitas/internal/fleet/health":       {"unitas/internal/fleet/words"},
	"unitas/internal/fleet/placement":    {},
	"unitas/internal/fleet/rollout":      {},
	"unitas/internal/fleet/words":        {},
	"unitas/internal/fleet/template":     {"unitas/internal/fleet/words"},
	"unitas/internal/drill":              {"unitas/internal/store", "unitas/internal/machine", "unitas/internal/fleet/..."},
	"unitas/internal/fleet/traffic":      {"unitas/internal/fleet/words"},
	"unitas/internal/fleet/cost":         {},
	"unitas/internal/fleet/say":          {"unitas/internal/fleet/..."},
	"unitas/internal/fleet/rehearse":     {"unitas/internal/fleet/..."},
}

type room struct {
	ImportPath string
	Imports    []string
}

func rooms(t *testing.T) []room {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "unitas/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	var all []room
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var r room
		if err := d.Decode(&r); errors.Is(err, io.EOF) {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		all = append(all, r)
	}
}

func TestImportsPointOneWay(t *testing.T) {
	for _, r := range rooms(t) {
		if strings.HasPrefix(r.ImportPath, "unitas/test/") {
			continue
		}
		may, known := allowed[r.ImportPath]
		if !known {
			t.Errorf("%s is a room that the plan does not know; add it to docs/architecture.md and here", r.ImportPath)
			continue
		}
		for _, i := range r.Imports {
			if i == "unitas/internal/caught" && strings.HasPrefix(r.ImportPath, "unitas/internal/") && !strings.HasPrefix(r.ImportPath, "unitas/internal/fleet") {
				continue // whoever begins a goroutine
			}
			if strings.HasPrefix(i, "unitas/") && !slices.ContainsFunc(may, func(m string) bool { return covers(m, i) }) {
				t.Errorf("%s imports %s, which the plan does not allow", r.ImportPath, i)
			}
		}
	}
}

func covers(pattern, path string) bool {
	if below, ok := strings.CutSuffix(pattern, "/..."); ok {
		return path == below || strings.HasPrefix(path, below+"/")
	}
	return pattern == path
}

// TestTheCoreTouchesNothing: what decides has no clock, no I/O, no randomness.
func TestTheCoreTouchesNothing(t *testing.T) {
	pure := []string{"cmp", "container/heap", "errors", "fmt", "maps", "math", "net/netip", "net/url", "regexp", "slices", "sort", "strconv", "strings", "time", "unicode", "unicode/utf8"}
	for _, r := range rooms(t) {
		if !strings.HasPrefix(r.ImportPath, "unitas/internal/fleet") {
			continue
		}
		for _, i := range r.Imports {
			seeded := i == "math/rand/v2" && r.ImportPath == "unitas/internal/fleet/rehearse" // its chance comes from seeds
			if !strings.HasPrefix(i, "unitas/internal/fleet") && !slices.Contains(pure, i) && !seeded {
				t.Errorf("%s imports %s", r.ImportPath, i)
			}
		}
	}
	if out, _ := exec.Command("grep", "-rnE", `rand\.(Int|N|IntN|Float64|Perm|Shuffle|NormFloat64|Uint64)\(`, "../../internal/fleet", "--include=*.go", "--exclude=*_test.go").Output(); strings.Contains(strings.ReplaceAll(string(out), "s.r.", ""), "rand.") {
		t.Errorf("the core throws dice that nobody gave it:\n%s", out)
	}
	if out, _ := exec.Command("grep", "-rnE", `time\.(Now|Since|Until|After|Sleep|NewTimer|NewTicker)\(`, "../../internal/fleet", "--include=*.go", "--exclude=*_test.go").Output(); len(out) > 0 {
		t.Errorf("the core asks the clock:\n%s", out)
	}
}
