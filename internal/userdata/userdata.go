// Package userdata reads what an instance is given to run at its first boot.
// Of cloud-init's open forms it understands a script that begins with #! and,
// after a first line of #cloud-config, write_files and runcmd
// (https://cloudinit.readthedocs.io/en/latest/explanation/format.html).
package userdata

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Longest is how long user data may be, in bytes.
const Longest = 64 << 10

// Plan is what happens at first boot. At most one of Script and the others is
// set; all are empty when there is no user data.
type Plan struct {
	Script   string
	Files    []File
	Commands [][]string // each a program with its arguments
}

// File is one of write_files.
type File struct {
	Path    string // from the root of the machine's files, without a leading slash
	Content []byte
	Mode    fs.FileMode
	Append  bool
}

// Empty reports whether nothing is to be done.
func (p Plan) Empty() bool { return p.Script == "" && len(p.Files) == 0 && len(p.Commands) == 0 }

// Flaw is user data that is not understood, with the line, counted from 1.
type Flaw struct {
	Line int
	Why  string
}

func (f *Flaw) Error() string { return fmt.Sprintf("line %d: %s", f.Line, f.Why) }

func fault(line int, format string, args ...any) error {
	return &Flaw{max(line, 1), fmt.Sprintf(format, args...)}
}

// Parse reads user data. A *Fault error names the first line that is not
// understood.
func Parse(text string) (Plan, error) {
	switch {
	case strings.TrimSpace(text) == "":
		return Plan{}, nil
	case len(text) > Longest:
		return Plan{}, fault(1, "the user data is longer than %d KiB", Longest>>10)
	case strings.HasPrefix(text, "#!"):
		return script(text)
	}
	first, rest, _ := strings.Cut(text, "\n")
	if strings.TrimRight(first, " \t\r") != "#cloud-config" {
		return Plan{}, fault(1, "%q is neither #! with a program nor #cloud-config; give a script or a cloud-config with write_files and runcmd", clip(first))
	}
	return config(rest)
}

func script(text string) (Plan, error) {
	first, _, _ := strings.Cut(text, "\n")
	program := strings.Fields(strings.TrimPrefix(first, "#!"))
	if len(program) == 0 || !path.IsAbs(program[0]) {
		return Plan{}, fault(1, "%q does not name a program with an absolute path, such as #!/bin/sh", clip(first))
	}
	if i := strings.IndexByte(text, 0); i >= 0 {
		return Plan{}, fault(1+strings.Count(text[:i], "\n"), "there is a zero byte")
	}
	return Plan{Script: text}, nil
}

func clip(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

// config reads a cloud-config; its first line was taken off.
func config(text string) (Plan, error) {
	var doc yaml.Node
	d := yaml.NewDecoder(strings.NewReader("\n" + text)) // so that lines count as in the whole
	if err := d.Decode(&doc); errors.Is(err, io.EOF) {
		return Plan{}, fault(1, "the cloud-config is empty; give write_files or runcmd")
	} else if err != nil {
		return Plan{}, yamlFault(err)
	}
	if err := d.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return Plan{}, fault(1, "there is a second document; give one")
	}
	top := doc.Content[0]
	var p Plan
	err := each(top, "the cloud-config", func(key, value *yaml.Node) (err error) {
		switch key.Value {
		case "write_files":
			p.Files, err = files(value)
		case "runcmd":
			p.Commands, err = commands(value)
		default:
			err = fault(key.Line, "%q is not understood here; only write_files and runcmd are", clip(key.Value))
		}
		return err
	})
	return p, err
}

func yamlFault(err error) error {
	text := strings.TrimPrefix(err.Error(), "yaml: ")
	if rest, ok := strings.CutPrefix(text, "line "); ok {
		if number, why, ok := strings.Cut(rest, ": "); ok {
			if n, err := strconv.Atoi(number); err == nil {
				return fault(n, "%s", why)
			}
		}
	}
	return fault(1, "it is not good YAML: %s", text)
}

// each walks the keys of a mapping, each of which may be there once.
func each(n *yaml.Node, what string, f func(key, value *yaml.Node) error) error {
	if n.Kind != yaml.MappingNode {
		return fault(n.Line, "%s must be a mapping of names to values", what)
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		if seen[key.Value] {
			return fault(key.Line, "%q is given twice", clip(key.Value))
		}
		seen[key.Value] = true
		if err := f(key, n.Content[i+1]); err != nil {
			return err
		}
	}
	return nil
}

