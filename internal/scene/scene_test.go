package scene

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"golang.org/x/image/font/sfnt"

	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

const gb = int64(1e9)

func desk(size int64) Strip {
	return Strip{Title: "Kestrel <K2> & 256", Size: size, Parts: []Part{
		{1, "DESKSTART", table.RoleStartup, 1 << 20, 100 << 20, 1 << 20, false},
		{3, "Ticket desk", table.RoleSystem, size / 8, size / 2, size / 4, false},
		{4, "größer → Ω", table.RoleData, size * 5 / 8, size / 4, -1, true},
		{5, "?", "something new", size * 15 / 16, size / 32, 0, false}}}
}

// TestToScale: parts that are wider than the least stand where they stand on the disk.
func TestToScale(t *testing.T) {
	const width = 170.0
	small, large := desk(256*gb), desk(1000*gb)
	for _, d := range []Strip{small, large} {
		for _, p := range d.layout(width, large.Size)[1:3] {
			x, w := float64(p.Start)/float64(large.Size)*width, float64(p.Size)/float64(large.Size)*width
			if math.Abs(p.x-x) > 0.1 || math.Abs(p.w-w) > 0.1 {
				t.Errorf("part %d is at %.2f, %.2f wide, not at %.2f, %.2f", p.Number, p.x, p.w, x, w)
			}
		}
	}
	narrow := Strip{Size: 1000 * gb}
	for i := range int64(12) {
		narrow.Parts = append(narrow.Parts, Part{Number: int(i), Start: 1000*gb - (12-i)<<20, Size: 1 << 20})
	}
	last := 0.0
	for _, p := range narrow.layout(width, 1000*gb) {
		if p.x < last-1e-9 || p.w < leastPart-1e-9 || p.x+p.w > width+1e-9 {
			t.Errorf("part %d is at %.2f, %.2f wide, and the one before ends at %.2f", p.Number, p.x, p.w, last)
		}
		last = p.x + p.w
	}
}

// TestSVG: the drawing is well-formed, its text is text, and nothing lies outside of it.
func TestSVG(t *testing.T) {
	s := Disks("before & after", 170, []Strip{desk(256 * gb), desk(1000 * gb), {Title: "lost", Size: 64 * gb,
		Words: "blank"}},
		true)
	b := s.SVG()
	if !bytes.Equal(b, s.SVG()) {
		t.Error("the same drawing isn't the same bytes")
	}
	texts, paths := "", 0
	for d := xml.NewDecoder(bytes.NewReader(b)); ; {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatalf("%v\n%s", err, b)
		}
		switch x := tok.(type) {
		case xml.CharData:
			texts += string(x) + "\n"
		case xml.StartElement:
			if x.Name.Local == "path" {
				paths++
				inside(t, x, s.W, s.H)
			}
		}
	}
	for _, want := range []string{"Kestrel <K2> & 256", "größer → Ω", "before & after", "200 GB", "blank", "start-up",
		"Narrow parts"} {
		if !strings.Contains(texts, want) {
			t.Errorf("no %q in\n%s", want, texts)
		}
	}
	if paths < 30 {
		t.Errorf("%d shapes", paths)
	}
	file := filepath.Join(t.TempDir(), "x.svg")
	if err := os.WriteFile(file, b, 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "rsvg-convert", "-o", file+".png", file)
}

func inside(t *testing.T, path xml.StartElement, w, h float64) {
	t.Helper()
	for _, a := range path.Attr {
		if a.Name.Local != "d" {
			continue
		}
		for _, at := range strings.FieldsFunc(a.Value, func(r rune) bool { return strings.ContainsRune("MLZ", r) }) {
			var x, y float64
			if _, err := fmt.Sscanf(at, "%g %g", &x, &y); err != nil || x < -0.01 || y < -0.01 || x > w+0.01 ||
				y > h+0.01 {
				t.Errorf("%s: %v, outside of %.1f×%.1f", at, err, w, h)
			}
		}
	}
}

