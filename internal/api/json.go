package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// What a JSON body may be: so long, and nested so deep.
const (
	maxBody  = 1 << 20
	maxDepth = 64
)

// checkJSON refuses what the usual reader lets pass or breaks at, before anything
// else reads the body: one that is too long or too deep, a key given twice, text that
// is not UTF-8 or has characters that no text may have, and anything after the first
// value.
func checkJSON(r *http.Request) error {
	bad := func(format string, args ...any) error {
		return &problem{status: http.StatusBadRequest, kind: "invalid", detail: fmt.Sprintf(format, args...)}
	}
	raw, err := io.ReadAll(io.LimitReader(r.Body, maxBody+1))
	if p := toProblem(err); p != nil {
		return p
	}
	if err != nil {
		return bad("The body could not be read to its end.")
	}
	if len(raw) > maxBody {
		return &problem{status: http.StatusRequestEntityTooLarge, kind: "invalid", detail: "The body is longer than 1 MiB."}
	}
	if !utf8.Valid(raw) {
		return bad("The body is not UTF-8.")
	}
	var deep *tooDeep
	var unfit *unfitText
	switch err := walkJSON(raw); {
	case errors.As(err, &deep):
		return bad("The body is nested deeper than %d levels.", maxDepth)
	case errors.As(err, &unfit):
		return invalidFields([]fieldFault{{unfit.pointer, unfit.why}})
	case err != nil:
		return bad("The body is not good JSON: %s.", err)
	}
	r.Body = io.NopCloser(bytes.NewReader(raw))
	return nil
}

type tooDeep struct{}

func (*tooDeep) Error() string { return "it is nested too deep" }

type unfitText struct{ pointer, why string }

func (u *unfitText) Error() string { return u.pointer + " " + u.why }

// level is an object or array that the walk is in. Its place is told only when
// something is wrong, so that a walk costs what the body is long.
type level struct {
	keys map[string]bool // seen; nil in an array
	key  string          // the present one
	n    int             // elements before the present one
}

// walkJSON reads one JSON value, and reports what is wrong with it.
func walkJSON(raw []byte) error {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	var levels []level
	value := false // whether in an object the next token is a value
	for {
		token, err := d.Token()
		if err != nil {
			return broken(err)
		}
		top := len(levels) - 1
		if text, ok := token.(string); ok && top >= 0 && levels[top].keys != nil && !value {
			if why := unfit(text, false); why != "" {
				return &unfitText{pointer(levels[:top]), "a name in it " + why}
			}
			if levels[top].keys[text] {
				return fmt.Errorf("%s is given twice", pointer(levels[:top])+"/"+escape(text))
			}
			levels[top].keys[text] = true
			levels[top].key, value = text, true
			continue
		}
		switch t := token.(type) {
		case json.Delim:
			switch t {
			case '{', '[':
				if len(levels) == maxDepth {
					return &tooDeep{}
				}
				next := level{}
				if t == '{' {
					next.keys = map[string]bool{}
				}
				levels = append(levels, next)
				value = false
				continue
			}
			levels = levels[:top]
		case string:
			if why := unfit(t, freeText(levels)); why != "" {
				return &unfitText{pointer(levels), why}
			}
		}
		// A value came to its end.
		value = false
		if len(levels) == 0 {
			break
		}
		levels[len(levels)-1].n++
	}
	if _, err := d.Token(); err != io.EOF {
		return errors.New("it goes on after the value")
	}
	return nil
}

// freeText reports whether the present value is handed on as it is: the first-boot
// script of a machine may have any character but NUL.
func freeText(levels []level) bool {
	return len(levels) > 0 && levels[len(levels)-1].key == "user_data"
}

// unfit says why a text cannot be kept or shown, or "": NUL is for no text, and the
// other control characters but tab and the ends of lines for nothing that is shown, nor
// the marks that turn the direction of what follows.
func unfit(text string, anything bool) string {
	if !utf8.ValidString(text) {
		return "is not UTF-8"
	}
	for i, r := range text {
		switch {
		case r == 0, !anything && unicode.IsControl(r) && r != '\t' && r != '\n' && r != '\r':
			return fmt.Sprintf("has a control character (%U) at byte %d, which no text may have", r, i)
		case !anything && unicode.Is(unicode.Bidi_Control, r):
			return fmt.Sprintf("has a mark of direction (%U) at byte %d, which could make it read as something else", r, i)
		}
	}
	return ""
}

// pointer is the place of the present value (RFC 6901).
func pointer(levels []level) string {
	var b strings.Builder
	for _, l := range levels {
		b.WriteByte('/')
		if l.keys != nil {
			b.WriteString(escape(l.key))
		} else {
			b.WriteString(strconv.Itoa(l.n))
		}
	}
	return b.String()
}

func escape(key string) string {
	if len(key) > 100 {
		key = strings.ToValidUTF8(key[:100], "") + "…"
	}
	return strings.NewReplacer("~", "~0", "/", "~1").Replace(key)
}

// broken says in plain words why JSON cannot be read.
func broken(err error) error {
	var syntax *json.SyntaxError
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return errors.New("it ends too early")
	case errors.As(err, &syntax) && strings.Contains(syntax.Error(), "unexpected end"):
		return errors.New("it ends too early")
	case errors.As(err, &syntax):
		return fmt.Errorf("what stands at byte %d cannot stand there", syntax.Offset)
	}
	return errors.New("it cannot be read")
}
