package sheet

import (
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/settings"
	"twinshelf/internal/testkit"
)

// TestDates: papers write dates as it is chosen, or as the system does, and otherwise as ISO 8601.
func TestDates(t *testing.T) {
	at := time.Date(2026, 3, 9, 17, 5, 0, 0, time.FixedZone("", 3600))
	env := func(all ...string) func(string) string {
		return func(name string) string {
			for _, s := range all {
				if value, is := strings.CutPrefix(s, name+"="); is {
					return value
				}
			}
			return ""
		}
	}
	for _, c := range []struct {
		form string
		env  []string
		want string
	}{
		{"", nil, "2026-03-09 17:05 +01:00"}, {"", []string{"LANG=C.UTF-8"}, "2026-03-09 17:05 +01:00"},
		{"", []string{"LANG=de_DE.UTF-8"}, "09.03.2026 17:05 +01:00"}, {"", []string{"LANG=en_GB"},
			"09/03/2026 17:05 +01:00"},
		{"", []string{"LANG=de_DE.UTF-8", "LC_TIME=en_US.UTF-8"}, "03/09/2026 5:05 PM +01:00"},
		{"", []string{"LC_ALL=nl_NL@euro", "LC_TIME=en_US.UTF-8"}, "09-03-2026 17:05 +01:00"},
		{"", []string{"LANG=sv_SE.UTF-8"}, "2026-03-09 17:05 +01:00"}, {"", []string{"LANG=\x00??"},
			"2026-03-09 17:05 +01:00"},
		{"D Mon Y", []string{"LANG=de_DE.UTF-8"}, "9 Mar 2026 17:05 +01:00"},
	} {
		d := DatesAs(c.form, env(c.env...))
		if got := d.Taken(at); got != c.want {
			t.Errorf("%q with %q: %s, not %s", c.form, c.env, got, c.want)
		}
		if got := d.Again("2026-03-09 17:05 +01:00"); got != c.want {
			t.Errorf("%q with %q says again %s, not %s", c.form, c.env, got, c.want)
		}
	}
	if got := (Dates{}).Again("some day"); got != "some day" {
		t.Error(got)
	}
	for form, all := range regions {
		if dayLayouts[form] == "" || !regexp.MustCompile(`^([A-Z]{2} ?)+$`).MatchString(all) {
			t.Errorf("%s: %q", form, all)
		}
	}
}

func pngFile(t *testing.T, dir string, w, h int) string {
	t.Helper()
	img := image.NewNRGBA64(image.Rect(0, 0, w, h)) // 16 bits a channel, half transparent
	for i := range w * h {
		img.Set(i%w, i/w, color.NRGBA{200, 10, 10, 0x80})
	}
	file := filepath.Join(dir, fmt.Sprintf("%dx%d.png", w, h))
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(png.Encode(f, img), f.Close()); err != nil {
		t.Fatal(err)
	}
	return file
}

// TestLogos: PNG and SVG are printed; whatever can't be is refused with its reason.
func TestLogos(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	const svg = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %s">%s</svg>`
	good := write("good.svg", fmt.Sprintf(svg, "60 40", `<path d="M0 30 L30 0 L60 30 Z" fill="#1e5a8a"/>`))
	for _, file := range []string{good, pngFile(t, dir, 300, 100), pngFile(t, dir, 10, 200)} {
		l, err := ReadLogo(file)
		if err != nil {
			t.Fatal(err)
		}
		if w, h := l.within(logoWide, logoHigh); w > logoWide+0.01 || h > logoHigh+0.01 ||
			math.Abs(w/h-float64(l.w)/float64(l.h)) > 0.01 {
			t.Errorf("%s is printed %.1f×%.1f mm", file, w, h)
		}
		s := Sheet{Head: Head{Made: made, Logo: l, Shop: settings.Shop{Name: "Ternhouse"}}, Job: fullCase()}
		if text, _ := printed(t, s); !strings.Contains(text, "Ternhouse") {
			t.Error("no name beside the logo")
		}
	}
	whole, err := os.ReadFile(pngFile(t, dir, 300, 100))
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range []string{filepath.Join(dir, "missing.png"), write("a.gif", "GIF89a"), write("b.png",
		"no picture"),
		write("half.png", string(whole[:len(whole)/2])), write("long.png", strings.Repeat("x", mostLogo+1)),
		pngFile(t, dir, 6001, 500), pngFile(t, dir, 300, 1), write("text.svg", fmt.Sprintf(svg, "60 40",
			`<text x="1" y="20">Tern</text>`)), write("empty.svg", fmt.Sprintf(svg, "60 40", "")),
		write("line.svg", fmt.Sprintf(svg, "6000 1", `<path d="M0 0 L1 1"/>`)), write("none.svg", "<svg>"),
		write("bad.svg", fmt.Sprintf(svg, "NaN x", `<path d="M0 30 L30"/>`)), dir} {
		_, err := ReadLogo(file)
		if no := (*LogoError)(nil); !errors.As(err, &no) || no.File != file {
			t.Errorf("%s: %v", file, err)
		}
	}
}

