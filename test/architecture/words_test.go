package architecture

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// oldWords are what users met once and do not meet any more, in any text of ours.
var oldWords = regexp.MustCompile(`--(stay|stay-for|speak|tell|least-tls|near|choose|nobody|leave-out|at-rest|bound|foresee|over|span|line|target|of|in)\b( |$)|\b(least_tls|quiet_seconds|aside_(until|why|nth)|footing|unwell|thinks|came_back|began_(at|by)|leave_out|at_rest|bound_(at|seconds)|pace_percent|foreseen?|foresight|head_(seconds|bytes)|failing-places)\b|[:,](broken|undecided|points|least)=|(stays?|are) past (a|the) line|\blistener served\b|\b[Dd]ivert|\b[Ss](et|ets|etting) (it |them |a target |targets |one )?aside\b|\bquiet=|\bstay(s)? by\b|[Ww]ith nobody healthy`)

// TestOldWordsAreGone from the help of commands (as docs/commands.md has it), the contract, the texts
// of the console and the docs; the contract's table of what was renamed has them.
func TestOldWordsAreGone(t *testing.T) {
	n := 0
	for _, root := range []string{"docs", "api/openapi.yaml", "web/src", "README.md", "demo"} {
		err := filepath.WalkDir(filepath.Join("../..", root), func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			switch filepath.Ext(path) {
			case ".md", ".yaml", ".ts", ".tsx", ".go", ".sh":
			default:
				return nil
			}
			raw, err := os.ReadFile(path)
			if err != nil || strings.Contains(path, ".gen.") {
				return err
			}
			n++
			for i, line := range strings.Split(string(raw), "\n") {
				if old := oldWords.FindString(line); old != "" && !strings.Contains(line, "x-renamed:") {
					t.Errorf("%s:%d has %q, which has another name now", path, i+1, old)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if n < 50 {
		t.Errorf("only %d files were read", n)
	}
}

// TestTheGlossaryIsShort: at most 60 entries, each once.
func TestTheGlossaryIsShort(t *testing.T) {
	raw, err := os.ReadFile("../../docs/names.md")
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, m := range regexp.MustCompile(`(?m)^\| \*\*([^*]+)\*\*`).FindAllStringSubmatch(string(raw), -1) {
		if seen[m[1]] {
			t.Errorf("%s is told twice", m[1])
		}
		seen[m[1]] = true
	}
	if n := len(seen); n < 40 || n > 60 {
		t.Errorf("there are %d entries, want at most 60", n)
	}
}
