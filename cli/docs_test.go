package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// written are the commands that a page tells its reader to give: lines of blocks, and what
// stands in backticks.
func written(page string) []string {
	var all []string
	page = strings.ReplaceAll(page, "\\\n", " ")
	for _, line := range strings.Split(page, "\n") {
		if block := strings.TrimSpace(line); strings.HasPrefix(line, "    ") && strings.HasPrefix(strings.TrimPrefix(block, "bin/"), "unitas ") {
			line, _, _ := strings.Cut(block, "  #")
			all = append(all, strings.TrimPrefix(line, "bin/"))
		}
	}
	for _, m := range regexp.MustCompile("`(unitas [a-z][^`]*)`").FindAllStringSubmatch(page, -1) {
		all = append(all, strings.Join(strings.Fields(m[1]), " "))
	}
	return all
}

// TestWhatIsWrittenCanBeGiven: every command in the README and the pages of tasks is there,
// with every flag that is written with it.
func TestWhatIsWrittenCanBeGiven(t *testing.T) {
	pages, err := filepath.Glob("../docs/tasks/*.md")
	if err != nil || len(pages) == 0 {
		t.Fatalf("no pages: %v", err)
	}
	found := 0
	for _, page := range append(pages, "../README.md", "../docs/concepts.md") {
		raw, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range written(string(raw)) {
			words := strings.Fields(line)[1:]
			if slices.Contains([]string{"serve", "backup", "restore", "completion"}, words[0]) { // of the host
				continue // the service's own, and the library's
			}
			found++
			if why := unwritten(words); why != "" {
				t.Errorf("%s says %q: %s", page, line, why)
			}
		}
	}
	if found < 100 {
		t.Errorf("only %d commands were found", found)
	}
}

// unwritten says why a command cannot be given as it is written, or "".
func unwritten(words []string) string {
	root := Root()
	cmd, rest := root, words
	for len(rest) > 0 {
		if cmd == root && strings.HasPrefix(rest[0], "-") { // a flag of all commands, with its value
			rest = rest[min(2, len(rest)):]
			continue
		}
		next := below(cmd, rest[0])
		if next == nil {
			break
		}
		cmd, rest = next, rest[1:]
	}
	if cmd.HasSubCommands() && cmd != root && len(rest) > 0 {
		return "there is no " + cmd.CommandPath() + " " + rest[0]
	}
	if cmd == root {
		return "there is no such command"
	}
	for _, word := range rest {
		if word == "--" || word == "&&" || word == "|" || word == ">" {
			break
		}
		name, _, _ := strings.Cut(strings.TrimPrefix(word, "--"), "=")
		if !strings.HasPrefix(word, "--") || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
			continue
		}
		if name != "help" && cmd.Flags().Lookup(name) == nil && cmd.InheritedFlags().Lookup(name) == nil {
			return "there is no flag --" + name
		}
	}
	return ""
}

func below(cmd *cobra.Command, name string) *cobra.Command {
	for _, c := range cmd.Commands() {
		if c.Name() == name {
			return c
		}
	}
	return nil
}
