package api

import (
	"strings"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/internal/store"
)

// TestRecord: who, what, when and on which numbers; what others wrote is text and no more.
func TestRecord(t *testing.T) {
	begun := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	filled, ended := begun.Add(3*time.Second), begun.Add(10*time.Second)
	got := record(contract.Rollout{
		Number: 7, Group: "timetable", From: "timetable-web@2", To: "timetable-web@4", State: "reverted", Why: "a person asked to revert: it is *slow* | <b>", StartedAt: begun, StartedBy: "ada",
		EndedAt: &ended, Above: 2, SoakSeconds: 30, Order: "oldest-first", Pace: "in-waves", Course: "careful", Hours: "22:00-05:00", Exclude: []string{"timetable-001"}, LowestServing: ptr(5),
		Waves: []contract.Wave{{Wave: "1", UpTo: 1, SoakSeconds: 60, State: "given-up", StartedAt: &begun, FilledAt: &filled}, {Wave: "100%", UpTo: 6, SoakSeconds: 30, State: "given-up"}},
		Gates: []contract.Gate{{What: "requests that fail", State: "broken", NewRequests: 310, NewFailed: 16, OldRequests: 1500, OldFailed: 1, MarginPercent: 0.5, Evidence: 340, OnBroken: "revert"},
			{What: "instances that serve", State: "good", Floor: ptr(4.0), Value: ptr(5.0), OnBroken: "hold"}},
	}, []store.Entry{
		{At: ended, Actor: "unitas", Text: "The rollout of timetable to timetable-web@4 is reverted.", Because: "6 of 6 serve"},
		{At: begun, Actor: "ada", Text: "The rollout of timetable begins.", Because: "line one\nline two"},
	})
	want := `# Rollout 7 of timetable: timetable-web@2 → timetable-web@4

- **state**: reverted, because a person asked to revert: it is \*slow\* \| &lt;b&gt;
- **started**: 2026-05-04 12:00:00 UTC by ada
- **ended**: 2026-05-04 12:00:10 UTC, after 10 s
- **settings**: waves 1 for 1 m, 100% for 30 s; up to 2 above and 0 below the size; order oldest-first, pace in-waves; by the course careful; only 22:00-05:00; without timetable-001
- **lowest serving**: 5

## Waves

| wave | goes to | state | began | replaced in | soaked |
| --- | --- | --- | --- | --- | --- |
| 1 | 1 | given-up | 12:00:00 | 3 s | – |
| 100% | 6 | given-up | – | – | – |

## Gates

| gate | state | new | old | at most | by chance | when it breaks |
| --- | --- | --- | --- | --- | --- | --- |
| requests that fail | broken | 5.2 % of 310 | 0.067 % of 1500 | +0.5 points | 1 in 340 | revert |
| instances that serve | good | 5 | – | at least 4 | – | hold |

## What was decided

- 2026-05-04 12:00:00 UTC, ada: The rollout of timetable begins. Because line one line two.
- 2026-05-04 12:00:10 UTC, unitas: The rollout of timetable to timetable-web@4 is reverted. Because 6 of 6 serve.
`
	if got != want {
		t.Errorf("it is\n%s\nwant\n%s", got, want)
	}
	if none := record(contract.Rollout{State: "moving"}, nil); strings.Contains(none, "## Gates") || strings.Contains(none, "ended") {
		t.Errorf("of one without gates that goes on it is\n%s", none)
	}
}
