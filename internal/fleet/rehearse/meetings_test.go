package rehearse

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// part is a feature of a group, or a fault: what plays it in a case of a scenario, and what does in the
// random plans (in their code; "" where they lack it).
type part struct {
	name     string
	scenario string
	plans    string
}

// Each feature meets each fault. A new feature or fault adds its row here.
var features = []part{
	{"a rollout moves", `(?m)^rollout `, `p\.startRollout\(\)`},
	{"it soaks", `(?m)^rollout .*soak=[1-9]`, `Soak: soak`},
	{"it is held", `(?m)^tell hold|rollout\.held`, `fleet\.CommandHold`},
	{"it waits for its time", `(?m)^rollout .*(start|hours)=`, `ro\.Hours`},
	{"its place has summer time begin", `(?m)^summer `, `p\.somewhere\(\)`},
	{"it goes back", `(?m)^tell revert|rollout\.reverting`, `fleet\.CommandRevert`},
	{"it takes another's place", `supersede=yes`, `p\.supersede\(\)`},
	{"all at once", `pace=at-once`, `ro\.AtOnce`},
	{"zone by zone", `order=zone-by-zone`, `fleet\.ZoneByZone`},
	{"left out", `leave-out=`, `ro\.Exclude`},
	{"pinned", `(?m)^pin |pin-new=yes`, `fleet\.CommandPin\b`},
	{"parked", `(?m)^instance park`, `fleet\.CommandPark`},
	{"a fresh machine", `(?m)^instance recreate`, `fleet\.CommandRecreate`},
	{"sized by hand", `(?m)^resize `, `g\.Size = p\.r\.IntN`},
	{"sized by a metric", `(?m)^rule \S+ (steady|trip) `, `scaling\.Steady, Metric: \[\]`},
	{"sized by a calendar", `(?m)^rule \S+ calendar `, `p\.rules\(&g\)`},
	{"hooks", `hooks=\S+:`, `p\.hooks\(&g\)`},
	{"frozen", `(?m)^freeze `, `g\.Freeze\(`},
	{"deleted", `(?m)^delete$`, `g\.Delete\(`},
}

var troubles = []part{
	{"a machine ends", `(?m)^vanish `, `"killed by signal 9"`},
	{"one is ill", `(?m)^(answer \S+ bad|ill |flap )`, `p\.w\.Answer\(id, false\)`},
	{"healing stops", `healing-stopped`, `p\.blip\(\)`},
	{"a zone is lost", `(?m)^zone \S+ lost`, `p\.zoneLost\[zone\] = true`},
	{"a zone hangs", `(?m)^zone \S+ hangs`, `p\.zoneHung\[zone\] = true`},
	{"none comes up", `well=never`, `b\.Well = -1`},
	{"all end soon", `(?m)^(machines .*vanish=|zone \S+ brief)`, `b\.Vanish = b\.Boot`},
	{"nobody watches", `(?m)^(unwatched|away) `, `p\.w\.Restart\(\)`},
	{"the clock is set", `(?m)^clock `, `p\.w\.Skew \+= `},
}

// TestMeetings: every feature meets every fault, in a case of a scenario or in the random plans. What plays
// each is written to docs/meetings.md (-update).
func TestMeetings(t *testing.T) {
	cases := map[string][]string{} // by scenario, what is said and played in each
	files, _ := filepath.Glob("testdata/*.txt")
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		name := strings.TrimSuffix(filepath.Base(file), ".txt")
		// What machines do is said before a group and holds for the next as well.
		machines := ""
		for k, text := range regexp.MustCompile(`(?m)^group `).Split(string(raw), -1) {
			if k > 0 {
				cases[name] = append(cases[name], machines+"\ngroup "+text)
			}
			machines = strings.Join(regexp.MustCompile(`(?m)^machines .*$`).FindAllString(text, -1), "\n")
		}
	}
	var code strings.Builder
	tests, _ := filepath.Glob("*_test.go")
	for _, file := range tests {
		if file != "meetings_test.go" {
			raw, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			code.Write(raw)
		}
	}
	inPlans := func(p part) bool { return p.plans != "" && regexp.MustCompile(p.plans).MatchString(code.String()) }
	var out strings.Builder
	out.WriteString("# Where features and faults meet\n\nParts that are right alone break where two meet. Each cell names the scenarios (`internal/fleet/rehearse/testdata`)\nthat play a feature of a group and a fault together, and **plans** where the random plans of `TestFaultPlans` do. The table is made by a\ntest, which fails when a cell is empty.\n\n| |")
	for _, c := range troubles {
		out.WriteString(" " + c.name + " |")
	}
	out.WriteString("\n|---|" + strings.Repeat("---|", len(troubles)) + "\n")
	for _, r := range features {
		if r.plans != "" && !inPlans(r) {
			t.Errorf("the plans have %q no more (%s)", r.name, r.plans)
		}
		out.WriteString("| " + r.name + " |")
		row := regexp.MustCompile(r.scenario)
		for _, c := range troubles {
			if !inPlans(c) {
				t.Errorf("the plans have %q no more (%s)", c.name, c.plans)
			}
			column := regexp.MustCompile(c.scenario)
			var by []string
			for name, all := range cases {
				if slices.ContainsFunc(all, func(one string) bool { return row.MatchString(one) && column.MatchString(one) }) {
					by = append(by, name)
				}
			}
			slices.Sort(by)
			if len(by) > 3 {
				by = append(by[:3], fmt.Sprintf("%d more", len(by)-3))
			}
			if inPlans(r) && inPlans(c) {
				by = append([]string{"**plans**"}, by...)
			}
			if len(by) == 0 {
				t.Errorf("%q and %q meet nowhere", r.name, c.name)
			}
			out.WriteString(" " + strings.Join(by, ", ") + " |")
		}
		out.WriteString("\n")
	}
	const doc = "../../../docs/meetings.md"
	if *update {
		if err := os.WriteFile(doc, []byte(out.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if was, err := os.ReadFile(doc); err != nil || string(was) != out.String() {
		t.Errorf("docs/meetings.md is not what is played (%v); run: go test ./internal/fleet/rehearse -run TestMeetings -update", err)
	}
}
