package main

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestTheTableIsCurrent: every fault is of a place that is in the core once, and breaks
// it into something that can still be read as Go.
func TestTheTableIsCurrent(t *testing.T) {
	if len(faults) < 60 || len(served) < 120 {
		t.Errorf("only %d faults of the core and %d of what is served are tried", len(faults), len(served))
	}
	names := map[string]bool{}
	defer func() {
		for _, s := range situations {
			if !names[s.fault] || (!s.plans && s.by == "") {
				t.Errorf("situation %d: %q is no fault of the tables, or nobody is named who notices", s.n, s.fault)
			}
		}
	}()
	for _, f := range slices.Concat(faults, sizes, meetings, passed, served) {
		if names[f.name] {
			t.Errorf("%s: is there twice", f.name)
		}
		names[f.name] = true
		raw, err := os.ReadFile(filepath.Join("..", "..", f.path()))
		if err != nil {
			t.Fatal(err)
		}
		if n := strings.Count(string(raw), f.was); n != 1 {
			t.Errorf("%s: %q is %d times in %s", f.name, f.was, n, f.file)
			continue
		}
		if _, err := parser.ParseFile(token.NewFileSet(), f.file, strings.Replace(string(raw), f.was, f.now, 1), parser.SkipObjectResolution); err != nil {
			t.Errorf("%s: %v", f.name, err)
		}
	}
}
