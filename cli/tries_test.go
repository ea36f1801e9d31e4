package cli

import (
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// changesOnly are commands that change something and cannot only try it: what they do is work
// outside the books, or an answer that is wanted at once.
var changesOnly = []string{
	"image import", "image export", "image bake", "image copy", "image delete", "image from-instance", "template from-instance",
	"instance run", "instance shell", "hook secret", "metric push", "ticket pass", "ticket fail", "ticket extend", "ticket send",
	"notice secret", "notice send", "drill stop", "config add", "config use", "config remove",
}

// readsOnly are the words of commands that change nothing.
var readsOnly = []string{"list", "show", "diff", "marks", "lineage", "bake-log", "boot-log", "failures", "deliveries", "messages", "try", "replay", "export", "findings",
	"rehearse", "watch", "access-log", "status", "check", "stands"}

// TestWhatChangesCanBeTried: a command that changes something has --dry-run, or is one of those
// that cannot.
func TestWhatChangesCanBeTried(t *testing.T) {
	have := map[string]*cobra.Command{}
	for _, top := range Root().Commands() {
		for _, cmd := range top.Commands() {
			have[top.Name()+" "+cmd.Name()] = cmd
		}
	}
	for _, path := range append(slices.Clone(tried), changesOnly...) {
		if have[path] == nil {
			t.Errorf("there is no command %s", path)
		}
	}
	for path, cmd := range have {
		_, word, _ := strings.Cut(path, " ")
		flag := cmd.Flags().Lookup("dry-run")
		dry := flag != nil && !flag.Hidden
		switch {
		case slices.Contains(changesOnly, path), slices.Contains(readsOnly, word):
			if dry {
				t.Errorf("%s has --dry-run, and is listed as one that has none", path)
			}
		case !dry:
			t.Errorf("%s has no --dry-run", path)
		}
	}
}
