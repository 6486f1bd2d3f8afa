package arch

import (
	"go/ast"
	"strings"
	"testing"
	"unicode/utf8"
)

// What a reader can take in at once.
const (
	mostColumns = 120 // a tab counts as 4
	mostLines   = 80  // of a function
	mostLevels  = 4   // of blocks inside of a function
	mostMethods = 40  // of a type
)

// TestLinesFit: no line is wider than a reader's window.
func TestLinesFit(t *testing.T) {
	for _, s := range sources(t, true) {
		for i, line := range strings.Split(string(s.text), "\n") {
			if n := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")); n > mostColumns {
				t.Errorf("%s:%d has %d columns", s.path, i+1, n)
			}
		}
	}
}

// TestFunctionsFit: functions are short and flat.
func TestFunctionsFit(t *testing.T) {
	for _, s := range sources(t, false) {
		for _, d := range s.file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || f.Body == nil {
				continue
			}
			if n := s.fset.Position(f.End()).Line - s.fset.Position(f.Pos()).Line + 1; n > mostLines {
				t.Errorf("%s: %s has %d lines", s.line(f), f.Name.Name, n)
			}
			if n := levels(f.Body); n > mostLevels {
				t.Errorf("%s: %s goes %d levels deep", s.line(f), f.Name.Name, n)
			}
		}
	}
}

// levels is how many blocks stand inside of each other below a node.
func levels(n ast.Node) (deepest int) {
	ast.Inspect(n, func(x ast.Node) bool {
		if x == n {
			return true
		}
		switch x := x.(type) {
		case *ast.IfStmt:
			deepest = max(deepest, 1+levels(x.Body))
			if next, chained := x.Else.(*ast.IfStmt); chained {
				deepest = max(deepest, levels(&ast.BlockStmt{List: []ast.Stmt{next}}))
			} else if x.Else != nil {
				deepest = max(deepest, 1+levels(x.Else))
			}
		case *ast.ForStmt:
			deepest = max(deepest, 1+levels(x.Body))
		case *ast.RangeStmt:
			deepest = max(deepest, 1+levels(x.Body))
		case *ast.SwitchStmt:
			deepest = max(deepest, 1+levels(x.Body))
		case *ast.TypeSwitchStmt:
			deepest = max(deepest, 1+levels(x.Body))
		case *ast.SelectStmt:
			deepest = max(deepest, 1+levels(x.Body))
		case *ast.FuncLit:
			deepest = max(deepest, 1+levels(x.Body))
		default:
			return true
		}
		return false
	})
	return deepest
}

// TestTypesFit: a type has one task.
func TestTypesFit(t *testing.T) {
	methods := map[string]int{}
	for _, s := range sources(t, false) {
		for _, d := range s.file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || f.Recv == nil {
				continue
			}
			receiver := f.Recv.List[0].Type
			if star, ok := receiver.(*ast.StarExpr); ok {
				receiver = star.X
			}
			if name, ok := receiver.(*ast.Ident); ok {
				methods[s.room+"."+name.Name]++
			}
		}
	}
	for name, n := range methods {
		if most := mostMethods; n > most {
			t.Errorf("%s has %d methods, and %d are enough", name, n, most)
		}
	}
}
