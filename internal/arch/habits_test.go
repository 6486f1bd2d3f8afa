package arch

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// source is one file of the product.
type source struct {
	path string // relative to internal, or to the project for what lies elsewhere
	room string // package, as in order
	file *ast.File
	fset *token.FileSet
	text []byte
}

func (s *source) line(n ast.Node) string {
	return fmt.Sprintf("%s:%d", s.path, s.fset.Position(n.Pos()).Line)
}

// sources are all files of the project; tests tells whether those of tests are wanted too.
func sources(t *testing.T, tests bool) []*source {
	t.Helper()
	var out []*source
	root := "../.."
	err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") && !tests {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, path, text, 0)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(root, path)
		if err != nil {
			return err
		}
		rel = strings.TrimPrefix(filepath.ToSlash(rel), "internal/")
		out = append(out, &source{rel, filepath.ToSlash(filepath.Dir(rel)), file, fset, text})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestContextsComeFromAbove: only main makes one.
func TestContextsComeFromAbove(t *testing.T) {
	for _, s := range sources(t, false) {
		if s.file.Name.Name == "main" || testsOnly[s.room] {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			if sel, ok := n.(*ast.SelectorExpr); ok && (sel.Sel.Name == "Background" || sel.Sel.Name == "TODO") {
				if x, ok := sel.X.(*ast.Ident); ok && x.Name == "context" {
					t.Errorf("%s: a context comes from the caller", s.line(n))
				}
			}
			return true
		})
	}
}

// TestNobodyAsksForAKind: above fsys nothing is decided by the name of a kind of file system.
func TestNobodyAsksForAKind(t *testing.T) {
	kinds := map[string]bool{"ext": true, "ext2": true, "ext3": true, "ext4": true, "NTFS": true, "FAT": true,
		"FAT12": true,
		"FAT16": true, "FAT32": true, "exFAT": true, "swap": true}
	for _, s := range sources(t, false) {
		if strings.HasPrefix(s.room, "fsys") || s.room == "signature" || s.room == "table" || testsOnly[s.room] ||
			s.room == "demo" || strings.HasPrefix(s.path, "scripts/") {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			var asked []ast.Expr
			switch x := n.(type) {
			case *ast.BinaryExpr:
				if x.Op == token.EQL || x.Op == token.NEQ {
					asked = []ast.Expr{x.X, x.Y}
				}
			case *ast.CaseClause:
				asked = x.List
			case *ast.CallExpr:
				asked = x.Args
			case *ast.KeyValueExpr:
				asked = []ast.Expr{x.Key}
			}
			for _, e := range asked {
				if lit, ok := e.(*ast.BasicLit); ok && lit.Kind == token.STRING && kinds[strings.Trim(lit.Value, `"`)] {
					t.Errorf("%s: %s decides something; ask for an ability (fsys/abilities.go)", s.line(n), lit.Value)
				}
			}
			return true
		})
	}
}

// TestNoRegistries: what is known stands in one list, not in init functions.
func TestNoRegistries(t *testing.T) {
	for _, s := range sources(t, false) {
		for _, d := range s.file.Decls {
			if f, ok := d.(*ast.FuncDecl); ok && f.Recv == nil && f.Name.Name == "init" {
				t.Errorf("%s: an init function", s.line(f))
			}
		}
	}
}

// TestNoMutableState: what a package holds beside its types and functions never changes.
func TestNoMutableState(t *testing.T) {
	held := map[string]map[string]bool{} // by room
	all := sources(t, false)
	for _, s := range all {
		if held[s.room] == nil {
			held[s.room] = map[string]bool{}
		}
		for _, d := range s.file.Decls {
			g, ok := d.(*ast.GenDecl)
			if !ok || g.Tok != token.VAR {
				continue
			}
			for _, spec := range g.Specs {
				for _, n := range spec.(*ast.ValueSpec).Names {
					held[s.room][n.Name] = true
				}
			}
		}
	}
	for _, s := range all {
		ast.Inspect(s.file, func(n ast.Node) bool {
			a, ok := n.(*ast.AssignStmt)
			if !ok || a.Tok == token.DEFINE {
				return true
			}
			for _, x := range a.Lhs {
				if i, ok := x.(*ast.IndexExpr); ok {
					x = i.X
				}
				if name, ok := x.(*ast.Ident); ok && name.Obj == nil && name.Name != "_" && held[s.room][name.Name] {
					t.Errorf("%s: %s belongs to the package and is changed", s.line(a), name.Name)
				}
			}
			return true
		})
	}
}

// TestLoopsFromOneDoor: a loop device that a test lets go of by hand may be another test's by then.
func TestLoopsFromOneDoor(t *testing.T) {
	for _, s := range sources(t, true) {
		if s.room == "testkit" || s.room == "arch" {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && strings.Trim(lit.Value, `"`) == "losetup" {
				t.Errorf("%s: loop devices come from testkit.Loop or LoopOf", s.line(n))
			}
			return true
		})
	}
}
