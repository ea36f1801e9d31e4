package main

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"
)

// situation is one of those in which two parts of the core met and a group was harmed: what becomes of its mend when
// that is taken out (a fault of the tables), and who notices. Where plans is false the random plans do not, since
// they lack what it takes; by names the test that does.
type situation struct {
	n     int
	fault string
	plans bool
	by    string
}

// situations are all of them. What plans do not notice is noticed by the test that is named, which make mutants shows.
var situations = []situation{
	{1, "a blip takes what is replaced", true, ""},
	{1, "a rollout goes on while healing is stopped", false, "TestScenarios/blip"},
	{2, "a version that never served holds the room", false, "TestScenarios/hardship"},
	{2, "a loss is filled with what never served", false, "TestScenarios/blip"},
	{3, "samples count one by one", false, "TestAGateOnAMetric"},
	{4, "zone by zone fills one zone", true, ""},
	{5, "hours are counted from midnight", true, ""},
	{6, "spans count by the list", true, "TestSpansOverSpans"},
	{7, "a rule makes those in need fewer", true, ""},
	{8, "who settles is missing from a total", false, "TestScenarios/load"},
	{9, "requests to nobody are no load", false, "TestRequestsThatComeToNobody"},
	{10, "a bound gives nothing back", true, ""},
	{11, "a rollout that waits switches the group off", false, "TestScenarios/waits"},
	{12, "a proof is short", true, ""},
	{13, "nothing to compare with is good", false, "TestAWaveWithNothingToCompareWith"},
	{14, "what was held two rollouts ago comes back", true, ""},
	{15, "a revert that cannot is silent", true, ""},
	{16, "accidents hold a large wave", false, "TestScenarios/ends"},
	{17, "a rollout goes by what was when it was ordered", false, "TestScenarios/ends"},
	{18, "more pinned than the size never end", true, ""},
	{19, "in a frozen group deadlines run out", true, ""},
	{20, "a line below makes a group larger", true, ""},
	{21, "what was fled from is good", false, "TestScenarios/doubts"},
	{22, "a huge value is told as another", false, "TestAHugeValueIsTold"},
}

// playSituations takes the mend of each out and plays random plans until one notices. It returns how many went
// unnoticed of those that should be.
func playSituations(dir string) (missed int) {
	all := slices.Concat(faults, sizes, meetings, passed, served)
	for _, s := range situations {
		k := slices.IndexFunc(all, func(f fault) bool { return f.name == s.fault })
		if k < 0 {
			fail(fmt.Errorf("situation %d: there is no fault %q", s.n, s.fault))
		}
		if !s.plans || !strings.Contains(s.fault, *only) {
			continue
		}
		overlay, err := all[k].overlay(dir)
		if err != nil {
			fail(err)
		}
		begun, by := time.Now(), "NOT NOTICED"
		out, ok := run(overlay, "-timeout", "20m", "-run", "TestFaultPlans|TestSpansOverSpans", "./"+core+"/rehearse", "-args", "-plans", fmt.Sprint(*plans))
		switch m := seed.FindSubmatch(out); {
		case ok:
			missed++
		case bytes.Contains(out, []byte("[build failed]")):
			fmt.Fprintf(os.Stderr, "it does not build: %s", out)
			missed++
		case m != nil:
			by = "plan " + string(m[1])
		default:
			by = failing(out)
		}
		fmt.Printf("%2d  %-52s  %-20s %s\n", s.n, s.fault, by, time.Since(begun).Round(time.Second))
	}
	return missed
}
