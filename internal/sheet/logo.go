package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"

	"github.com/fyne-io/oksvg"
	"github.com/srwiley/rasterx"
	"golang.org/x/image/math/fixed"
)

// Logo is a shop's picture, ready to be printed.
type Logo struct {
	png  []byte
	w, h int // in pixels
}

const (
	mostLogo    = 4 << 20 // bytes of its file
	mostPixels  = 6000    // of a side
	logoPixels  = 1200    // of the longer side of one that is drawn from SVG
	leastAspect = 0.02    // of its sides
)

// LogoError says why a picture can't be the logo.
type LogoError struct {
	File string
	Err  error
}

func (e *LogoError) Error() string {
	return fmt.Sprintf("%s can't be the logo: %v", e.File, e.Err)
}

// Unwrap gives the cause.
func (e *LogoError) Unwrap() error { return e.Err }

// ReadLogo reads a picture, PNG or SVG. Every error is a *LogoError.
func ReadLogo(file string) (*Logo, error) {
	l, err := readLogo(file)
	if err != nil {
		return nil, &LogoError{file, err}
	}
	return l, nil
}

func readLogo(file string) (*Logo, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, mostLogo+1))
	switch {
	case err != nil:
		return nil, err
	case len(b) > mostLogo:
		return nil, errors.New("it is larger than 4 MiB")
	}
	switch strings.ToLower(filepath.Ext(file)) {
	case ".png":
		return logoOfPNG(b)
	case ".svg":
		return logoOfSVG(b)
	}
	return nil, errors.New("choose a .png or an .svg file")
}

func logoOfPNG(b []byte) (*Logo, error) {
	c, err := png.DecodeConfig(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	if err := fitting(float64(c.Width), float64(c.Height)); err != nil {
		return nil, err
	}
	if c.Width > mostPixels || c.Height > mostPixels {
		return nil, fmt.Errorf("it has %d×%d pixels, and %d a side are enough", c.Width, c.Height, mostPixels)
	}
	img, err := png.Decode(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	return printable(img)
}

// fitting refuses pictures without an area, and such as would be a line.
func fitting(w, h float64) error {
	if !(w > 0 && h > 0) || w/h < leastAspect || h/w < leastAspect {
		return fmt.Errorf("it is %g×%g", w, h)
	}
	return nil
}

// logoOfSVG draws a picture. The package that does it isn't ours: whatever goes wrong in it is an error of the picture.
func logoOfSVG(b []byte) (l *Logo, err error) {
	defer func() {
		if p := recover(); p != nil {
			l, err = nil, fmt.Errorf("it can't be drawn: %v", p)
		}
	}()
	icon, err := oksvg.ReadIconStream(bytes.NewReader(b), oksvg.StrictErrorMode)
	if err != nil {
		return nil, fmt.Errorf("only shapes are drawn, so turn texts into paths, or use a PNG: %w", err)
	}
	w, h := icon.ViewBox.W, icon.ViewBox.H
	if err := fitting(w, h); err != nil {
		return nil, err
	}
	scale := logoPixels / max(w, h)
	img := image.NewRGBA(image.Rect(0, 0, max(1, int(w*scale)), max(1, int(h*scale))))
	size := img.Bounds().Size()
	icon.SetTarget(0, 0, float64(size.X), float64(size.Y))
	pen := &boundedPen{Scanner: rasterx.NewScannerGV(size.X, size.Y, img, img.Bounds())}
	icon.Draw(rasterx.NewDasher(size.X, size.Y, pen), 1)
	if blank(img) {
		return nil, errors.New("nothing of it can be drawn")
	}
	return printable(img)
}

const (
	mostPenLines = 200_000
	mostPenWay   = 50e6 // pixels
	penReach     = 24_000
)

// boundedPen ends the drawing of a picture that would take for ever: the package that draws knows no bounds.
type boundedPen struct {
	rasterx.Scanner
	lines int
	way   float64 // that it went, in pixels
	at    fixed.Point26_6
}

func (p *boundedPen) Start(a fixed.Point26_6) {
	p.at = a
	p.step(a)
	p.Scanner.Start(a)
}

func (p *boundedPen) Line(b fixed.Point26_6) {
	p.step(b)
	p.Scanner.Line(b)
}

// step panics beyond the bounds; logoOfSVG makes that an error.
func (p *boundedPen) step(to fixed.Point26_6) {
	const reach = penReach * 64
	p.lines++
	p.way += math.Abs(float64(to.X)-float64(p.at.X))/64 + math.Abs(float64(to.Y)-float64(p.at.Y))/64
	if p.at = to; p.lines > mostPenLines || p.way > mostPenWay || to.X > reach || to.X < -reach || to.Y > reach ||
		to.Y < -reach {
		panic("it is too large or has too many lines")
	}
}

func blank(img *image.RGBA) bool {
	for _, b := range img.Pix {
		if b != 0 {
			return false
		}
	}
	return true
}

// printable lays a picture on white paper.
func printable(img image.Image) (*Logo, error) {
	size := img.Bounds()
	out := image.NewRGBA(image.Rect(0, 0, size.Dx(), size.Dy()))
	draw.Draw(out, out.Bounds(), image.NewUniform(color.White), image.Point{}, draw.Src)
	draw.Draw(out, out.Bounds(), img, size.Min, draw.Over)
	var b bytes.Buffer
	if err := png.Encode(&b, out); err != nil {
		return nil, err
	}
	return &Logo{b.Bytes(), size.Dx(), size.Dy()}, nil
}

// within is how large the logo is printed, in millimetres.
func (l *Logo) within(wide, high float64) (w, h float64) {
	scale := min(wide/float64(l.w), high/float64(l.h))
	return float64(l.w) * scale, float64(l.h) * scale
}