// FuzzLogo: no picture makes the program fail.
func FuzzLogo(f *testing.F) {
	f.Add([]byte(`<svg viewBox="0 0 9 9"><path d="M0 3 L3 0 A1 2 3 0 1 4 5 Z" fill="url(#a)"/></svg>`))
	f.Add([]byte(`<svg viewBox="0 0 9 9"><g transform="scale(2)"><rect width="5" height="1e9"/></g></svg>`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) < 1<<12 {
			_, _ = logoOfSVG(b)
			_, _ = logoOfPNG(b)
		}
	})
}

func TestShelfList(t *testing.T) {
	l := ShelfList{Head: Head{Made: made, Dates: Dates{"02.01.2006", "15:04"}}, Shelf: "Oak", ID: "12dc6568",
		Facts: [][2]string{{"Lies in", "/media/oak"}}, Problems: []error{errors.New("one twin can't be read")}}
	for i := range 3 {
		m := ListMachine{Machine: fmt.Sprintf("Kiosk %d, größer", i), Disks: []string{"Dunlin D 128"},
			Rule: "every one for ever"}
		for k := range 40 {
			m.Dates = append(m.Dates, ListDate{Taken: made.AddDate(0, 0, -k), Used: 1e11, Added: int64(k) * 1e6,
				State: "not proven yet", ID: fmt.Sprintf("%08d", i*100+k)})
		}
		l.Machines = append(l.Machines, m)
	}
	b, err := l.PDF()
	if err != nil {
		t.Fatal(err)
	}
	text, pages := textOf(t, b)
	for _, want := range []string{"Shelf list", "/media/oak", "120 twins of 3 machines", "Kiosk 2, größer",
		"28.11.2026 16:00",
		"39.0 MB", "00000239", "isn't whole: one twin can't be read", "every one for ever"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	if pages < 3 || pages > 6 {
		t.Errorf("%d pages", pages)
	}
	if b, err = (ShelfList{Head: Head{Made: made}, Shelf: "Elm"}).PDF(); err != nil {
		t.Fatal(err)
	}
	if text, _ := textOf(t, b); !strings.Contains(text, "Nothing is on this shelf yet.") {
		t.Error(text)
	}
}

// textOf is the text of a PDF, and how many pages it has.
func textOf(t *testing.T, b []byte) (string, int) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.pdf")
	if err := os.WriteFile(file, b, 0o600); err != nil {
		t.Fatal(err)
	}
	text := testkit.Do(t, "pdftotext", "-layout", file, "-")
	return strings.Join(strings.Fields(text), " "), strings.Count(text, "\f")
}

var word = regexp.MustCompile(`<word xMin="([0-9.]+)" yMin="([0-9.]+)" xMax="([0-9.]+)" yMax="([0-9.]+)">([^<]*)`)

