// Package bake makes image versions from recipes: it lays the parent's files
// out in a scratch tree, adds files, runs commands that can write nowhere else,
// and derives the next version from what is there then.
package bake

import (
	"bytes"
	"cmp"
	_ "embed" // the schema
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"sigs.k8s.io/yaml"
)

// Schema is the JSON Schema of a recipe.
//
//go:embed recipe.schema.json
var Schema []byte

// Time limits of a bake.
const (
	DefaultLimit = 10 * time.Minute
	longestLimit = 2 * time.Hour
	// MaxRecipe is how many bytes a recipe may have.
	MaxRecipe = 2 << 20
)

// Recipe says how an image is baked.
type Recipe struct {
	Parent    string            `json:"parent"`
	Files     []File            `json:"files,omitempty"`
	Commands  []Command         `json:"commands,omitempty"`
	Start     []string          `json:"start,omitempty"`
	Labels    map[string]string `json:"labels,omitempty"`
	TimeLimit string            `json:"time_limit,omitempty"`
}

// File is one file or directory to add.
type File struct {
	From string  `json:"from,omitempty"`
	Text *string `json:"text,omitempty"`
	To   string  `json:"to"`
	Mode string  `json:"mode,omitempty"`
}

// Command is a program with its arguments; a line of text is the shell's.
type Command []string

// UnmarshalJSON takes a line or a list.
func (c *Command) UnmarshalJSON(raw []byte) error {
	var line string
	if yaml.Unmarshal(raw, &line) == nil && len(raw) > 0 && raw[0] == '"' {
		*c = Command{"/bin/sh", "-ec", line}
		return nil
	}
	var list []string
	if err := yaml.Unmarshal(raw, &list); err != nil {
		return err
	}
	*c = list
	return nil
}

func (c Command) String() string {
	if len(c) == 3 && c[0] == "/bin/sh" && c[1] == "-ec" {
		return c[2]
	}
	return strings.Join(c, " ")
}

// Invalid is a recipe with everything that is wrong in it.
type Invalid struct{ Faults []string }

func (i *Invalid) Error() string { return "the recipe is not valid: " + strings.Join(i.Faults, "; ") }

var compiled = sync.OnceValue(func() *jsonschema.Schema {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		panic(err) // the schema is part of the program
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("recipe.schema.json", doc); err != nil {
		panic(err)
	}
	return c.MustCompile("recipe.schema.json")
})

// Parse reads a recipe. An *Invalid error names every field at fault.
func Parse(raw []byte) (Recipe, error) {
	var r Recipe
	if len(raw) > MaxRecipe {
		return r, &Invalid{[]string{fmt.Sprintf("it is longer than %d bytes", MaxRecipe)}}
	}
	plain, err := yaml.YAMLToJSONStrict(raw)
	if err != nil {
		return r, &Invalid{[]string{"it is not good YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}}
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(plain))
	if err != nil {
		return r, &Invalid{[]string{err.Error()}}
	}
	var wrong *jsonschema.ValidationError
	if err := compiled().Validate(doc); errors.As(err, &wrong) {
		return r, &Invalid{faults(wrong)}
	} else if err != nil {
		return r, err
	}
	if err := yaml.Unmarshal(plain, &r); err != nil {
		return r, &Invalid{[]string{err.Error()}}
	}
	return r, r.check()
}

func faults(e *jsonschema.ValidationError) []string {
	if len(e.Causes) == 0 {
		text := e.ErrorKind.LocalizedString(message.NewPrinter(language.English))
		return []string{cmp.Or(strings.Join(e.InstanceLocation, "/"), "recipe") + ": " + text}
	}
	var all []string
	for _, c := range e.Causes {
		all = append(all, faults(c)...)
	}
	return all
}

// check is what a schema cannot say.
func (r Recipe) check() error {
	var all []string
	for i, f := range r.Files {
		at := fmt.Sprintf("files/%d/", i)
		if _, ok := inside(f.To); !ok {
			all = append(all, at+"to: "+strconv.Quote(f.To)+" leads out of the image; give a path from its root")
		}
		if clean, ok := inside(f.From); f.Text == nil && (!ok || path.IsAbs(f.From) || clean == ".") {
			all = append(all, at+"from: "+strconv.Quote(f.From)+" is not beside the recipe; give a path from its directory")
		}
	}
	for i, c := range r.Commands {
		if c[0] == "" {
			all = append(all, fmt.Sprintf("commands/%d: the program has no name", i))
		}
	}
	if _, err := r.Limit(); err != nil {
		all = append(all, "time_limit: "+err.Error())
	}
	if len(all) > 0 {
		return &Invalid{all}
	}
	return nil
}

// inside cleans a path of the image; it must not lead out.
func inside(name string) (string, bool) {
	if strings.ContainsRune(name, 0) {
		return "", false
	}
	clean := path.Clean(strings.TrimLeft(name, "/"))
	return clean, clean != ".." && !strings.HasPrefix(clean, "../")
}

// Limit is how long the bake may take.
func (r Recipe) Limit() (time.Duration, error) {
	if r.TimeLimit == "" {
		return DefaultLimit, nil
	}
	d, err := time.ParseDuration(r.TimeLimit)
	if err != nil || d <= 0 || d > longestLimit {
		return 0, fmt.Errorf("%q is not a time up to %s, such as 5m", r.TimeLimit, longestLimit)
	}
	return d, nil
}

// Beside are the paths beside the recipe that it needs.
func (r Recipe) Beside() []string {
	var all []string
	for _, f := range r.Files {
		if f.Text == nil {
			all = append(all, path.Clean(f.From))
		}
	}
	return all
}
