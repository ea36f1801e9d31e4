package architecture

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// guarded holds a file against the rule that a fault in a goroutine ends that goroutine's work and
// not the service: whatever begins one (a go statement, a WaitGroup's Go, a timer's or a context's
// AfterFunc) goes through internal/caught, or begins with catching.
func guarded(set *token.FileSet, file *ast.File) (bare []string) {
	ast.Inspect(file, func(n ast.Node) bool {
		switch one := n.(type) {
		case *ast.GoStmt:
			if !catches(one.Call.Fun) {
				bare = append(bare, fmt.Sprintf("%s: a go statement", set.Position(one.Pos())))
			}
		case *ast.CallExpr:
			of, ok := one.Fun.(*ast.SelectorExpr)
			if !ok || len(one.Args) == 0 || isOf(of.X, "caught") || (of.Sel.Name != "Go" && of.Sel.Name != "AfterFunc") {
				return true
			}
			if !catches(one.Args[len(one.Args)-1]) {
				bare = append(bare, fmt.Sprintf("%s: %s", set.Position(one.Pos()), of.Sel.Name))
			}
		}
		return true
	})
	return bare
}

// catches reports whether a function is one of internal/caught, or a literal that defers one of
// those first.
func catches(f ast.Expr) bool {
	switch one := f.(type) {
	case *ast.CallExpr: // caught.Func(…)
		of, ok := one.Fun.(*ast.SelectorExpr)
		return ok && isOf(of.X, "caught")
	case *ast.FuncLit:
		if len(one.Body.List) == 0 {
			return false
		}
		first, ok := one.Body.List[0].(*ast.DeferStmt)
		if !ok {
			return false
		}
		of, ok := first.Call.Fun.(*ast.SelectorExpr)
		return ok && isOf(of.X, "caught")
	}
	return false
}

func isOf(x ast.Expr, name string) bool {
	id, ok := x.(*ast.Ident)
	return ok && id.Name == name
}

// apart are rooms whose goroutines are not the service's: of tests, of the stand-in for mail, and
// the room of the guard itself.
var apart = []string{"internal/caught", "internal/pgserver/pgtest", "internal/mailcatch", "internal/waittest", "internal/porttest", "internal/certtest"}

// TestEveryGoroutineIsGuarded names every place of the service that begins a goroutine whose fault
// would end it.
func TestEveryGoroutineIsGuarded(t *testing.T) {
	looked := 0
	for _, root := range []string{"../../internal", "../../cmd"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			for _, dir := range apart {
				if strings.Contains(filepath.ToSlash(path), dir+"/") {
					return nil
				}
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, path, nil, 0)
			if err != nil {
				return err
			}
			looked++
			for _, bare := range guarded(set, file) {
				t.Errorf("%s that nothing catches the faults of; begin it by internal/caught", bare)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if looked < 200 {
		t.Errorf("only %d files were looked at", looked)
	}
}

// TestTheGuardIsSeen: what the rule takes and what it does not.
func TestTheGuardIsSeen(t *testing.T) {
	const text = `package p
func f() {
	go g()
	go func() { g() }()
	go func() { defer caught.Told("g", nil); g() }()
	all.Go(g)
	all.Go(caught.Func("g", g))
	caught.Go("g", g)
	time.AfterFunc(1, g)
	time.AfterFunc(1, func() { defer caught.Told("g", nil); g() })
	context.AfterFunc(ctx, caught.Func("g", g))
}`
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, "p.go", text, 0)
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(guarded(set, file), ", "); got != "p.go:3:2: a go statement, p.go:4:2: a go statement, p.go:6:2: Go, p.go:9:2: AfterFunc" {
		t.Errorf("it names %s", got)
	}
}
