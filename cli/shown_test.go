package cli

import (
	"bytes"
	"testing"
)

// TestNothingActsOnATerminal: of what comes from outside only characters are shown, however it is
// cut into pieces; our own colours pass.
func TestNothingActsOnATerminal(t *testing.T) {
	for given, want := range map[string]string{
		"06:40 Saltmere\n\tnight boat":                        "06:40 Saltmere\n\tnight boat",
		strong.given("bold") + " and " + trouble.given("red"): strong.given("bold") + " and " + trouble.given("red"),
		"a\x1b[2Jb\x1b[5A\x1b[8mhidden":                       "a␛[2Jb␛[5A␛[8mhidden",
		"\x1b]0;title\x07\x1b[31":                             "␛]0;title␇␛[31",
		"one\rtwo\r\nthree\r":                                 "one␍two\nthree␍",
		"\x9b31m\u009b2J\x7f\x00":                             "�31m�2J␡␀",
		"bin\u202etxt.exe \u2066x\u2069\ufeff":                "bin�txt.exe �x��",
		"é☃𝄞 cut \xf0\x9f":                                    "é☃𝄞 cut ��",
	} {
		if got := shownText(given); got != want {
			t.Errorf("%q is shown as %q, want %q", given, got, want)
		}
		var b bytes.Buffer
		s := &shown{to: &b}
		for _, c := range []byte(given) {
			if n, err := s.Write([]byte{c}); n != 1 || err != nil {
				t.Fatal(n, err)
			}
		}
		rest, _ := harmless(s.held, true)
		if got := b.String() + string(rest); got != want {
			t.Errorf("byte by byte %q is shown as %q, want %q", given, got, want)
		}
	}
}

func (t tone) given(text string) string { return string(t) + text + string(ends) }
