package fleet

import (
	"fmt"
	"strings"
)

// Refusal is a request that cannot be carried out as it stands.
type Refusal struct {
	Field string // the name of the field at fault, or "" when it is the state of things
	Text  string // what is wrong and what to do
	// Also are the other fields at fault. A fault's text begins with the value where there is
	// one, so that whoever shows it can put what was written before it.
	Also []Refusal
}

// Error names each field before what is wrong with it.
func (r *Refusal) Error() string {
	text := r.Text
	if r.Field != "" {
		text = r.Field + ": " + text
	}
	for k := range r.Also {
		text += "; " + r.Also[k].Error()
	}
	return text
}

func refuse(field, format string, args ...any) *Refusal {
	return &Refusal{Field: field, Text: fmt.Sprintf(format, args...)}
}

// faults collects what is wrong with settings, so that all of it is said at once.
type faults []Refusal

// when notes a fault of a field.
func (f *faults) when(wrong bool, field, format string, args ...any) {
	if wrong {
		*f = append(*f, *refuse(field, format, args...))
	}
}

// add notes what another check refused.
func (f *faults) add(err *Refusal) {
	if err != nil {
		*f = append(*f, *err)
	}
}

// refusal is all of them, or nil.
func (f faults) refusal() error {
	if len(f) == 0 {
		return nil
	}
	r := f[0]
	r.Also = f[1:]
	return &r
}

func either[T ~string](words []T) string {
	parts := make([]string, len(words))
	for i, w := range words {
		parts[i] = string(w)
	}
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " or " + parts[len(parts)-1]
}
