package words

import (
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"
)

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{
		-time.Second: "0 s", 850 * time.Millisecond: "850 ms", 1400 * time.Millisecond: "1.4 s", 14 * time.Second: "14 s",
		80 * time.Second: "1 m 20 s", 2 * time.Minute: "2 m", 3*time.Hour + 5*time.Minute: "3 h 5 m", 50 * time.Hour: "2 d 2 h",
	} {
		if got := Span(d); got != want {
			t.Errorf("%v is %q, want %q", d, got, want)
		}
	}
}

func TestPlain(t *testing.T) {
	for _, c := range []struct {
		text string
		most int
		want string
	}{
		{"", 10, ""},
		{"connection refused", Outside, "connection refused"},
		{"bad\x00thing", Outside, "bad thing"},
		{" two\nlines\tand \r\n more ", Outside, "two lines and more"},
		{"\x1b[2Jcleared", Outside, "[2Jcleared"},
		{"half \xff of it", Outside, "half ? of it"},
		{"Fähre \u200b um 6", Outside, "Fähre um 6"},
		{"0123456789", 10, "0123456789"},
		{"0123456789A", 10, "012345678…"},
		{"012345678 9", 10, "012345678…"},
		{strings.Repeat("\x00", 10_000), 10, "…"},
	} {
		if got := Plain(c.text, c.most); got != c.want {
			t.Errorf("%q cut to %d is %q, want %q", c.text, c.most, got, c.want)
		}
	}
}

func FuzzPlain(f *testing.F) {
	f.Add("bad\x00thing", 5)
	f.Add("\xff\xfe", 1)
	f.Fuzz(func(t *testing.T, text string, most int) {
		most = min(max(most, 1), 1000)
		got := Plain(text, most)
		if !utf8.ValidString(got) || utf8.RuneCountInString(got) > most || strings.ContainsFunc(got, func(r rune) bool { return !unicode.IsPrint(r) }) {
			t.Errorf("%q cut to %d is %q", text, most, got)
		}
		if again := Plain(got, most); again != got {
			t.Errorf("%q made plain again is %q", got, again)
		}
	})
}

func TestCount(t *testing.T) {
	for want, got := range map[string]string{
		"0 requests": Count(0, "request"), "1 request": Count(1, "request"), "3 requests": Count(3, "request"), "1 pass": Count(1, "pass"),
		"2 passes": Count(2, "pass"), "2 launches": Count(2, "launch"), "1 instance is": Are(1, "instance"), "2 instances are": Are(2, "instance"),
	} {
		if got != want {
			t.Errorf("it says %q, want %q", got, want)
		}
	}
}

func TestShare(t *testing.T) {
	for want, got := range map[string]string{"none yet": Share(0, 0), "0 % of 9": Share(0, 9), "5.2 % of 310": Share(16, 310), "0.067 % of 1500": Share(1, 1500), "14 % of 71": Share(10, 71), "100 % of 3": Share(3, 3),
		"–": Chance(1.9), "1 in 340": Chance(340.2)} {
		if got != want {
			t.Errorf("it says %q, want %q", got, want)
		}
	}
}

// TestLines: the end of what a program wrote, without what a terminal would obey.
func TestEased(t *testing.T) {
	four := 4.0
	if got := Eased(6, nil) + ", " + Eased(6, &four); got != "6, 4 now (6)" {
		t.Error(got)
	}
}

func TestLines(t *testing.T) {
	for _, c := range []struct {
		text string
		most int
		want string
	}{
		{"one\n\ttwo\n", 100, "one\n\ttwo\n"}, {"red \x1b[31mtext\x00\r\n", 100, "red [31mtext\n"}, {"one\ntwo", 3, "…two"}, {"\xff\xfe", 10, "??"},
	} {
		if got := Lines(c.text, c.most); got != c.want {
			t.Errorf("%q is %q, want %q", c.text, got, c.want)
		}
	}
	for text, want := range map[string]string{"": "", "one": "one", "one\ntwo\n\n": "two", "one\n\x1b[2Jtwo": "[2Jtwo"} {
		if got := LastLine(text); got != want {
			t.Errorf("the last line of %q is %q, want %q", text, got, want)
		}
	}
}
