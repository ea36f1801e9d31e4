package cli

import (
	"strings"
	"testing"

	"unitas/api/contract"
)

func TestTableLinesUp(t *testing.T) {
	got := table([][]string{{"image", ">size", "made"}, {"timetable@1", "2 B", "now"}, {"b@1", "1.5 KiB", "→"}})
	want := "image           size  made\ntimetable@1      2 B  now\nb@1          1.5 KiB  →\n"
	if got != want {
		t.Errorf("the table is\n%q, want\n%q", got, want)
	}
	if table(nil) != "" {
		t.Error("no rows make a table")
	}
	if got := orNone([][]string{{"image"}}, "There are none."); got != "There are none.\n" {
		t.Errorf("a table of a heading alone is %q", got)
	}
}

func TestTableFitsItsTerminal(t *testing.T) {
	rows := func() [][]string {
		return [][]string{{"instance", ">for", "because"}, {"timetable-001", "12 s", "sailings-up passed 2 of 2"}}
	}
	for width, want := range map[int]string{
		80: "instance        for  because\ntimetable-001  12 s  sailings-up passed 2 of 2\n",
		40: "instance        for  because\ntimetable-001  12 s  sailings-up passed…\n",
		25: "instance        for …\ntimetable-001  12 s\n",
		17: "instance …\ntimetable-001\n",
	} {
		if got := tableWithin(rows(), width); got != want {
			t.Errorf("in %d columns the table is\n%q, want\n%q", width, got, want)
		}
	}
}

func TestFactsLeaveOutWhatIsEmpty(t *testing.T) {
	got := facts("a", "1", "long", "two\nlines", "none", "")
	if want := "a     1\nlong  two\n      lines\n"; got != want {
		t.Errorf("the facts are\n%q, want\n%q", got, want)
	}
}

func TestSize(t *testing.T) {
	for n, want := range map[int64]string{512: "512 B", 2048: "2.0 KiB", 64 << 20: "64.0 MiB", 3 << 40: "3.0 TiB"} {
		if got := size(n); got != want {
			t.Errorf("%d is %q, want %q", n, got, want)
		}
	}
}

func TestReference(t *testing.T) {
	if name, n, err := reference("timetable-web@12"); err != nil || name != "timetable-web" || n != "12" {
		t.Errorf("%s %s %v", name, n, err)
	}
	for _, bad := range []string{"", "timetable", "@1", "timetable@", "timetable@a b", "a/b@1"} {
		if _, _, err := reference(bad); err == nil {
			t.Errorf("%q was taken for a version", bad)
		}
	}
}

func TestTideRises(t *testing.T) {
	for _, c := range []struct {
		wave contract.Wave
		want string
	}{
		{contract.Wave{UpTo: 1, State: contract.WaveStatePassed}, "████"},
		{contract.Wave{UpTo: 3, State: contract.WaveStateSoaking}, "▓▓▓▓▓▓▓▓▓▓▓▓"},
		{contract.Wave{UpTo: 1, State: contract.WaveStateHeld}, "▒▒▒▒"},
		{contract.Wave{UpTo: 1, State: contract.WaveStateWaiting}, "····"},
	} {
		if got := tide(c.wave, 6); got != c.want {
			t.Errorf("%+v is drawn %q", c.wave, got)
		}
	}
	if tide(contract.Wave{}, 0) != "" {
		t.Error("an empty group has a tide")
	}
}

func TestNumbersHaveUnits(t *testing.T) {
	got := numbers(map[string]any{"settled_seconds": 2.5, "size": 6, "image_bytes": 10})
	if want := " (image 10 B, settled 2.5 s, size 6)"; got != want {
		t.Errorf("the numbers read %q", got)
	}
}

func TestGrownSpansAreNoNews(t *testing.T) {
	one := spans.ReplaceAllString("Wave 2 of 3: waits for timetable-007, settling for 1.4 s, usually 2.9 s.", "")
	two := spans.ReplaceAllString("Wave 2 of 3: waits for timetable-007, settling for 850 ms, usually 1 m 2 s.", "")
	other := spans.ReplaceAllString("Wave 3 of 3: waits for timetable-007, settling for 850 ms, usually 2.9 s.", "")
	if one == other || two == other {
		t.Error("another wave is no news")
	}
	if one != "Wave 2 of 3: waits for timetable-007, settling for , usually ." {
		t.Errorf("the sentence without its spans is %q", one)
	}
}

// TestTableKeepsWhatMatters: where a terminal is narrow, what is marked as less important
// goes first, and nothing is cut without a sign.
func TestTableKeepsWhatMatters(t *testing.T) {
	rows := func() [][]string {
		return [][]string{{"target", "?>median", "?address", "because"}, {"timetable-001", "2 ms", "127.1.0.1", "sailings-up failed 3 of 3: 503"}}
	}
	for width, want := range map[int]string{
		70: "target         median  address    because\ntimetable-001    2 ms  127.1.0.1  sailings-up failed 3 of 3: 503\n",
		60: "target         median  because …\ntimetable-001    2 ms  sailings-up failed 3 of 3: 503\n",
		48: "target         because …\ntimetable-001  sailings-up failed 3 of 3: 503\n",
		40: "target         because …\ntimetable-001  sailings-up failed 3 o…\n",
	} {
		if got := tableWithin(rows(), width); got != want {
			t.Errorf("in %d columns the table is\n%s, want\n%s", width, got, want)
		}
	}
}

func TestLongLinesGoOnAtAWord(t *testing.T) {
	for _, c := range []struct {
		line  string
		width int
		want  string
	}{
		{"6 of 6 serving, all on timetable-web@2.", 80, "6 of 6 serving, all on timetable-web@2."},
		{"6 of 6 serving, all on timetable-web@2.", 24, "6 of 6 serving, all on\n  timetable-web@2."},
		{"    because it was not healthy", 22, "    because it was not\n      healthy"},
		{"a " + strings.Repeat("x", 40) + " b", 20, "a " + strings.Repeat("x", 40) + "\n  b"},
		{string(trouble) + "held and waits for" + "\x1b[0m a person", 20, string(trouble) + "held and waits for" + "\x1b[0m a\n  person"},
	} {
		if got := wrapped(c.line, c.width); got != c.want {
			t.Errorf("%q in %d columns is\n%q, want\n%q", c.line, c.width, got, c.want)
		}
	}
}

// TestAPictureThatIsTooHighSaysSo: a picture that is watched is never cut without a sign.
func TestAPictureThatIsTooHighSaysSo(t *testing.T) {
	lines := []string{"one", "two", "three", "four", "five"}
	if got := within(lines, 80, 5); len(got) != 5 || got[4] != "five" {
		t.Errorf("a picture that fits is %q", got)
	}
	if got := within(lines, 80, 3); len(got) != 3 || !strings.Contains(got[2], "3 lines more") {
		t.Errorf("a picture that does not fit is %q", got)
	}
}
