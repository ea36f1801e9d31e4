package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"

	"unitas/internal/fleet/words"
)

// A fault's text begins with the value as it was understood, in the unit that its field
// has: "2h is too long; give 1h or less". So each door can put before it what the person
// wrote there, and leave the value out where that is the same.

// faultsOf takes the validator's errors apart into one fault for each field.
func faultsOf(err error) []fieldFault {
	var many openapi3.MultiError
	var request *openapi3filter.RequestError
	var schema *openapi3.SchemaError
	var parse *openapi3filter.ParseError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &request) && request.Parameter != nil:
		name := request.Parameter.Name
		switch {
		case errors.As(request.Err, &schema):
			return []fieldFault{{name, reasonOf(name, schema)}}
		case errors.As(request.Err, &parse) && parse.Value != nil:
			return []fieldFault{{name, fmt.Sprintf("%q is not %s", words.Plain(fmt.Sprint(parse.Value), 100), kindOf(request.Parameter.Schema.Value))}}
		case errors.Is(request.Err, openapi3filter.ErrInvalidRequired):
			return []fieldFault{{name, "is missing; it must be given"}}
		}
		return []fieldFault{{name, "cannot be read as " + kindOf(request.Parameter.Schema.Value)}}
	case errors.As(err, &request) && errors.Is(request.Err, openapi3filter.ErrInvalidRequired):
		return []fieldFault{{"", "the request has no body; it must have one"}}
	case errors.As(err, &request) && request.Err != nil:
		return faultsOf(request.Err)
	case errors.As(err, &many) && len(many) > 0:
		var out []fieldFault
		for _, one := range many {
			out = append(out, faultsOf(one)...)
		}
		return out
	case errors.As(err, &schema):
		at := pointerOf(schema)
		return []fieldFault{{at, reasonOf(at, schema)}}
	}
	return []fieldFault{{"", "the request cannot be read; what it may say is in /openapi.json"}}
}

var quoted = regexp.MustCompile(`property "([^"]+)"`)

// pointerOf is the field at fault: for one that is missing or unknown, its own
// place and not that of the object around it.
func pointerOf(e *openapi3.SchemaError) string {
	path := e.JSONPointer()
	if m := quoted.FindStringSubmatch(e.Reason); m != nil && (len(path) == 0 || path[len(path)-1] != m[1]) {
		path = append(slices.Clone(path), m[1])
	}
	for i, part := range path {
		path[i] = escape(part)
	}
	if len(path) == 0 {
		return ""
	}
	return "/" + strings.Join(path, "/")
}

// kindOf says what a value must be.
func kindOf(s *openapi3.Schema) string {
	switch {
	case s.Type.Is("integer"):
		return "a whole number"
	case s.Type.Is("number"):
		return "a number"
	case s.Type.Is("boolean"):
		return "true or false"
	case s.Type.Is("array"):
		return "a list"
	case s.Type.Is("object"):
		return "an object with fields"
	case s.Format == "date-time":
		return "a time such as 2026-03-01T22:00:00Z"
	}
	return "a text"
}

// unit is what a field's number is of, by the end of its name.
func unit(pointer string) string {
	for _, u := range []string{"bytes", "seconds", "percent"} {
		if strings.HasSuffix(pointer, "_"+u) {
			return u
		}
	}
	return ""
}

// figure writes a number in the unit of its field.
func figure(pointer string, v float64) string {
	switch unit(pointer) {
	case "bytes":
		return typedSize(v)
	case "seconds":
		if math.Abs(v) < 1e9 {
			return words.Typed(time.Duration(v * float64(time.Second)))
		}
		return plainNumber(v) + "s"
	case "percent":
		return plainNumber(v) + "%"
	}
	return plainNumber(v)
}

