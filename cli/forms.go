package cli

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// forms are settings that are written NAME=VALUE with commas between, each with what reads it.
// A reader returns what to give instead of a value that it cannot read, or "".
type forms map[string]func(value string) (instead string)

// read reads what was given with a flag.
func (p forms) read(flag, text string) error {
	for one := range strings.SplitSeq(text, ",") {
		name, value, given := strings.Cut(one, "=")
		take := p[name]
		switch {
		case take == nil && p[renamedSettings[flag][name]] != nil:
			return misused("--%s %s: the setting %s", flag, text, calledNow(name, renamedSettings[flag][name]))
		case take == nil:
			return misused("--%s %s: there is no setting %q; there are %s", flag, text, name, strings.Join(slices.Sorted(maps.Keys(p)), ", "))
		case !given:
			return misused("--%s %s: give %s=VALUE", flag, text, name)
		}
		if instead := take(value); instead != "" {
			return misused("--%s: %s=%s: give %s", flag, name, value, instead)
		}
	}
	return nil
}

// readAll reads what was given with a flag that may be repeated.
func (p forms) readAll(flag string, all []string) error {
	for _, text := range all {
		if err := p.read(flag, text); err != nil {
			return err
		}
	}
	return nil
}

// intoSeconds reads a time into seconds.
func intoSeconds(to **float64) func(string) string {
	return func(value string) string {
		d, err := time.ParseDuration(value)
		if value == "0" || value == "none" {
			d, err = 0, nil
		}
		if err != nil || d < 0 {
			return "a time such as 30s or 5m, or none"
		}
		s := d.Seconds()
		*to = &s
		return ""
	}
}

// intoBytes reads a size.
func intoBytes(to **int64) func(string) string {
	return func(value string) string {
		if value == "none" {
			value = "0"
		}
		n, err := parseSize(value)
		if err != nil {
			return "a size such as 64KiB or 10MiB, or none"
		}
		*to = &n
		return ""
	}
}

// intoNumber reads a count.
func intoNumber(to **int) func(string) string {
	return func(value string) string {
		n, err := parseNumber(value)
		if value == "none" {
			n, err = 0, nil
		}
		if err != nil {
			return "a whole number, or none"
		}
		*to = &n
		return ""
	}
}

// intoRate reads how many, with or without what of.
func intoRate(to **float64, instead string, suffixes ...string) func(string) string {
	return func(value string) string {
		for _, s := range suffixes {
			value = strings.TrimSuffix(value, s)
		}
		if value == "none" {
			value = "0"
		}
		v, err := strconv.ParseFloat(value, 64)
		if err != nil || v < 0 {
			return instead
		}
		*to = &v
		return ""
	}
}

// intoText takes a text as it is.
func intoText(to **string) func(string) string {
	return func(value string) string {
		*to = &value
		return ""
	}
}
