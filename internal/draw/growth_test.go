package draw

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"twinshelf/internal/shelf"
)

func TestGrowth(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	var twins []*shelf.Twin
	for i := range 40 {
		twins = append(twins, &shelf.Twin{Machine: fmt.Sprintf("Kiosk %d & co", i%20), Taken: now.AddDate(0, 0, i),
			Added: int64(i) * 1e9})
	}
	dir := t.TempDir()
	for _, set := range [][]*shelf.Twin{twins, twins[:1]} {
		svg, pdf := filepath.Join(dir, "growth.svg"), filepath.Join(dir, "growth.pdf")
		for _, f := range []string{svg, pdf} {
			if err := Growth(f, "Oak", set); err != nil {
				t.Fatal(err)
			}
		}
		b, err := os.ReadFile(svg)
		if err != nil {
			t.Fatal(err)
		}
		for d := xml.NewDecoder(bytes.NewReader(b)); ; {
			if _, err := d.Token(); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				t.Fatalf("the SVG isn't XML: %v", err)
			}
		}
		if !bytes.Contains(b, []byte("all machines")) || !bytes.Contains(b, []byte("&amp; co")) {
			t.Error("the legend is missing")
		}
		if b, err := os.ReadFile(pdf); err != nil || !bytes.HasPrefix(b, []byte("%PDF-")) ||
			!bytes.Contains(b[len(b)-1024:], []byte("%%EOF")) {
			t.Errorf("no PDF: %v", err)
		}
	}
	if lines := series(twins); len(lines) != 1+mostLines || lines[0].points[len(lines[0].points)-1].Y != 780e9 ||
		lines[1].name != "Kiosk 19 & co" {
		t.Errorf("%d lines, %v", len(lines), lines[1])
	}
	if err := Growth(filepath.Join(dir, "growth.png"), "Oak", twins); err == nil {
		t.Error("a PNG")
	}
	if err := Growth(filepath.Join(dir, "none.svg"), "Oak", nil); err == nil {
		t.Error("nothing drawn")
	}
	if err := Growth(filepath.Join(dir, "missing/x.svg"), "Oak", twins); err == nil {
		t.Error("written into a folder that isn't there")
	}
}
