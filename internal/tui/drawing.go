package tui

import (
	"context"
	"path"
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/draw"
	"twinshelf/internal/inside"
	"twinshelf/internal/scene"
	"twinshelf/internal/sheet"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// picture is something that a page can save as a drawing.
type picture struct {
	name string // as it is chosen
	file string // its usual name, without an ending
	// make makes it in the background.
	make func(context.Context) (*scene.Scene, error)
}

// drawingBinding saves what a page shows as a drawing. Where there is more than one it asks which.
func drawingBinding(m *model) binding {
	return binding{"D", "D", "drawing", "save what is shown here as a drawing, .svg or .pdf", leads(func() tea.Cmd {
		all := pictures(m)
		switch len(all) {
		case 0:
			m.say("There is nothing on this page to draw.")
		case 1:
			savePicture(m, all[0])
		default:
			n := menu{title: "Which drawing?"}
			for _, p := range all {
				n.choices = append(n.choices, choice{name: p.name})
			}
			n.then = func(chosen []int) tea.Cmd {
				savePicture(m, all[chosen[0]])
				return nil
			}
			m.menus.offer(n)
		}
		return nil
	})}
}

// savePicture asks for a file, and makes the drawing into it.
func savePicture(m *model, p picture) {
	m.prompt.askPath("File for the drawing, .svg or .pdf: ", savedIn(m, p.file+".svg"), func(file string) {
		file = strings.TrimSpace(file)
		ctx := m.ctx
		m.prompt.pending = func() tea.Msg {
			s, err := p.make(ctx)
			if err == nil {
				err = workshop.SaveDrawing(s, file)
			}
			return pictured{file, err}
		}
	})
}

// savedIn is where a paper or a drawing is proposed to be saved: here, or on a machine that was started from a stick on
// the stick's data part, since everything else is lost there.
func savedIn(m *model, file string) string {
	if m.welcomePage.stick != nil && m.welcomePage.stick.Records {
		return filepath.Join(ramdisk.Records, file)
	}
	return file
}

// pictured is a drawing that was made.
type pictured struct {
	file string
	err  error
}

func onPictured(m *model, msg pictured) {
	if msg.err != nil {
		m.fail(sentence(msg.err))
		return
	}
	m.say("Drawn: %s.", msg.file)
}

// fileName makes a name of a drawing that can be one of a file.
func fileName(words ...string) string {
	name := strings.ToLower(strings.Join(words, "-"))
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(` /\:*?"<>|'`, r) || r < ' ' {
			return '-'
		}
		return r
	}, name)
}

// pictures are what can be drawn of what the page shows, what is asked for most first.
func pictures(m *model) []picture {
	var out []picture
	switch m.step {
	case stepBench:
		out = m.benchPage.pictures()
	case stepDates:
		return datePictures(m.datesPage)
	case stepInside:
		out = m.insidePage.pictures()
	case stepRun:
		out = m.runPage.pictures()
	case stepSheet:
		return m.sheetPage.pictures()
	}
	strips, threads := drawn(m)
	if len(strips) == 0 {
		return out
	}
	title := m.stepName() + ", " + units.Moment(time.Now())
	return append(out, picture{"the disks that are shown", "disks", func(context.Context) (*scene.Scene, error) {
		return scene.Stack(title, sheet.Wide, scene.Disks("", sheet.Wide, strips, threads)), nil
	}})
}

func (m *benchPage) pictures() []picture {
	disks, known := m.disks, m.datesPage.owners
	if len(disks) == 0 {
		return nil
	}
	w := m.w
	out := []picture{{"the bench as it is", "bench", func(context.Context) (*scene.Scene, error) {
		return w.DrawBench(disks, func(d *bench.Disk) string { return known.of(d).words() + "; " + d.Words() }), nil
	}}}
	if d := m.chosen(); d != nil && d.Device != nil {
		out = append(out, picture{"the map of " + d.Identity.Model + ": what is used, and what isn't", "map",
			func(ctx context.Context) (*scene.Scene, error) {
				return w.DrawMap(ctx, workshop.Origin{Bench: d}, workshop.MapFile{})
			}})
	}
	return out
}

