// Package words writes durations as people read them, the same in the
// service's sentences and on the command line, and makes what others wrote fit to
// be kept and shown.
package words

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Outside is how many characters are kept of one text that comes from outside: what
// a check was answered, what a driver says.
const Outside = 200

// Plain returns a text from outside as it may be kept and shown: valid, printable,
// on one line, and at most so many characters long, the last an ellipsis when some
// are missing. Its cost is bounded by what is kept.
func Plain(text string, most int) string {
	if len(text) <= most && isWord(text) { // as most are
		return text
	}
	const dearest = 4 // bytes of one character that is dropped or kept
	cut := false
	if limit := (most + 1) * dearest * 2; len(text) > limit {
		text, cut = text[:limit], true
	}
	var b strings.Builder
	n, space := 0, false
	for _, r := range text {
		switch {
		case r == utf8.RuneError:
			r = '?'
		case unicode.IsSpace(r) || !unicode.IsPrint(r):
			space = n > 0
			continue
		}
		if space {
			n++
		}
		if n++; n > most {
			cut = true
			break
		}
		if space {
			b.WriteByte(' ')
			space = false
		}
		b.WriteRune(r)
	}
	if !cut || most < 1 {
		return b.String()
	}
	kept := []rune(b.String())
	return string(kept[:min(len(kept), most-1)]) + "…"
}

// isWord reports whether a text is of characters of ASCII alone that show, without a space.
func isWord(text string) bool {
	for i := range len(text) {
		if text[i] <= ' ' || text[i] > '~' {
			return false
		}
	}
	return true
}

// Span writes a duration: "850 ms", "1.4 s", "14 s", "1 m 20 s", "3 h 5 m",
// "2 d 2 h". A negative one is "0 s".
func Span(t time.Duration) string {
	switch {
	case t < 0:
		return "0 s"
	case t < time.Second:
		return fmt.Sprintf("%d ms", t.Milliseconds())
	case t < 10*time.Second:
		s := math.Round(t.Seconds()*10) / 10
		return fmt.Sprintf("%g s", s)
	case t < time.Minute:
		return fmt.Sprintf("%d s", int(t.Seconds()))
	case t < time.Hour:
		return pair(int(t.Minutes()), "m", int(t.Seconds())%60, "s")
	case t < 48*time.Hour:
		return pair(int(t.Hours()), "h", int(t.Minutes())%60, "m")
	}
	return pair(int(t.Hours())/24, "d", int(t.Hours())%24, "h")
}

func pair(a int, unit string, b int, small string) string {
	if b == 0 {
		return fmt.Sprintf("%d %s", a, unit)
	}
	return fmt.Sprintf("%d %s %d %s", a, unit, b, small)
}

// NamingRule says the rule of [IsName] to people.
const NamingRule = "a name begins with a lower-case letter, goes on with lower-case letters, digits or hyphens, has 63 characters at most and does not end with a hyphen"

var namePattern = regexp.MustCompile(`^[a-z](?:[a-z0-9-]{0,61}[a-z0-9])?$`)

// Typed writes a time as one is typed in a flag: 90s is 1m30s, and 2h is 2h.
func Typed(t time.Duration) string {
	text := t.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// Moment writes a time of day for people and programs: 2026-11-26T16:09:54Z.
func Moment(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// IsName reports whether a text keeps the naming rule of every object.
func IsName(text string) bool { return namePattern.MatchString(text) }

// Count is so many of a thing: "1 request", "3 requests", "2 passes".
func Count(n int, noun string) string {
	switch {
	case n == 1:
		return "1 " + noun
	case strings.HasSuffix(noun, "s"), strings.HasSuffix(noun, "ch"):
		noun += "e"
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Are begins a sentence about so many of a thing: "1 request is", "3 requests are".
func Are(n int, noun string) string {
	if n == 1 {
		return Count(n, noun) + " is"
	}
	return Count(n, noun) + " are"
}

// Stays begins a sentence about so many that stay: "1 place stays", "3 places stay".
func Stays(n int, noun string) string {
	if n == 1 {
		return Count(n, noun) + " stays"
	}
	return Count(n, noun) + " stay"
}

// Percent is a share in percent with as many digits as it needs: 0.067, 5.2, 14.
func Percent(p float64) string {
	if p >= 10 {
		return strconv.FormatFloat(p, 'f', 0, 64)
	}
	return strconv.FormatFloat(p, 'g', 2, 64)
}

// Share is how many of so many are bad, as people compare them: "5.2 % of 310".
func Share(bad, of int64) string {
	if of == 0 {
		return "none yet"
	}
	return fmt.Sprintf("%s %% of %d", Percent(100*float64(bad)/float64(of)), of)
}

// Eased is a floor, and what is enough of it now where that is less: "4 now (6)".
func Eased(floor float64, now *float64) string {
	if now == nil {
		return strconv.FormatFloat(floor, 'g', -1, 64)
	}
	return fmt.Sprintf("%g now (%g)", *now, floor)
}

// Chance is how likely it is to meet such evidence by chance: "1 in 340", or a dash for what
// says nothing.
func Chance(evidence float64) string {
	if evidence < 2 {
		return "–"
	}
	return fmt.Sprintf("1 in %.0f", evidence)
}

// Lines returns the end of a text of many lines from outside as it may be kept and shown:
// valid and printable, at most so many bytes; what is missing before is an ellipsis.
func Lines(text string, most int) string {
	cut := len(text) > most
	if cut {
		text = text[len(text)-most:]
	}
	text = strings.Map(func(r rune) rune {
		switch {
		case r == '\n', r == '\t', unicode.IsPrint(r) && r != utf8.RuneError:
			return r
		case r == utf8.RuneError:
			return '?'
		}
		return -1
	}, text)
	if cut {
		text = "…" + text
	}
	return text
}

// LastLine is the last line of a text from outside that is not empty, as it may be kept and
// shown.
func LastLine(text string) string {
	text = strings.TrimSpace(text)
	return Plain(text[strings.LastIndexByte(text, '\n')+1:], Outside)
}

// Differences are what is another than it was, each told as what it is and what it was.
type Differences []string

// Note adds a setting when it is another; one that is empty is told as none.
func (d *Differences) Note(what, was, now string) {
	if was = cmp.Or(was, "none"); was != cmp.Or(now, "none") {
		*d = append(*d, fmt.Sprintf("%s %s, was %s", what, cmp.Or(now, "none"), was))
	}
}

// Bytes writes a size with a binary unit, exactly.
func Bytes(n int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	unit := 0
	for n != 0 && n%1024 == 0 && unit < len(units)-1 {
		n /= 1024
		unit++
	}
	return fmt.Sprintf("%d %s", n, units[unit])
}