func text(n *yaml.Node, what string) (string, error) {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" || n.Tag == "!!binary" {
		return "", fault(n.Line, "%s must be text", what)
	}
	if strings.ContainsRune(n.Value, 0) {
		return "", fault(n.Line, "%s has a zero byte", what)
	}
	return n.Value, nil
}

func files(n *yaml.Node) ([]File, error) {
	if n.Kind != yaml.SequenceNode {
		return nil, fault(n.Line, "write_files must be a list")
	}
	var all []File
	for _, item := range n.Content {
		f, err := file(item)
		if err != nil {
			return nil, err
		}
		all = append(all, f)
	}
	return all, nil
}

func file(n *yaml.Node) (File, error) {
	f := File{Mode: 0o644}
	var content, encoding string
	encodingLine := n.Line
	if err := each(n, "a file of write_files", func(key, value *yaml.Node) error {
		v, err := text(value, key.Value)
		if err != nil {
			return err
		}
		switch key.Value {
		case "path":
			clean := path.Clean("/" + v)[1:]
			if !path.IsAbs(v) || clean == "" || strings.HasSuffix(v, "/") {
				return fault(value.Line, "path %q is not the absolute path of a file", clip(v))
			}
			f.Path = clean
		case "content":
			content = v
		case "encoding":
			encoding, encodingLine = v, value.Line
		case "permissions":
			mode, err := strconv.ParseUint(strings.TrimPrefix(v, "0o"), 8, 9)
			if err != nil {
				return fault(value.Line, "permissions %q are not octal, such as '0644'", clip(v))
			}
			f.Mode = fs.FileMode(mode)
		case "append":
			if v != "true" && v != "false" {
				return fault(value.Line, "append must be true or false")
			}
			f.Append = v == "true"
		default:
			return fault(key.Line, "%q is not understood in a file; path, content, encoding, permissions and append are. Files belong to the instance's user", clip(key.Value))
		}
		return nil
	}); err != nil {
		return f, err
	}
	if f.Path == "" {
		return f, fault(n.Line, "a file has no path")
	}
	var err error
	if f.Content, err = decode(content, encoding); err != nil {
		return f, fault(encodingLine, "%v", err)
	}
	return f, nil
}

// maxFile bounds what a compressed file may unpack to.
const maxFile = 8 << 20

func decode(content, encoding string) ([]byte, error) {
	raw := []byte(content)
	switch encoding {
	case "", "text/plain":
		return raw, nil
	case "b64", "base64", "gz+b64", "gz+base64", "gzip+b64", "gzip+base64":
	default:
		return nil, fmt.Errorf("the encoding %q is not understood; text/plain, b64 and gz+b64 are", clip(encoding))
	}
	raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(content), ""))
	if err != nil {
		return nil, fmt.Errorf("the content is not base64: %v", err)
	}
	if !strings.HasPrefix(encoding, "gz") {
		return raw, nil
	}
	z, err := gzip.NewReader(bytes.NewReader(raw))
	if err == nil {
		raw, err = io.ReadAll(io.LimitReader(z, maxFile+1))
	}
	if err != nil {
		return nil, fmt.Errorf("the content is not gzip: %v", err)
	}
	if len(raw) > maxFile {
		return nil, fmt.Errorf("the content unpacks to more than %d MiB", maxFile>>20)
	}
	return raw, nil
}

func commands(n *yaml.Node) ([][]string, error) {
	if n.Kind != yaml.SequenceNode {
		return nil, fault(n.Line, "runcmd must be a list")
	}
	var all [][]string
	for _, item := range n.Content {
		if item.Kind != yaml.SequenceNode {
			line, err := text(item, "a command of runcmd")
			if err != nil {
				return nil, err
			}
			all = append(all, []string{"/bin/sh", "-c", line})
			continue
		}
		var words []string
		for _, w := range item.Content {
			word, err := text(w, "a word of a command")
			if err != nil {
				return nil, err
			}
			words = append(words, word)
		}
		if len(words) == 0 || words[0] == "" {
			return nil, fault(item.Line, "a command has no program")
		}
		all = append(all, words)
	}
	return all, nil
}

// Shell writes the commands as a script that ends at the first that fails.
func Shell(commands [][]string) string {
	var b strings.Builder
	b.WriteString("#!/bin/sh\n")
	for _, words := range commands {
		for i, w := range words {
			if i > 0 {
				b.WriteByte(' ')
			}
			b.WriteString("'" + strings.ReplaceAll(w, "'", `'\''`) + "'")
		}
		b.WriteString(" || exit\n")
	}
	return b.String()
}
