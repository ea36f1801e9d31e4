package cli

import (
	"bytes"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"
)

// shown writes to a terminal, at once or by way of a pipe, and lets nothing of it be moved, hidden or
// renamed by what it is given: text comes from workloads, recipes and answers of anybody. Our own
// colours pass; what draws over what is there goes past it, by [past].
type shown struct {
	to   io.Writer
	held []byte // the beginning of a character or of a colour
}

// data is what is written to the byte, unless it goes to a terminal: what programs read, and files.
func (a *app) data() io.Writer {
	if term.IsTerminal(int(os.Stdout.Fd())) {
		return a.out
	}
	return past(a.out)
}

// past is a writer without [shown] before it.
func past(w io.Writer) io.Writer {
	if s, ok := w.(*shown); ok {
		return s.to
	}
	return w
}

func (s *shown) Write(p []byte) (int, error) {
	var text []byte
	text, s.held = harmless(append(s.held, p...), false)
	if _, err := s.to.Write(text); err != nil {
		return 0, err
	}
	return len(p), nil
}

// shownText is a text as [shown] writes it.
func shownText(text string) string {
	out, _ := harmless([]byte(text), true)
	return string(out)
}

// tones are the colours that pass.
var tones = [][]byte{[]byte(trouble), []byte(waiting), []byte(newer), []byte(faint), []byte(strong), []byte(ends)}

// harmless is a text without what acts on a terminal: control characters are shown as pictures of
// them, and what turns the direction of writing, or is no character, as U+FFFD. Unless it is the
// last, the beginning of a character or of a colour is kept for the next.
func harmless(in []byte, last bool) (out, held []byte) {
	out = make([]byte, 0, len(in))
	for len(in) > 0 {
		if in[0] == '\x1b' {
			if n := toneAt(in); n > 0 {
				out, in = append(out, in[:n]...), in[n:]
				continue
			}
			if !last && beginsTone(in) {
				return out, bytes.Clone(in)
			}
		}
		if !last && !utf8.FullRune(in) {
			return out, bytes.Clone(in)
		}
		if in[0] == '\r' && (len(in) > 1 || !last) { // the end of a line, as some write it
			if len(in) == 1 {
				return out, bytes.Clone(in)
			}
			if in[1] == '\n' {
				in = in[1:]
				continue
			}
		}
		r, n := utf8.DecodeRune(in)
		switch {
		case r == '\n' || r == '\t':
			out = append(out, byte(r))
		case r < ' ':
			out = utf8.AppendRune(out, '\u2400'+r)
		case r == 0x7f:
			out = utf8.AppendRune(out, '\u2421')
		case r >= 0x80 && r < 0xa0, strings.ContainsRune(turning, r), r == utf8.RuneError && n == 1:
			out = utf8.AppendRune(out, utf8.RuneError)
		default:
			out = append(out, in[:n]...)
		}
		in = in[n:]
	}
	return out, nil
}

// turning are the characters that turn the direction of writing, or are not seen.
const turning = "\u061c\u200b\u200e\u200f\u2028\u2029\u202a\u202b\u202c\u202d\u202e\u2060\u2066\u2067\u2068\u2069\ufeff"

func toneAt(in []byte) int {
	for _, t := range tones {
		if bytes.HasPrefix(in, t) {
			return len(t)
		}
	}
	return 0
}

func beginsTone(in []byte) bool {
	for _, t := range tones {
		if len(in) < len(t) && bytes.HasPrefix(t, in) {
			return true
		}
	}
	return false
}
