package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/pflag"
)

// pairsValue is a flag of NAME=VALUE pairs with commas between; given empty, it clears.
type pairsValue struct{ to *map[string]string }

// pairsVar adds a flag for pairs. A name that is given twice is refused, for one of the two
// would be lost.
func pairsVar(flags *pflag.FlagSet, to *map[string]string, name, help string) {
	flags.Var(&pairsValue{to}, name, help)
}

func (p *pairsValue) String() string {
	var all []string
	if p.to != nil {
		for _, name := range slices.Sorted(maps.Keys(*p.to)) {
			all = append(all, name+"="+(*p.to)[name])
		}
	}
	return strings.Join(all, ",")
}

func (*pairsValue) Type() string { return "pairs" }

// Set takes pairs; a value with a comma stands in quotes, as in CSV.
func (p *pairsValue) Set(text string) error {
	if *p.to == nil {
		*p.to = map[string]string{}
	}
	if text == "" {
		return nil
	}
	parts, err := csv.NewReader(strings.NewReader(text)).Read()
	if err != nil {
		return errors.New("has a quotation mark that does not end")
	}
	for _, pair := range parts {
		if err := addPair(*p.to, pair); err != nil {
			return err
		}
	}
	return nil
}

// addPair adds a pair that is written NAME=VALUE.
func addPair(to map[string]string, pair string) error {
	name, value, ok := strings.Cut(pair, "=")
	had, twice := to[name]
	switch {
	case !ok || name == "":
		return fmt.Errorf("%q is not NAME=VALUE, such as service=timetable", pair)
	case twice:
		return fmt.Errorf("%s is given twice, as %s and %s; give it once", name, had, value)
	}
	to[name] = value
	return nil
}
