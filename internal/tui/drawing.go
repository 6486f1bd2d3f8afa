package tui

import (
	"path/filepath"
	"strings"
	"time"

	"twinshelf/internal/scene"
	"twinshelf/internal/sheet"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// drawingBinding saves what the lanes show as a drawing; on the Bench, with nothing chosen, the disk that is pointed
// at.
func drawingBinding(m *model) binding {
	b := binding{"D", "D", "drawing", "save the disks that are shown as a drawing, .svg or .pdf", acts(func() {
		strips, threads := drawn(m)
		if len(strips) == 0 {
			m.say("No disk with parts is shown here, so there is nothing to draw.")
			return
		}
		m.prompt.askPath("File for the drawing, .svg or .pdf: ", "disks.svg", func(file string) {
			file = strings.TrimSpace(file)
			bytes, err := sheet.Drawing(filepath.Ext(file), m.stepName(), strips, threads, time.Now())
			if err == nil {
				err = workshop.WriteNew(file, bytes)
			}
			if err != nil {
				m.fail(sentence(err))
				return
			}
			m.say("Drawn: %s.", file)
		})
	})}
	return b
}

// drawn are the disks of the lanes that have parts, what will be lost last, and whether threads lead from one to the
// other.
func drawn(m *model) (strips []scene.Strip, threads bool) {
	ls := m.railsPane.lanesNow()
	for _, l := range []lane{ls.up, ls.down} {
		if len(l.parts) > 0 && l.said == "" {
			strips = append(strips, stripOfRail(string(l.tense), l.rail, l.name, false))
		}
	}
	threads = ls.joined && len(strips) == 2
	if ls.lost != nil && len(ls.lost.parts) > 0 {
		strips = append(strips, stripOfRail("is overwritten", ls.lost.rail, "", true))
	}
	if d := m.benchPage.chosen(); len(strips) == 0 && m.step == stepBench && d != nil && len(partsOf(d)) > 0 {
		strips = append(strips, stripOfRail(string(isNow), rail{id: d.Identity, parts: partsOf(d)}, "", false))
	}
	return strips, threads
}

func stripOfRail(tense string, r rail, name string, lost bool) scene.Strip {
	words := []string{r.id.Model, units.Bytes(r.id.Size)}
	if name != "" {
		words[0] = name
	}
	if r.id.Serial != "" {
		words = append(words, "serial "+r.id.Serial)
	}
	s := scene.Strip{Title: strings.TrimPrefix(tense+": ", ": ") + strings.Join(words, ", "), Size: r.id.Size}
	for _, p := range r.parts {
		used := int64(-1)
		if p.known {
			used = p.used
		}
		s.Parts = append(s.Parts, scene.Part{Number: p.number, Title: p.title, Role: p.role, Start: p.span.Start,
			Size: p.span.Len(), Used: used, Lost: lost})
	}
	return s
}
