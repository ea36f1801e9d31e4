package health

import (
	"strings"
	"testing"
	"time"
)

// TestCounter reads answers as a line of + and - and expects the verdict after
// each: u(nknown), h(ealthy), i(ll).
func TestCounter(t *testing.T) {
	for _, c := range []struct {
		name          string
		passes, fails int
		start         Verdict
		answers, want string
	}{
		{"two good answers make healthy", 2, 3, Unknown, "++", "uh"},
		{"a bad one between begins anew", 2, 3, Unknown, "+-++", "uuuh"},
		{"three bad ones make unhealthy", 2, 3, Healthy, "---", "hhi"},
		{"two bad ones are an accident", 2, 3, Healthy, "--+--+", "hhhhhh"},
		{"back again after passes", 2, 3, Unhealthy, "+-++", "iiih"},
		{"one is enough when that is asked", 1, 1, Unknown, "+-+", "hih"},
		{"unknown may become unhealthy", 2, 2, Unknown, "--", "ui"},
	} {
		counter := NewCounter(Check{Passes: c.passes, Fails: c.fails}, c.start)
		var got strings.Builder
		was := counter.Verdict()
		for _, a := range c.answers {
			changed := counter.Add(Answer{Good: a == '+'})
			if now := counter.Verdict(); changed != (now != was) {
				t.Errorf("%s: changed is %v from %s to %s", c.name, changed, was, now)
			}
			was = counter.Verdict()
			got.WriteString(map[Verdict]string{Unknown: "u", Healthy: "h", Unhealthy: "i"}[was])
		}
		if got.String() != c.want {
			t.Errorf("%s: %s gave %s, want %s", c.name, c.answers, got.String(), c.want)
		}
	}
}

func TestEvidenceNamesTheAnswers(t *testing.T) {
	counter := NewCounter(Check{Passes: 2, Fails: 3}, Healthy)
	if got := counter.Evidence(); got != "not asked yet" {
		t.Errorf("evidence of nothing is %q", got)
	}
	counter.Add(Answer{Good: true, Why: "200"})
	counter.Add(Answer{Why: "503", Took: 12 * time.Millisecond})
	counter.Add(Answer{Why: "503", Took: 900 * time.Microsecond})
	counter.Add(Answer{Why: "connection refused"})
	if got, want := counter.Evidence(), "failed 3 of 3: 503 in 12 ms, 503, connection refused"; got != want {
		t.Errorf("evidence is %q, want %q", got, want)
	}
}

// TestLateAnswersCountForNothing: neither towards a verdict nor against a run.
func TestLateAnswersCountForNothing(t *testing.T) {
	c := NewCounter(Check{Passes: 3, Fails: 2}, Unknown)
	good, bad, late := Answer{Good: true, Why: "200"}, Answer{Why: "503"}, Answer{Why: "no answer", Late: true}
	say := func(a Answer, progress string, verdict Verdict) {
		t.Helper()
		c.Add(a)
		if c.Progress() != progress || c.Verdict() != verdict {
			t.Errorf("after %+v it is %s: %s, want %s: %s", a, c.Verdict(), c.Progress(), verdict, progress)
		}
	}
	if c.Progress() != "not asked yet" {
		t.Errorf("at first: %s", c.Progress())
	}
	say(good, "1 of 3 passes; the last answer: 200", Unknown)
	say(late, "1 of 3 passes; the last answer: 200", Unknown)
	say(good, "2 of 3 passes; the last answer: 200", Unknown)
	say(good, "passed 3 of 3: 200, 200, 200", Healthy)
	say(late, "passed 3 of 3: 200, 200, 200", Healthy)
	say(bad, "1 of 2 fails; the last answer: 503", Healthy)
	say(late, "1 of 2 fails; the last answer: 503", Healthy)
	say(bad, "failed 2 of 2: 503, 503", Unhealthy)
}
