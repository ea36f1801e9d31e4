package cli

import (
	"fmt"
	"regexp"
	"strconv"

	"github.com/spf13/pflag"
)

// wholeNumber is how a count may be written: 2, not +2, -2, 010 or 0x2. Somebody who
// writes +2 means two more, and would get two.
var wholeNumber = regexp.MustCompile(`^(?:0|[1-9][0-9]*)$`)

// parseNumber reads a count.
func parseNumber(text string) (int, error) {
	if !wholeNumber.MatchString(text) {
		return 0, fmt.Errorf("%q is not a whole number from 0 on, without a sign or a zero before it, such as 12", text)
	}
	n, err := strconv.ParseInt(text, 10, 32)
	if err != nil {
		return 0, fmt.Errorf("%s is too large", text)
	}
	return int(n), nil
}

// number is a count as a flag.
type number[T int | int64] struct{ to *T }

func (n number[T]) String() string {
	if n.to == nil {
		return "0"
	}
	return strconv.FormatInt(int64(*n.to), 10)
}

func (n number[T]) Set(text string) error {
	v, err := parseNumber(text)
	if err == nil {
		*n.to = T(v)
	}
	return err
}

func (number[T]) Type() string { return "int" }

// numberVar adds a flag for a count.
func numberVar[T int | int64](flags *pflag.FlagSet, to *T, name string, usual T, help string) {
	*to = usual
	flags.Var(number[T]{to}, name, help)
}