func datePictures(m *datesPage) []picture {
	w := m.w
	if w.Shelf == nil {
		return nil
	}
	oak := w.Shelf.Head().Name
	growth := picture{"how " + oak + " grew, and when it is full", fileName(oak, "growth"), w.DrawGrowth}
	if m.growing {
		return []picture{growth}
	}
	t := m.twin()
	if t == nil {
		return []picture{growth}
	}
	machine := t.Machine
	out := []picture{{"the dates of " + machine + ", and what its rule would drop", fileName(machine, "dates"),
		func(ctx context.Context) (*scene.Scene, error) { return w.DrawHistory(ctx, machine) }},
		{"all dates on " + oak, fileName(oak, "dates"),
			func(ctx context.Context) (*scene.Scene, error) { return w.DrawHistory(ctx, "") }}, growth,
		{"the disks of this twin", fileName(machine), func(context.Context) (*scene.Scene, error) {
			return workshop.DrawDisks(workshop.Origin{Twin: t}), nil
		}}}
	for i := range t.Disks {
		out = append(out, picture{"the map of " + t.Disks[i].Identity.Model + " of this twin", fileName(machine, "map"),
			func(ctx context.Context) (*scene.Scene, error) {
				return w.DrawMap(ctx, workshop.Origin{Twin: t, Disk: i}, workshop.MapFile{})
			}})
	}
	return out
}

func (m *insidePage) pictures() []picture {
	l := &m.inside
	if d := l.diffing; d != nil {
		if !d.done || d.err != nil {
			return nil
		}
		before, after, all := d.before, d.after, d.all
		return []picture{{"what differs, by folder", "changes", func(context.Context) (*scene.Scene, error) {
			return workshop.DrawChanges(before, after, all), nil
		}}}
	}
	if l.in == nil || l.part == nil || l.plan != nil {
		return nil
	}
	w, of, part := m.w, l.of, l.part
	if of.Twin != nil {
		of.Twin, of.Disk = l.in.Twin, part.Disk // another date may be shown by now
	}
	onto := func(f workshop.MapFile) func(context.Context) (*scene.Scene, error) {
		return func(ctx context.Context) (*scene.Scene, error) { return w.DrawMap(ctx, of, f) }
	}
	whole := picture{"the map of its disk: what is used, and what isn't", "map", onto(workshop.MapFile{})}
	e, any := l.chosen()
	if !any || !e.Mode.IsRegular() {
		return []picture{whole}
	}
	at := path.Join(l.path, e.Name)
	return []picture{{"the map of its disk, and where " + inside.Visible(e.Name) + " lies", fileName("map", e.Name),
		onto(workshop.MapFile{Part: part, Path: at})}, whole}
}

func (m *runPage) pictures() []picture {
	if m.run == nil {
		return nil
	}
	s := m.snap
	return []picture{{"the rate over time", "rate", func(context.Context) (*scene.Scene, error) {
		return draw.Rate(s.Title, workshop.PaceOf(s), s.Elapsed.Seconds(), s.Estimate.Seconds())
	}}}
}

// pictures are the disks before and after, and the rates of the case's works, the last one first.
func (m *sheetPage) pictures() []picture {
	j := m.here()
	if j == nil {
		return nil
	}
	var out []picture
	works := j.Works()
	for i := len(works) - 1; i >= 0 && len(out) < mostPictures; i-- {
		d := works[i]
		if len(d.After) > 0 {
			out = append(out, picture{d.Title + ": before and after", fileName(j.Number, "disks"),
				func(context.Context) (*scene.Scene, error) {
					return sheet.Drawn(d.Title+", "+units.Moment(d.Begun.Local()), d.Work), nil
				}})
		}
		if d.Result != nil && d.Result.Pace != nil {
			out = append(out, picture{d.Title + ": its rate over time", fileName(j.Number, "rate"),
				func(context.Context) (*scene.Scene, error) { return workshop.DrawRate(d) }})
		}
	}
	return out
}

// mostPictures is how many drawings of a case are offered: its latest works.
const mostPictures = 40

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
