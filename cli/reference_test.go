package cli

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

var update = flag.Bool("update", false, "rewrite docs/commands.md")

const referenceFile = "../docs/commands.md"

// TestReferenceIsCurrent holds docs/commands.md against the commands.
func TestReferenceIsCurrent(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Every command\n\nWritten from the commands themselves by `go test ./cli -update`. " +
		"Every reading command takes `--output json` or `yaml`.\nThe exit status is 0, 1 for a refused request, 2 for wrong usage, 3 when a watched operation ended badly.\n")
	root := Root()
	fmt.Fprintf(&b, "\n## For all\n\n%s", options(root.PersistentFlags()))
	walk(root, func(c *cobra.Command) {
		fmt.Fprintf(&b, "\n## %s\n\n", c.CommandPath())
		fmt.Fprintf(&b, "    %s\n\n", c.UseLine())
		text := c.Long
		if text == "" {
			text = c.Short + "."
		}
		b.WriteString(text + "\n")
		if c.Example != "" {
			fmt.Fprintf(&b, "\n    %s\n", strings.ReplaceAll(strings.TrimSpace(c.Example), "\n", "\n  "))
		}
		if o := options(c.LocalNonPersistentFlags()); o != "" {
			b.WriteString("\n" + o)
		}
	})
	if *update {
		if err := os.WriteFile(referenceFile, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(referenceFile)
	if err != nil {
		t.Fatal(err)
	}
	if string(have) != b.String() {
		t.Error("docs/commands.md is not what the commands say; run: go test ./cli -update")
	}
}

func walk(c *cobra.Command, visit func(*cobra.Command)) {
	for _, child := range c.Commands() {
		if child.HasSubCommands() {
			walk(child, visit)
		} else if child.Name() != "help" && child.Name() != "completion" {
			visit(child)
		}
	}
}

func options(flags *pflag.FlagSet) string {
	var rows []string
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" {
			return
		}
		otherwise := f.DefValue
		if otherwise == "" || otherwise == "[]" || f.Name == "token-file" || f.Name == "server" {
			otherwise = ""
		} else {
			otherwise = "`" + otherwise + "`"
		}
		name, text := pflag.UnquoteUsage(f)
		rows = append(rows, fmt.Sprintf("| `--%s` %s | %s | %s |\n", f.Name, name, text, otherwise))
	})
	if len(rows) == 0 {
		return ""
	}
	return "| option | meaning | without it |\n| --- | --- | --- |\n" + strings.Join(rows, "")
}

// TestEveryCommandHelps: each says what it does, and those that do something
// worth an example have one.
func TestEveryCommandHelps(t *testing.T) {
	n := 0
	walk(Root(), func(c *cobra.Command) {
		n++
		if c.Short == "" || strings.HasSuffix(c.Short, ".") {
			t.Errorf("%s says %q of itself", c.CommandPath(), c.Short)
		}
		if c.Args == nil {
			t.Errorf("%s takes any arguments", c.CommandPath())
		}
		c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
			if f.Usage == "" {
				t.Errorf("%s --%s says nothing of itself", c.CommandPath(), f.Name)
			}
		})
	})
	if n < 25 {
		t.Errorf("there are only %d commands", n)
	}
}
