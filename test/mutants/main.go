// Command mutants breaks the code in small, named ways, one after another, and tells
// which test noticed each. It fails when one goes unnoticed, or when the random plans
// notice fewer than half of those of the core.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

const core = "internal/fleet"

var (
	only  = flag.String("only", "", "try only the faults whose names hold this")
	from  = flag.String("from", "", "begin with the fault whose name holds this")
	side  = flag.String("side", "", "try only the core, rules, meetings, what passes, or what is served (core, sizes, meetings, passed, served)")
	build = flag.Bool("build", false, "only see whether each fault compiles")
	plans = flag.Int("plans", 1200, "how many random plans to play")
	kept  = flag.String("results", ".state/mutants.json", "the file that keeps what came of each: those that were noticed are not tried again while their files are the same")
	story = flag.Bool("situations", false, "only see whether random plans notice the situations without their mends")
	fresh = flag.Bool("fresh", false, "try all anew")
)

func main() {
	flag.Parse()
	dir, err := os.MkdirTemp("", "mutants")
	if err != nil {
		fail(err)
	}
	defer os.RemoveAll(dir)
	if *build {
		all := slices.Concat(faults, sizes, meetings, passed, served)
		if *side == "passed" {
			all = passed
		}
		if bad := compile(dir, all); bad > 0 {
			fail(fmt.Errorf("%d faults do not compile", bad))
		}
		return
	}
	if *story {
		if missed := playSituations(dir); missed > 0 {
			fail(fmt.Errorf("%d situations are noticed by no plan", missed))
		}
		return
	}
	begun := time.Now()
	known = openResults(*kept, *fresh)
	inCore, byPlans, unnoticed := try(dir, "core", faults, func(f fault, overlay string) string { return notice(overlay) })
	inSizes, _, some := try(dir, "sizes", sizes, noticeServed)
	inMeetings, _, between := try(dir, "meetings", meetings, noticeMeeting)
	inPassed, _, others := try(dir, "passed", passed, noticeServed)
	inServed, _, more := try(dir, "served", served, noticeServed)
	tried, unnoticed := inCore+inSizes+inMeetings+inPassed+inServed, unnoticed+some+between+others+more
	fmt.Printf("%d faults, %d noticed, %d of %d in the core by the plans, in %s\n", tried, tried-unnoticed, byPlans, inCore, time.Since(begun).Round(time.Second))
	if unnoticed > 0 || byPlans*2 < inCore {
		os.Exit(1)
	}
}

// known is what came of each fault.
var known *results

// compile returns how many faults do not compile, and names them.
func compile(dir string, all []fault) (bad int) {
	for _, f := range all {
		if !strings.Contains(f.name, *only) {
			continue
		}
		overlay, err := f.overlay(dir)
		if err != nil {
			fail(err)
		}
		if out, err := exec.Command("go", "build", "-overlay", overlay, "./"+filepath.Dir(f.path())).CombinedOutput(); err != nil {
			bad++
			fmt.Printf("%s: %s", f.name, out)
		}
	}
	return bad
}

// try breaks the code in each way and tells who noticed.
func try(dir, what string, all []fault, notice func(f fault, overlay string) string) (tried, byPlans, unnoticed int) {
	if *side != "" && *side != what {
		return 0, 0, 0
	}
	for _, f := range all {
		if *from != "" && strings.Contains(f.name, *from) {
			*from = ""
		}
		if *from != "" || !strings.Contains(f.name, *only) {
			continue
		}
		tried++
		by, had := known.of(f)
		if !had {
			overlay, err := f.overlay(dir)
			if err != nil {
				fail(err)
			}
			by = notice(f, overlay)
			known.keep(f, by)
		}
		switch {
		case by == "":
			unnoticed++
			by = "NOBODY"
		case strings.HasPrefix(by, "plans"):
			byPlans++
		}
		fmt.Printf("%-62s  %s\n", f.name, by)
	}
	return tried, byPlans, unnoticed
}

// path is where the file of the fault is.
func (f fault) path() string {
	if strings.HasPrefix(f.file, "internal/") {
		return f.file
	}
	return filepath.Join(core, f.file)
}

