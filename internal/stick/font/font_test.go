package font

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/testkit"
)

func packaged(t testing.TB, name string) []byte {
	t.Helper()
	f, err := os.Open("/usr/share/consolefonts/" + name)
	if err != nil {
		testkit.Lacks(t, "console-setup-linux")
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// picture is a character as text, for comparing.
func picture(f *Font, r rune) string {
	var s strings.Builder
	size := (f.Width + 7) / 8
	rows := f.glyph(r)
	for y := range f.Height {
		for x := range f.Width {
			if rows[y*size+x/8]&(0x80>>(x%8)) != 0 {
				s.WriteByte('#')
			} else {
				s.WriteByte('.')
			}
		}
		s.WriteByte('\n')
	}
	return s.String()
}

// TestPackagedFonts: both sizes have all that the screen draws with and the letters of names; no two of the screen's
// look the same.
func TestPackagedFonts(t *testing.T) {
	for name, size := range map[string][2]int{Small: {8, 16}, Large: {16, 32}} {
		f, err := Parse(packaged(t, name))
		if err != nil || f.Width != size[0] || f.Height != size[1] {
			t.Fatalf("%s: %+v, %v", name, f, err)
		}
		looks := map[string]rune{}
		for _, r := range Screen + "AaZz09~ÄÖÜßéñøåČłőЖяΩ€" {
			if !f.Has(r) {
				t.Errorf("%s lacks %c (%U)", name, r, r)
				continue
			}
			p := picture(f, r)
			if o, same := looks[p]; same && !strings.ContainsRune("–—−·╭╮╯╰▸▶►◂◀◄", r) {
				t.Errorf("%s: %c and %c look the same:\n%s", name, o, r, p)
			}
			looks[p] = r
		}
		for places, least := range map[int]int{FewPlaces: 250, Places: 480} {
			data, pairs := f.layOut(places)
			at := map[uint16]uint16{}
			for _, p := range pairs {
				if _, twice := at[p.place]; twice || int(p.place) >= places {
					t.Fatalf("%s: place %d", name, p.place)
				}
				at[p.place] = p.code
			}
			if at['A'] != 'A' || at[' '] != ' ' || len(pairs) < least || len(data) != places*32*((f.Width+7)/8) {
				t.Errorf("%s: %d characters in %d bytes", name, len(pairs), len(data))
			}
			a := data['A'*32*((f.Width+7)/8):][:len(f.glyph('A'))]
			if !bytes.Equal(a, f.glyph('A')) {
				t.Errorf("%s: another A", name)
			}
		}
	}
}

func TestShapes(t *testing.T) {
	f := &Font{Width: 8, Height: 16, glyphs: map[rune][]byte{}}
	for r, want := range map[rune]string{
		'▌': strings.Repeat("####....\n", 16), '▂': strings.Repeat("........\n", 12) + strings.Repeat("########\n", 4),
		'▏': strings.Repeat("#.......\n", 16), '█': strings.Repeat("########\n", 16),
	} {
		if got := picture(f, r); got != want {
			t.Errorf("%c:\n%s", r, got)
		}
	}
	for r, art := range shapes {
		rows := strings.Fields(art)
		if len(rows) != 16 || strings.Trim(strings.Join(rows, ""), "#.") != "" || len(strings.Join(rows, "")) != 128 {
			t.Errorf("%c isn't drawn in 8 × 16 pixels", r)
		}
	}
	if f.Has('A') {
		t.Error("a letter is drawn")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte{0x36, 0x04, 2, 16})
	f.Add(packaged(f, Small))
	f.Add(packaged(f, Large))
	f.Fuzz(func(t *testing.T, b []byte) {
		font, err := Parse(b)
		if err != nil {
			if !errors.Is(err, ErrFormat) {
				t.Error(err)
			}
			return
		}
		for r := range font.glyphs {
			if len(font.glyph(r)) != font.Height*((font.Width+7)/8) {
				t.Fatalf("%U has %d bytes", r, len(font.glyph(r)))
			}
		}
		font.layOut(FewPlaces)
	})
}
