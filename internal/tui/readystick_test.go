package tui

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"twinshelf/internal/stick/font"
)

// TestStickIsAPurpose: Ready asks for the base and what the rest of the drive is for; what is wrong with either is
// said, and the plan stays.
func TestStickIsAPurpose(t *testing.T) {
	m := key(onDisk(opened(t), "Heron H1 1 TB"), "e", "p", "G")
	says(t, m, "▶ a starting stick", "starts other PCs into Twin Shelf")
	was := m.(*model).readyPage.ready.draft
	m = key(m, "enter")
	for _, r := range filepath.Join(t.TempDir(), "missing.tsb") {
		m = key(m, string(r))
	}
	m = key(m, "enter")
	says(t, m, "What is the rest of the drive for?", "a shelf, on exFAT", "every system reads and writes it")
	if strings.Contains(text(m), "renew") {
		t.Error("a blank drive can be renewed")
	}
	m = key(m, "enter")
	if note := m.(*model).note; !strings.Contains(note, "no such file") && !strings.Contains(note, "needs libraries") {
		t.Errorf("what is wrong isn't said: %q", note)
	}
	if m.(*model).readyPage.ready.draft != was {
		t.Error("the plan has changed")
	}
}

// TestConsoleFontHasTheScreen: the font of a started machine's display has every character that the screen and what it
// shows are written with.
func TestConsoleFontHasTheScreen(t *testing.T) {
	has := map[rune]bool{}
	for _, r := range font.Screen {
		has[r] = true
	}
	var files []string
	for _, dir := range []string{".", "../workshop", "../units", "../bench", "../table", "../plan", "../prove",
		"../ready",
		"../capture", "../restore", "../startup", "../shelf", "../keeping", "../job", "../sheet"} {
		found, err := filepath.Glob(dir + "/*.go")
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, found...)
	}
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") || file == "glyphs.go" { // which has those of other fonts, too
			continue
		}
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		f, err := parser.ParseFile(token.NewFileSet(), file, b, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			lit, ok := n.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING && lit.Kind != token.CHAR {
				return true
			}
			s, err := strconv.Unquote(lit.Value)
			if err != nil {
				return true
			}
			for _, r := range s {
				if r >= 0x2000 && r < 0x3000 && !has[r] {
					t.Errorf("%s draws with %c (%U), which the font of the display lacks", file, r, r)
				}
			}
			return true
		})
	}
}