// TestLabels: every label lies within its place on the sheet, also where it is moved, and its serial number is whole.
func TestLabels(t *testing.T) {
	for _, g := range Grids {
		paperWide, paperHigh := 210.0, 297.0
		if g.Paper == "Letter" {
			paperWide, paperHigh = 215.9, 279.4
		}
		right, bottom := g.Left+float64(g.Columns-1)*g.Across+g.W, g.Top+float64(g.Rows-1)*g.Down+g.H
		if math.Abs(right+g.Left-paperWide) > 0.3 || math.Abs(bottom+g.Top-paperHigh) > 0.8 || g.Across < g.W ||
			g.Down < g.H || !strings.HasSuffix(g.Name, fmt.Sprint("-", g.Columns*g.Rows)) {
			t.Errorf("%s ends at %.2f, %.2f of %.1f×%.1f", g.Name, right, bottom, paperWide, paperHigh)
		}
		l := Labels{Head: Head{Made: made}, Grid: g, Skip: 2, Right: 1.5, Below: -0.5}
		for i := range g.Columns * g.Rows {
			l.All = append(l.All, Label{Title: fmt.Sprintf("Drive%d", i), Code: "SN-TEST-4711-" + fmt.Sprint(i),
				Lines: []string{"Purser's-laptop-größer", "serial SN-TEST-4711", "twin 2026-11-20 on Oak"}})
		}
		b, err := l.PDF()
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(t.TempDir(), "labels.pdf")
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		seen, serials := 0, 0
		for _, w := range word.FindAllStringSubmatch(testkit.Do(t, "pdftotext", "-bbox", file, "-"), -1) {
			var box [4]float64
			for i := range box {
				p, _ := strconv.ParseFloat(w[i+1], 64)
				box[i] = p * 25.4 / 72
			}
			col := math.Floor((box[0] - g.Left - l.Right) / g.Across)
			row := math.Floor((box[1] + 0.5 - g.Top - l.Below) / g.Down)
			x, y := g.Left+col*g.Across+l.Right, g.Top+row*g.Down+l.Below
			if col < 0 || row < 0 || box[2] > x+g.W+0.01 || box[3] > y+g.H+0.5 {
				t.Errorf("%s: %q at %.1f is outside of the label at %.1f, %.1f", g.Name, w[5], box, x, y)
			}
			if n, is := strings.CutPrefix(w[5], "Drive"); is {
				at, _ := strconv.Atoi(n)
				if at = (at + l.Skip) % (g.Columns * g.Rows); at != int(row)*g.Columns+int(col) {
					t.Errorf("%s: label %d is at row %g, column %g", g.Name, at, row, col)
				}
				seen++
			}
			if w[5] == "SN-TEST-4711" {
				serials++
			}
		}
		if seen != len(l.All) || serials != seen {
			t.Errorf("%s: %d of %d labels, %d serial numbers", g.Name, seen, len(l.All), serials)
		}
	}
}

// TestHardLabels: what is far too long is cut, and what makes no sense is refused.
func TestHardLabels(t *testing.T) {
	g, err := GridNamed("a4-65")
	if err != nil {
		t.Fatal(err)
	}
	long := Label{Title: strings.Repeat("harbour ", 30), Code: strings.Repeat("x", 9000), Lines: []string{
		strings.Repeat("水🛥", 100), strings.Repeat("kiosk ", 50), "serial SN-1", "a", "b", "c", "d", "e", "f", "g",
		"h", "i"}}
	l := Labels{Head: Head{Made: made}, Grid: g, All: []Label{long, {}}}
	b, err := l.PDF()
	if err != nil {
		t.Fatal(err)
	}
	if text, _ := textOf(t, b); !strings.Contains(text, "…") || !strings.Contains(text, "serial SN-1") {
		t.Error(text)
	}
	for _, bad := range []Labels{{Grid: g}, {Grid: g, All: l.All, Skip: 65}, {Grid: g, All: l.All, Skip: -1},
		{Grid: g, All: l.All, Right: 21}, {Grid: g, All: l.All, Below: math.NaN()}, {Grid: g, All: make([]Label,
			mostLabels+1)}} {
		if _, err := bad.PDF(); err == nil {
			t.Errorf("%+v is printed", bad)
		}
	}
	if _, err := GridNamed("A4-7"); err == nil || !strings.Contains(err.Error(), "A4-21") {
		t.Error(err)
	}
}

// TestSomePages: the customer's pages and the engineers' come alone, too.
func TestSomePages(t *testing.T) {
	text, _ := printed(t, Sheet{Head: Head{Made: made}, Job: fullCase(), Only: ForCustomer})
	if !strings.Contains(text, "What was done") || strings.Contains(text, "For engineers") {
		t.Error(text)
	}
	text, _ = printed(t, Sheet{Head: Head{Made: made}, Job: fullCase(), Only: ForEngineers})
	if strings.Contains(text, "What was done") || !strings.Contains(text, "For engineers") {
		t.Error(text)
	}
}