// TestPrintable: what the fonts lack is shown as its code, and nothing is dropped.
func TestPrintable(t *testing.T) {
	for _, c := range [][2]string{
		{"größer → Ω Привет", "größer → Ω Привет"}, {"水", "[U+6C34]"}, {"a🛥b", "a[U+1F6E5]b"}, {"a\x00b", "a[U+0000]b"},
		{"a\nb", "a b"}, {"\xff", "�"}, {"", ""}, {"אב 12", "12 בא"}, {"HD אבג", "HD גבא"},
	} {
		if got := Printable(c[0]); got != c[1] {
			t.Errorf("%q is printed as %q, not %q", c[0], got, c[1])
		}
	}
}

// TestJoined: Arabic and Persian are written joined, from the right to the left; the fonts have every form.
func TestJoined(t *testing.T) {
	for _, c := range [][2]string{
		{"\u0633\u0644\u0627\u0645", "\uFEE1\uFEFC\uFEB3"}, // salam: seen, lam and alef, mim alone
		{"\u0628\u064E\u0628", "\uFE90\u064E\uFE91"},
		// a mark: the font draws it over what follows
		{"\u062F\u0628", "\uFE8F\uFEA9"},                                   // dal joins to nothing after it
		{"\u067E\u0646\u062C", "\uFE9E\uFEE8\uFB58"},                       // Persian
		{"HD \u0642\u0631\u0635 2", "HD 2 \uFEB9\uFEAE\uFED7"},             // in a line with others
		{"\u0640\u0628\u0640", "\u0640\uFE92\u0640"}, {"\u0621", "\uFE80"}, // a stroke, and what never joins
	} {
		if got := Printable(c[0]); got != c[1] {
			t.Errorf("%q is printed as %+q, not %+q", c[0], got, c[1])
		}
	}
	var all []rune
	for r, f := range forms {
		for i := range f.count {
			all = append(all, f.first+rune(i))
		}
		all = append(all, r)
	}
	for _, r := range lamAlef {
		all = append(all, r, r+1)
	}
	var buf sfnt.Buffer
	for _, r := range all {
		for i, f := range faces() {
			if g, err := f.GlyphIndex(&buf, r); err != nil || g == 0 {
				t.Errorf("font %d has no U+%04X", i, r)
			}
		}
	}
}

func TestWrap(t *testing.T) {
	const width = 60
	long := strings.Repeat("harbour", 30) + " and " + strings.Repeat("kiosk ", 40)
	joined := ""
	for _, l := range Wrap(long, 9, false, width) {
		if Width(l, 9, false) > width {
			t.Errorf("%q is %.1f wide", l, Width(l, 9, false))
		}
		joined += l
	}
	if strings.ReplaceAll(joined, " ", "") != strings.ReplaceAll(long, " ", "") {
		t.Error("letters are lost")
	}
	if got := Wrap("אבג דהו", 9, false, 8); len(got) != 2 || got[0] != "גבא" { // what is read first stands first
		t.Errorf("%q", got)
	}
	if got := Wrap("", 9, false, width); len(got) != 1 {
		t.Errorf("%q", got)
	}
	if got := Fit(long, 9, true, width); Width(got, 9, true) > width || !strings.HasSuffix(got, "…") {
		t.Errorf("%q", got)
	}
	if got := Fit("wide", 9, false, 0.1); got != "" {
		t.Errorf("%q", got)
	}
	if w := Width("Twin", 72, false); w < 40 || w > 70 {
		t.Errorf("%s mm", strconv.FormatFloat(w, 'f', 1, 64))
	}
}

// FuzzDisks: whatever a record says of disks, the drawing is finite and well-formed.
func FuzzDisks(f *testing.F) {
	f.Add("Kestrel", int64(1e12), int64(1e6), int64(1e9), int64(5), 2)
	f.Fuzz(func(t *testing.T, title string, size, start, length, used int64, n int) {
		d := Strip{Title: title, Size: size}
		for i := range max(0, min(n, 200)) {
			d.Parts = append(d.Parts, Part{Number: i, Title: title, Start: start + int64(i)*length, Size: length,
				Used: used})
		}
		s := Disks(title, 170, []Strip{d, desk(size)}, true)
		if len(s.Shapes) > 500_000 {
			t.Errorf("%d shapes", len(s.Shapes))
		}
		for d := xml.NewDecoder(bytes.NewReader(s.SVG())); ; {
			if _, err := d.Token(); errors.Is(err, io.EOF) {
				return
			} else if err != nil {
				t.Fatal(err)
			}
		}
	})
}
