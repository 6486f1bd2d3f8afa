package main

import (
	"fmt"
	"slices"

	"twinshelf/internal/scene"
)

// Places on the chart, in millimetres.
const (
	margin    = 4.0
	chartWide = 204.0
	nameWide  = 66.0
	barsEnd   = 150.0
	rowHigh   = 6.0
	barHigh   = 3.4
)

var (
	good = scene.Ink{R: 0x2E, G: 0x6F, B: 0x40}
	over = scene.Ink{R: 0xA8, G: 0x4B, B: 0x00}
	bare = scene.Ink{R: 0x7C, G: 0x98, B: 0xB3}
)

// chart draws the ratios as bars with their spread and what is aimed at, each group to a scale of its own; figures of
// memory are left to the table.
func chart(k *book) *scene.Scene {
	s := &scene.Scene{W: chartWide, Title: "How the work compares", H: margin}
	var figures []figure
	for _, f := range k.figures {
		if f.beside != inMiB {
			figures = append(figures, f)
		}
	}
	for len(figures) > 0 {
		n := slices.IndexFunc(figures, func(f figure) bool { return f.group != figures[0].group })
		if n < 0 {
			n = len(figures)
		}
		bars(s, figures[:n])
		figures = figures[n:]
	}
	s.H += 6
	s.Write(margin, s.H, 7, false, scene.Left, scene.Grey, "Bar: median; less is better. Thin line: lowest to "+
		"highest. Thick line: what is aimed at. Grey line: 1, as much as what it is beside.")
	s.H += margin
	return s
}

// bars draws a group.
func bars(s *scene.Scene, figures []figure) {
	most := 1.0
	for _, f := range figures {
		_, _, high := spread(f.values)
		most = max(most, high, f.most)
	}
	unit := (barsEnd - nameWide) / most
	s.H += 5
	s.Write(margin, s.H, 9, true, scene.Left, scene.Black, figures[0].group)
	s.H += 3
	top := s.H
	for _, f := range figures {
		row(s, f, unit)
	}
	one := nameWide + unit
	s.Stroke(scene.Grey, 0.2, scene.Point{X: one, Y: top - 1}, scene.Point{X: one, Y: s.H - rowHigh + barHigh + 1})
}

// row draws one figure; unit is how many millimetres a ratio of 1 has.
func row(s *scene.Scene, f figure, unit float64) {
	low, middle, high := spread(f.values)
	at := func(x float64) float64 { return nameWide + x*unit }
	y, ink := s.H, bare
	switch {
	case f.most > 0 && middle <= f.most:
		ink = good
	case f.most > 0:
		ink = over
	}
	base := y + barHigh - 0.6
	s.Write(margin, base, 8, false, scene.Left, scene.Black, scene.Fit(f.name, 8, false, nameWide-margin-2))
	s.Box(nameWide, y, middle*unit, barHigh, &ink, nil, 0)
	s.Stroke(scene.Black, 0.25, scene.Point{X: at(low), Y: y + barHigh/2}, scene.Point{X: at(high), Y: y + barHigh/2})
	if f.most > 0 {
		s.Stroke(scene.Black, 0.6, scene.Point{X: at(f.most), Y: y - 0.7},
			scene.Point{X: at(f.most), Y: y + barHigh + 0.7})
	}
	s.Write(barsEnd+2, base, 8, true, scene.Left, scene.Black, fmt.Sprintf("%.2f", middle))
	s.Write(barsEnd+12, base, 7, false, scene.Left, scene.Grey,
		scene.Fit("of "+f.beside, 7, false, chartWide-barsEnd-12))
	s.H += rowHigh
}