// noticeServed returns which test of its package noticed the fault, or of those that
// stand on it; "" when none did.
func noticeServed(f fault, overlay string) string {
	own := "./" + filepath.Dir(f.path())
	for _, where := range append([]string{own}, above[filepath.Dir(f.path())]...) {
		out, ok := run(overlay, strings.Fields(where)...)
		if ok {
			continue
		}
		if bytes.Contains(out, []byte("[build failed]")) || bytes.Contains(out, []byte("[setup failed]")) {
			fmt.Fprintf(os.Stderr, "it does not build: %s", out)
			return ""
		}
		if by := failing(out); by != "" {
			return strings.Fields(where)[0][len("./internal/"):] + ": " + by
		}
		return where + ": it does not end"
	}
	return ""
}

// noticeMeeting is who noticed a fault of the core where two parts meet, or of what stands on it.
func noticeMeeting(f fault, overlay string) string {
	if strings.HasPrefix(f.file, "internal/") {
		return noticeServed(f, overlay)
	}
	if out, ok := run(overlay, "-skip", "TestFaultPlans", "./"+core+"/..."); !ok {
		return failing(out)
	}
	return notice(overlay)
}

// rulesPlayed are rules on the virtual clock.
const rulesPlayed = "./internal/fleet/rehearse -run TestScenarios/(rules|missed|load|spans)|TestAStep|TestNoise|TestADay|TestNoRules"

// above are the tests of others that may notice what a package does wrong.
var above = map[string][]string{
	"internal/store":         {"./internal/control"},
	"internal/fleet/scaling": {rulesPlayed},
	"internal/fleet":         {rulesPlayed},
	"internal/balancer/wire": {"./internal/balancer/builtin"},
	"internal/balancer/form": {"./internal/balancer/builtin"},
	"internal/conns":         {"./internal/balancer/builtin"},
	"internal/fleet/traffic": {"./internal/balancer/builtin"},
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "mutants:", err)
	os.Exit(1)
}

// overlay writes the broken file and what puts it in the place of the good one.
func (f fault) overlay(dir string) (string, error) {
	good, err := filepath.Abs(f.path())
	if err != nil {
		return "", err
	}
	text, err := os.ReadFile(good)
	if err != nil {
		return "", err
	}
	if n := strings.Count(string(text), f.was); n != 1 {
		return "", fmt.Errorf("%s: %q is %d times in %s; bring the table up to date", f.name, f.was, n, f.file)
	}
	bad := filepath.Join(dir, "broken.go")
	if err := os.WriteFile(bad, []byte(strings.Replace(string(text), f.was, f.now, 1)), 0o600); err != nil {
		return "", err
	}
	raw, err := json.Marshal(map[string]map[string]string{"Replace": {good: bad}})
	if err != nil {
		return "", err
	}
	overlay := filepath.Join(dir, "overlay.json")
	return overlay, os.WriteFile(overlay, raw, 0o600)
}

var (
	seed    = regexp.MustCompile(`seed (\d+) at \S+ (\w+):`)
	panicky = regexp.MustCompile(`panic: (.*)`)
	failed  = regexp.MustCompile(`--- FAIL: ((?:Test|Fuzz)\S+)`)
)

// notice returns what noticed the fault: the plans first, then every other test of
// the core; "" when nothing did.
func notice(overlay string) string {
	out, ok := run(overlay, "-run", "TestFaultPlans", "./"+core+"/rehearse", "-args", "-plans", fmt.Sprint(*plans))
	if !ok {
		if m := seed.FindSubmatch(out); m != nil {
			return fmt.Sprintf("plans: seed %s, invariant %s", m[1], m[2])
		}
		if m := panicky.FindSubmatch(out); m != nil {
			return "plans: " + string(m[1])
		}
		if bytes.Contains(out, []byte("[build failed]")) || bytes.Contains(out, []byte("[setup failed]")) {
			fmt.Fprintf(os.Stderr, "it does not build: %s", out)
			return ""
		}
		return "plans: they do not end"
	}
	if out, ok := run(overlay, "-skip", "TestFaultPlans", "./"+core+"/..."); !ok {
		return failing(out)
	}
	return ""
}

// failing is the first test that failed, as deep as it says.
func failing(out []byte) (first string) {
	for _, m := range failed.FindAllSubmatch(out, -1) {
		if name := string(m[1]); first == "" || strings.HasPrefix(name, first+"/") {
			first = name
		}
	}
	if first == "" && panicky.Match(out) {
		return "panic: " + string(panicky.FindSubmatch(out)[1])
	}
	return first
}

func run(overlay string, args ...string) ([]byte, bool) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "go", append([]string{"test", "-count=1", "-failfast", "-parallel=8", "-timeout=50s", "-overlay", overlay}, args...)...)
	out, err := cmd.CombinedOutput()
	return out, err == nil
}
