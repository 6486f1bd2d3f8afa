package main

import (
	"fmt"
	"math"

	"twinshelf/internal/scene"
)

// Places on the chart, in millimetres.
const (
	chartWide = 200.0
	nameWide  = 62.0
	barsEnd   = 150.0
	rowHigh   = 6.0
	barHigh   = 3.4
)

var (
	good = scene.Ink{R: 0x2E, G: 0x6F, B: 0x40}
	over = scene.Ink{R: 0xA8, G: 0x4B, B: 0x00}
	bare = scene.Ink{R: 0x7C, G: 0x98, B: 0xB3}
)

// chart draws the ratios as bars with their spread and what is aimed at; figures of memory are left to the table.
func chart(k *book) *scene.Scene {
	s := &scene.Scene{W: chartWide, Title: "How the work compares", H: 4}
	last := ""
	for _, f := range k.figures {
		if f.beside == inMiB {
			continue
		}
		if f.group != last {
			s.H += 5
			s.Write(0, s.H, 9, true, scene.Left, scene.Black, f.group)
			s.H += 3
			last = f.group
		}
		row(s, f)
	}
	s.H += 6
	s.Write(0, s.H, 7, false, scene.Left, scene.Grey,
		"Bar: median, less is better. Thin line: lowest to highest. Upright line: what is aimed at.")
	s.H += 4
	return s
}

// row draws one figure.
func row(s *scene.Scene, f figure) {
	low, middle, high := spread(f.values)
	most := max(high, f.most)
	unit := (barsEnd - nameWide) / max(1.5, math.Ceil(most*2)/2)
	at := func(x float64) float64 { return nameWide + x*unit }
	y, ink := s.H, bare
	switch {
	case f.most > 0 && middle <= f.most:
		ink = good
	case f.most > 0:
		ink = over
	}
	s.Write(0, y+barHigh-0.6, 8, false, scene.Left, scene.Black, scene.Fit(f.name, 8, false, nameWide-2))
	s.Box(nameWide, y, middle*unit, barHigh, &ink, nil, 0)
	s.Stroke(scene.Black, 0.25, scene.Point{X: at(low), Y: y + barHigh/2}, scene.Point{X: at(high), Y: y + barHigh/2})
	if f.most > 0 {
		s.Stroke(scene.Black, 0.5, scene.Point{X: at(f.most), Y: y - 0.7}, scene.Point{X: at(f.most), Y: y + barHigh + 0.7})
	}
	s.Write(barsEnd+2, y+barHigh-0.6, 8, true, scene.Left, scene.Black, fmt.Sprintf("%.2f", middle))
	s.Write(barsEnd+12, y+barHigh-0.6, 7, false, scene.Left, scene.Grey,
		scene.Fit("of "+f.beside, 7, false, chartWide-barsEnd-12))
	s.H += rowHigh
}
