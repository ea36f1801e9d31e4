package cli

import (
	"context"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/internal/fleet/words"
)

func TestBars(t *testing.T) {
	for _, c := range []struct {
		values []float64
		width  int
		want   string
	}{
		{nil, 10, ""},
		{[]float64{0, 0}, 10, "··"},
		{[]float64{1, 2, 4, 8}, 10, "▂▃▅█"},
		{[]float64{1, 1, 3, 5, 4}, 3, "▃█▅"}, // two neighbours together
	} {
		if got := bars(c.values, c.width); got != c.want {
			t.Errorf("%v in %d: %q, want %q", c.values, c.width, got, c.want)
		}
	}
}

func TestAmount(t *testing.T) {
	for f, want := range map[float64]string{0: "0.00", 0.0038: "0.0038", 12.345: "12.35", 1: "1.00"} {
		if got := amount(f); got != want {
			t.Errorf("%v is %q, want %q", f, got, want)
		}
	}
}

func TestMoments(t *testing.T) {
	for text, want := range map[string]string{"2026-11-01": "2026-11-01T00:00:00Z", "2026-11-01T06:00:00+01:00": "2026-11-01T05:00:00Z"} {
		if got, err := parseMoment(text); err != nil || got.UTC().Format(time.RFC3339) != want {
			t.Errorf("%s is %v %v, want %s", text, got, err, want)
		}
	}
	if _, err := parseMoment("yesterday"); err == nil {
		t.Error("a word is taken for a day")
	}
}

// TestFailuresSideBySide: each failure has a column, however long its lines are.
func TestFailuresSideBySide(t *testing.T) {
	at := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	place := contract.FailingSlot{Count: 5, UntilAt: time.Now().Add(30 * time.Second), Failures: []contract.Failure{
		{Instance: "timetable-004", Version: "timetable-web@3", Zone: "mid-pier", At: at, Why: "was not healthy within the settle time of 10 s", BootLog: "reading the sailings\nno such file\n"},
		{Instance: "timetable-005", Version: "timetable-web@3", Zone: "mid-pier", At: at, Why: "its machine vanished", BootLog: strings.Repeat("x", 60)},
	}}
	lines := strings.Split(strings.TrimRight(placePicture(place, 80), "\n"), "\n")
	if !strings.HasPrefix(lines[0], "5 instances failed in a row; the slot stays empty for ") {
		t.Errorf("it begins with %q", lines[0])
	}
	for _, line := range lines[1:] {
		if n := len([]rune(line)); n > 80 {
			t.Errorf("a line of %d characters: %q", n, line)
		}
	}
	if !strings.HasPrefix(lines[1], "timetable-004") || strings.Index(lines[1], "timetable-005") != 40 {
		t.Errorf("the heads are %q", lines[1])
	}
	text := strings.Join(lines, "\n")
	for _, want := range []string{"no such file", "its machine vanished", strings.Repeat("x", 38)} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not there:\n%s", want, text)
		}
	}
}

func TestPoolFlags(t *testing.T) {
	f := poolFlags{listen: []string{"127.0.0.1:8000", "127.0.0.1:8443=saltmere"}, shares: []string{"timetable=90", "berths=10,reserve"}}
	listeners, err := f.listeners()
	if err != nil || len(listeners) != 2 || listeners[0].Certificate != nil || *listeners[1].Certificate != "saltmere" {
		t.Errorf("%+v %v", listeners, err)
	}
	shares, err := f.groupShares()
	if err != nil || len(shares) != 2 || *shares[0].Weight != 90 || *shares[0].Reserve || !*shares[1].Reserve {
		t.Errorf("%+v %v", shares, err)
	}
	for _, wrong := range []string{"timetable", "timetable=much", "timetable=10,spare"} {
		if _, err := (&poolFlags{shares: []string{wrong}}).groupShares(); err == nil {
			t.Errorf("%q is taken", wrong)
		}
	}
	if none, err := (&poolFlags{shares: []string{"none"}}).groupShares(); err != nil || len(none) != 0 {
		t.Errorf("none is %v %v", none, err)
	}
}

