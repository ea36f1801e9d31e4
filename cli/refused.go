package cli

import (
	"errors"
	"regexp"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unitas/client"
)

// refusal is what to say of an error: each fault of a refused request beside what the
// person wrote for it.
func refusal(cmd *cobra.Command, typed []string, err error) []string {
	var e *client.Error
	if !errors.As(err, &e) || e.Errors == nil || len(*e.Errors) == 0 {
		return []string{oneLine(err)}
	}
	var all []string
	flags := false
	for _, fault := range *e.Errors {
		line := strings.TrimSuffix(fault.Detail, ".")
		if f, said := flagOf(cmd, typed, fault.Pointer); f != nil {
			line, flags = beside(f, said, inFlags(cmd, line)), true
		} else if at := strings.Trim(fault.Pointer, "/"); at != "" && !strings.HasPrefix(line, `"`) && len(*e.Errors) > 1 {
			line = at + ": " + line
		}
		all = append(all, strings.Join(strings.Fields(line), " "))
	}
	if !flags && len(all) == 1 && !strings.HasPrefix(all[0], `"`) {
		return []string{oneLine(err)}
	}
	return all
}

// beside puts what was written with a flag before what is wrong with it.
func beside(f *pflag.Flag, said, fault string) string {
	written := strings.TrimSuffix("--"+f.Name+" "+said, " ")
	if strings.HasPrefix(fault, "is ") {
		return written + " " + fault
	}
	if rest, ok := strings.CutPrefix(fault, said+" bytes is "); ok && said != "" {
		return written + " is " + said + " bytes, " + rest
	}
	for _, same := range []string{strconv.Quote(said) + " ", said + " "} {
		if rest, ok := strings.CutPrefix(fault, same); ok && said != "" {
			return written + " " + rest
		}
	}
	return written + ": " + fault
}

// flagOf is the flag that a field of the request was written with, nil when there is none,
// and what was typed for it.
func flagOf(cmd *cobra.Command, typed []string, pointer string) (*pflag.Flag, string) {
	parts := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for k, part := range parts {
		for _, name := range namesOf(part) {
			if f := cmd.Flags().Lookup(name); f != nil {
				return f, typedPart(f, typed, parts[k+1:])
			}
		}
	}
	return nil, ""
}

// shortNames are flags that are called otherwise than their field.
var shortNames = map[string]string{"listeners": "listen", "ports": "open", "new-template": "template"}

// namesOf are the flags that may stand for a field: its unit is in what is typed, and a
// flag that may be repeated names one.
func namesOf(field string) []string {
	name := field
	for _, unit := range []string{"_seconds", "_bytes", "_percent"} {
		name = strings.TrimSuffix(name, unit)
	}
	name = strings.ReplaceAll(name, "_", "-")
	if short := shortNames[name]; short != "" {
		return []string{short}
	}
	return []string{name, strings.TrimSuffix(name, "s")}
}

// typedPart is what was typed for the flag: of a list the element, of pairs the pair.
func typedPart(f *pflag.Flag, typed []string, within []string) string {
	all := typedFor(f, typed)
	if len(within) > 0 {
		one := all
		if list, ok := f.Value.(pflag.SliceValue); ok {
			one = list.GetSlice()
		}
		if k, err := strconv.Atoi(within[0]); err == nil && k < len(one) {
			return one[k]
		}
		if p, ok := f.Value.(*pairsValue); ok {
			if value, there := (*p.to)[within[0]]; there {
				return within[0] + "=" + value
			}
		}
	}
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1]
}

// typedFor is what was typed for a flag, each time.
func typedFor(f *pflag.Flag, typed []string) []string {
	var all []string
	for k, word := range typed {
		if word == "--" {
			break
		}
		if value, ok := strings.CutPrefix(word, "--"+f.Name+"="); ok {
			all = append(all, value)
		} else if word == "--"+f.Name && k+1 < len(typed) && f.NoOptDefVal == "" {
			all = append(all, typed[k+1])
		}
	}
	return all
}

var otherField = regexp.MustCompile(`\b(raise|lower) ([a-z-]+)\b`)

// inFlags names other fields, in what to do, as flags.
func inFlags(cmd *cobra.Command, text string) string {
	return otherField.ReplaceAllStringFunc(text, func(both string) string {
		verb, field, _ := strings.Cut(both, " ")
		if cmd.Flags().Lookup(field) == nil {
			return both
		}
		return verb + " --" + field
	})
}

// misread is a flag that cannot be read, in plain words.
func misread(cmd *cobra.Command, err error) error {
	var value *pflag.InvalidValueError
	var without *pflag.ValueRequiredError
	var unknown *pflag.NotExistError
	switch {
	case errors.As(err, &value):
		f := value.GetFlag()
		why := ""
		switch f.Value.Type() {
		case "duration":
			why = "is not a time; give one such as 30s, 5m or 1h30m"
		case "bool":
			why = "is neither true nor false; leave the value out for true"
		case "float64":
			why = "is not a number; give one such as 0.5"
		case "int", "int64":
			if errors.Is(value.Unwrap(), strconv.ErrSyntax) || errors.Is(value.Unwrap(), strconv.ErrRange) {
				why = "is not a whole number"
			}
		}
		if why == "" {
			why = value.Unwrap().Error()
		}
		return usage{errors.New(beside(f, value.GetValue(), why))}
	case errors.As(err, &without):
		return misused("--%s needs a value", without.GetSpecifiedName())
	case errors.As(err, &unknown):
		return noFlag(cmd, strings.TrimPrefix(err.Error(), "unknown flag: "))
	}
	return usage{err}
}

var (
	missingFlags   = regexp.MustCompile(`^required flag\(s\) (.+) not set$`)
	exclusiveFlags = regexp.MustCompile(`^if any flags in the group \[.*\] are set none of the others can be; \[(.+)\] were all set$`)
)

// miscalled is how a command was called wrongly, in plain words.
func miscalled(err error) string {
	text := oneLine(err)
	if m := missingFlags.FindStringSubmatch(text); m != nil {
		flags := strings.Split(strings.ReplaceAll(m[1], `"`, ""), ", ")
		return "give --" + strings.Join(flags, " and --")
	}
	if m := exclusiveFlags.FindStringSubmatch(text); m != nil {
		return "give only one of --" + strings.Join(strings.Fields(m[1]), " and --")
	}
	return text
}
