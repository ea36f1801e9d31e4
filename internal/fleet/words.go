package fleet

import (
	"fmt"
	"strings"
)

// Refusal is a request that cannot be carried out as it stands.
type Refusal struct {
	Field string // the name of the field at fault, or "" when it is the state of things
	Text  string // what is wrong and what to do
}

func (r *Refusal) Error() string { return r.Text }

func refuse(field, format string, args ...any) *Refusal {
	return &Refusal{Field: field, Text: fmt.Sprintf(format, args...)}
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