// TestGroupFile: what a file says is there, what a flag says is put over it, and a
// field that is none is named.
func TestGroupFile(t *testing.T) {
	file := t.TempDir() + "/timetable.yaml"
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("name: timetable\ntemplate: timetable-web@1\nsize: 6\nzones: [east-pier, mid-pier]\nsettle: 90s\nheal-limit: 40\nlabels: {env: trial}\n")
	form, err := readGroupFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var f groupFlags
	cmd := &cobra.Command{}
	f.add(cmd)
	if err := cmd.ParseFlags([]string{"--size", "8", "--spread", "cheapest"}); err != nil {
		t.Fatal(err)
	}
	body := form.over(f.given(cmd)).body()
	if body.Name != "timetable" || body.Size != 8 || *body.Spread != contract.Cheapest || *body.SettleSeconds != 90 || *body.HealLimitPercent != 40 ||
		(*body.Labels)["env"] != "trial" || body.DrainSeconds != nil || len(*body.Zones) != 2 {
		t.Errorf("the group is %+v", body)
	}
	for text, want := range map[string]string{"sise: 6": "sise", "settle: soon": "soon"} {
		write(text)
		if _, err := readGroupFile(file); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// TestQuestions: a wrong answer is told and asked for again, an empty one is the
// usual one, and no answer at all makes nothing.
func TestQuestions(t *testing.T) {
	var said strings.Builder
	q := askOn(t.Context(), strings.NewReader("many\n-1\n+4\n99\n4\n\nfar-pier\neast-pier, mid-pier\nnone\nsoon\n2h\n5m\nnope\noff\nTimetable_\ntimetable\n"), &said)
	if n, err := q.number("size", 3, 0, 10); err != nil || *n != 4 {
		t.Errorf("%v %v", n, err)
	}
	if n, err := q.number("min", 1, 0, 4); err != nil || *n != 1 {
		t.Errorf("%v %v", n, err)
	}
	if z, err := q.several("zones", "", []string{"east-pier", "mid-pier"}); err != nil || strings.Join(*z, " ") != "east-pier mid-pier" {
		t.Errorf("%v %v", z, err)
	}
	if p, err := q.several("pools", "front", []string{"front"}); err != nil || len(*p) != 0 {
		t.Errorf("%v %v", p, err)
	}
	if d, err := q.duration("drain", 30*time.Second, 0, time.Hour); err != nil || time.Duration(*d) != 5*time.Minute {
		t.Errorf("%v %v", d, err)
	}
	if h, err := q.oneOf("heal", "machine", []string{"off", "machine"}); err != nil || h != "off" {
		t.Errorf("%v %v", h, err)
	}
	if name, err := q.until("group", "", func(answer string) (string, error) {
		if !words.IsName(answer) {
			return answer + " is no name", nil
		}
		return "", nil
	}); err != nil || name != "timetable" {
		t.Errorf("%v %v", name, err)
	}
	if _, err := q.line("labels", "none"); err == nil || !strings.Contains(err.Error(), "nothing was made") {
		t.Errorf("no answer: %v", err)
	}
	for _, want := range []string{`"many" is not a whole number`, `"+4" is not a whole number`, "99 is not from 0 to 10", `"far-pier" is not one of: east-pier, mid-pier`,
		`"soon" is not a duration`, "2h is not from 0s to 1h0m0s", `"nope" is not one of: off, machine`, "Timetable_ is no name"} {
		if !strings.Contains(said.String(), want) {
			t.Errorf("it was not said that %s: %s", want, said.String())
		}
	}
}

// TestBrokenOff: Ctrl-C is heard while an answer is waited for.
func TestBrokenOff(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	in, never := io.Pipe()
	defer never.Close()
	q := askOn(ctx, in, io.Discard)
	cancel()
	if _, err := q.line("group", ""); err == nil || !strings.Contains(err.Error(), "nothing was made") {
		t.Errorf("it says %v", err)
	}
}

func TestNumbers(t *testing.T) {
	for text, want := range map[string]int{"0": 0, "7": 7, "10000": 10000} {
		if n, err := parseNumber(text); err != nil || n != want {
			t.Errorf("%q is %d: %v", text, n, err)
		}
	}
	for _, text := range []string{"", "+2", "-2", "010", "00", "0x10", "1e3", "1_000", "2.0", " 2", "99999999999", "٣"} {
		if n, err := parseNumber(text); err == nil {
			t.Errorf("%q is taken for %d", text, n)
		}
	}
}

// TestWeightsArePutOver: those that are not named stay, the usual one takes one away,
// none takes all.
func TestWeightsArePutOver(t *testing.T) {
	was := contract.TargetWeights{"timetable-001": 50, "timetable-002": 20}
	for _, c := range []struct {
		given []string
		want  string
	}{
		{nil, "timetable-001 50, timetable-002 20"},
		{[]string{"timetable-003=5"}, "timetable-001 50, timetable-002 20, timetable-003 5"},
		{[]string{"timetable-001=100"}, "timetable-002 20"},
		{[]string{"none"}, ""},
		{[]string{"none", "timetable-001=0"}, "timetable-001 0"},
	} {
		got, err := (&poolFlags{weights: c.given}).targetWeights(was)
		if err != nil || weightsText(got) != c.want {
			t.Errorf("%v gives %q: %v", c.given, weightsText(got), err)
		}
	}
	for _, wrong := range []string{"timetable-001", "timetable-001=+5", "timetable-001=much"} {
		if _, err := (&poolFlags{weights: []string{wrong}}).targetWeights(was); err == nil {
			t.Errorf("%q is taken", wrong)
		}
	}
	if len(was) != 2 {
		t.Errorf("what was is changed: %v", was)
	}
}