func plainNumber(v float64) string {
	if math.Abs(v) >= 1e15 {
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}

// typedSize is a number of bytes as a person would type it.
func typedSize(v float64) string {
	units := []string{" bytes", "KiB", "MiB", "GiB", "TiB"}
	k := 0
	for k < len(units)-1 && v >= 1024 && math.Mod(v, 1024) == 0 {
		v, k = v/1024, k+1
	}
	return plainNumber(v) + units[k]
}

// givenValue writes the value that was given.
func givenValue(pointer string, v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case float64:
		return figure(pointer, v)
	case json.Number:
		if f, err := v.Float64(); err == nil {
			return figure(pointer, f)
		}
		return v.String()
	case string:
		return strconv.Quote(words.Plain(v, 100))
	case bool:
		return strconv.FormatBool(v)
	case []any:
		return "a list"
	case map[string]any:
		return "an object"
	}
	return words.Plain(fmt.Sprint(v), 100)
}

// short and long are how a number of a unit is called that is out of its range.
var (
	short = map[string]string{"": "too small", "bytes": "too little", "seconds": "too short", "percent": "too little"}
	long  = map[string]string{"": "too large", "bytes": "too much", "seconds": "too long", "percent": "too much"}
)

// renamed is what a field that was known here by another name is called now; "" when it was not. The
// contract keeps the old names for one release.
func renamed(pointer string, s *openapi3.Schema) string {
	return calledNow(s.Extensions, pointer[strings.LastIndexByte(pointer, '/')+1:])
}

func calledNow(extensions map[string]any, was string) string {
	names, _ := extensions["x-renamed"].(map[string]any)
	name, _ := names[was].(string)
	return name
}

func reasonOf(pointer string, e *openapi3.SchemaError) string {
	value, of := givenValue(pointer, e.Value), unit(pointer)
	switch e.SchemaField {
	case "required":
		return "is missing; it must be given"
	case "properties", "additionalProperties":
		if name := renamed(pointer, e.Schema); name != "" {
			return "is called " + name + " now"
		}
		return "there is no such field here"
	case "pattern":
		if hint, ok := e.Schema.Extensions["x-hint"].(string); ok {
			return value + " " + hint
		}
		return value + " is not of the form that is taken here"
	case "enum":
		if now := calledNow(e.Schema.Extensions, fmt.Sprint(e.Value)); now != "" {
			return value + " is called " + now + " now"
		}
		all := make([]string, len(e.Schema.Enum))
		for i, w := range e.Schema.Enum {
			all[i] = fmt.Sprint(w)
		}
		return value + " is not one of " + strings.Join(all, ", ")
	case "minProperties":
		return "nothing is given; name at least one field"
	case "minimum", "exclusiveMinimum":
		return fmt.Sprintf("%s is %s; give %s or more", value, short[of], figure(pointer, *e.Schema.Min))
	case "maximum", "exclusiveMaximum":
		return fmt.Sprintf("%s is %s; give %s or less", value, long[of], figure(pointer, *e.Schema.Max))
	case "type":
		if e.Value == nil {
			return "null is not " + kindOf(e.Schema) + "; leave the field out"
		}
		return value + " is not " + kindOf(e.Schema)
	case "nullable":
		return "null is not a value here; leave the field out"
	case "format":
		return value + " is not " + kindOf(e.Schema)
	case "minLength":
		if e.Schema.MinLength == 1 {
			return "is empty; give a text, or leave it out"
		}
		return fmt.Sprintf("%s is too short; give %d characters or more", value, e.Schema.MinLength)
	case "maxLength":
		return fmt.Sprintf("the text is too long; give %d characters or fewer", *e.Schema.MaxLength)
	case "minItems":
		return fmt.Sprintf("the list is too short; name %d or more", e.Schema.MinItems)
	case "maxItems":
		return fmt.Sprintf("the list is too long; name %d or fewer", *e.Schema.MaxItems)
	case "uniqueItems":
		return "the list names something twice; name each once"
	case "maxProperties":
		return fmt.Sprintf("there are too many; give %d or fewer", *e.Schema.MaxProps)
	}
	return value + " cannot be taken here; what may be given is in /openapi.json"
}
