package workshop

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/draw"
	"twinshelf/internal/inside"
	"twinshelf/internal/job"
	"twinshelf/internal/keeping"
	"twinshelf/internal/ready"
	"twinshelf/internal/scene"
	"twinshelf/internal/sheet"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

// drawings make what can be drawn of the bench, the open shelf, disks and cases.
type drawings struct{ *room }

// SaveDrawing writes a drawing into a file that isn't there yet: .svg or .pdf.
func SaveDrawing(s *scene.Scene, file string) error {
	b, err := sheet.Print(s, filepath.Ext(file), time.Now())
	if err != nil {
		return err
	}
	return WriteNew(file, b)
}

// DrawGrowth draws how the open shelf grew, and when it will be full.
func (w *drawings) DrawGrowth(ctx context.Context) (*scene.Scene, error) {
	s := w.shelf()
	if s == nil {
		return nil, ErrNoShelf
	}
	twins, problems := s.Twins(ctx)
	if len(problems) > 0 {
		return nil, problems[0]
	}
	ahead, err := (&shelves{w.room}).Foresee(ctx, twins)
	if err != nil {
		return nil, err
	}
	return draw.Growth("Shelf "+s.Head().Name, twins, ahead, time.Now())
}

// DrawHistory draws the dates of a machine as they are on the open shelf, or of all machines when it is empty, and what
// their rules would drop now.
func (w *drawings) DrawHistory(ctx context.Context, machine string) (*scene.Scene, error) {
	s := w.shelf()
	if s == nil {
		return nil, ErrNoShelf
	}
	now := time.Now()
	p, err := keeping.PreviewThinning(ctx, s, machine, now)
	if err != nil {
		return nil, err
	}
	pins, err := s.Pins(ctx)
	if err != nil {
		return nil, err
	}
	d := draw.Dates{Title: "Shelf " + s.Head().Name + ", " + units.Moment(now), Machines: p.Machines,
		Kept: map[string]bool{}, Proven: map[string]bool{}, Now: now}
	if machine != "" {
		d.Title = machine + " on " + d.Title
	}
	for id := range pins {
		d.Kept[id] = true
	}
	for _, m := range p.Machines {
		var ids []string
		for _, f := range m.Fates {
			ids = append(ids, f.Twin.ID)
		}
		for i, p := range shelf.ProofsOf(ctx, s, ids) {
			last := shelf.ShelfProofs(p.Proofs)
			d.Proven[ids[i]] = len(p.Problems) == 0 && len(last) > 0 && last[0].Holds()
		}
	}
	return d.History()
}

// DrawBench draws the attached disks; about says of each whose it is, or what else is to be said.
func (w *drawings) DrawBench(disks []*bench.Disk, about func(*bench.Disk) string) *scene.Scene {
	var strips []scene.Strip
	for _, d := range disks {
		t := sheet.StripOf("", onBench(d))
		t.Note, t.Words = d.Path+": "+about(d), ""
		strips = append(strips, t)
	}
	return scene.Disks("The bench, "+units.Moment(time.Now()), sheet.Wide, strips, false)
}

// About says whose an attached disk is by the open shelf, and what is on it.
func (w *drawings) About(ctx context.Context, d *bench.Disk) string {
	words := d.Words()
	s := w.shelf()
	if s == nil {
		return words
	}
	machine, newest := ownerOf(ctx, s, d)
	if machine == "" {
		return words
	}
	return machine + ", newest twin on " + s.Head().Name + datedWords(newest, units.Moment) + "; " + words
}

// ownerOf is the machine that a disk belongs to by the twins of a shelf, and that machine's newest twin: nil when a
// later one can't be read.
func ownerOf(ctx context.Context, s *shelf.Shelf, d *bench.Disk) (machine string, newest *shelf.Twin) {
	twins, _ := s.Twins(ctx) // a twin that can't be read says nothing of any disk
	if machine = SuggestMachine(twins, []*bench.Disk{d}); machine == "" {
		return "", nil
	}
	newest, err := s.Find(ctx, machine)
	if err != nil {
		return machine, nil
	}
	return machine, newest
}

// datedWords say when the newest twin was taken, where that can be told.
func datedWords(newest *shelf.Twin, when func(time.Time) string) string {
	if newest == nil {
		return ": a later one can't be read"
	}
	return " of " + when(newest.Taken)
}

// DrawDisks draws the disks of a twin, or an attached one.
func DrawDisks(o Origin) *scene.Scene {
	var strips []scene.Strip
	for _, d := range DisksOf(o) {
		strips = append(strips, sheet.StripOf("", d))
	}
	return scene.Disks(Dated(o), sheet.Wide, strips, false)
}

// Dated names a twin with its date, or an attached disk.
func Dated(o Origin) string {
	if o.Twin == nil {
		return o.Title()
	}
	return o.Title() + ", " + units.Moment(o.Twin.Taken)
}

// MapFile is the file that a map shows; of a map without one Part is nil.
type MapFile struct {
	Part *inside.Part
	Path string
}

// DrawMap draws where everything lies on a disk: of a twin on the one that o names.
func (w *drawings) DrawMap(ctx context.Context, o Origin, file MapFile) (*scene.Scene, error) {
	var dev disk.Device
	var what job.Disk
	missing := span.Set{}
	switch {
	case o.Bench != nil && o.Bench.Device == nil:
		return nil, fmt.Errorf("%s can't be read: %s", o.Bench.Path, o.Bench.Words())
	case o.Bench != nil:
		dev, what = o.Bench.Device, onBench(o.Bench)
	case w.shelf() == nil:
		return nil, ErrNoShelf
	default:
		d, err := w.shelf().OpenDisk(ctx, o.Twin, o.Disk)
		if err != nil {
			return nil, err
		}
		dev, what, missing = d, inTwin(&o.Twin.Disks[o.Disk]), o.Twin.Disks[o.Disk].Missing
	}
	m := &draw.Map{Title: Dated(o) + ": " + sheet.Sticker(what), Size: dev.Size(), Parts: sheet.StripOf("", what).Parts}
	sv, err := survey.Of(ctx, dev, nil)
	if err != nil {
		return nil, err
	}
	for i := range sv.Areas {
		if err := mapArea(m, &sv.Areas[i], leftOut(o)); err != nil {
			return nil, err
		}
	}
	for sp := range missing.All() {
		m.Add(sp, draw.Missing)
	}
	if file.Part != nil {
		if err := mapFile(ctx, m, file); err != nil {
			return nil, err
		}
	}
	return m.Scene(), nil
}

// leftOut says which parts of a twin weren't captured.
func leftOut(o Origin) map[int]bool {
	out := map[int]bool{}
	if o.Twin != nil {
		for _, r := range o.Twin.Disks[o.Disk].Parts() {
			out[r.Part] = !r.Captured
		}
	}
	return out
}

// mapArea enters an area of a disk: what of it is used, or that this isn't known.
func mapArea(m *draw.Map, a *survey.Area, leftOut map[int]bool) error {
	switch {
	case a.Part == nil:
		m.Add(a.Span, draw.NoPart)
		return nil
	case leftOut[a.Part.Number]:
		m.Add(a.Span, draw.LeftOut)
		return nil
	case !a.Content.Maps:
		m.Add(a.Span, draw.Unknown)
		return nil
	}
	at := a.Span.Start
	for sp, err := range a.Content.Spans() {
		if err != nil {
			return fmt.Errorf("what of part %d is used can't be told: %w", a.Part.Number, err)
		}
		sp = sp.Shift(a.Span.Start)
		m.Add(span.Span{Start: at, End: sp.Start}, draw.Free)
		m.Add(sp, draw.Used)
		at = sp.End
	}
	m.Add(span.Span{Start: at, End: a.Span.End}, draw.Free)
	return nil
}

// mapFile enters where a file lies.
func mapFile(ctx context.Context, m *draw.Map, f MapFile) error {
	c, err := f.Part.Open(ctx, f.Path)
	if err != nil {
		return err
	}
	m.File = inside.Visible(f.Path)
	for _, sp := range c.Contents.Spans() {
		m.Add(sp.Shift(f.Part.Span.Start), draw.Chosen)
	}
	if len(c.Contents.Spans()) == 0 {
		m.File += " (it takes no place of its own: it is empty, or small enough to be kept in its record)"
	}
	return nil
}

// DrawChanges draws what differs between two sides, by folder.
func DrawChanges(before, after *inside.Machine, all []inside.PartDifference) *scene.Scene {
	named := func(in *inside.Machine) string {
		if in.Twin == nil {
			return in.Title
		}
		return in.Title + " " + units.Moment(in.Twin.Taken)
	}
	folders := draw.Folders(all, func(p *inside.Part) string { return p.Label("", after.Disks) })
	return draw.Changes(named(before)+" → "+named(after), folders)
}

// DrawRate draws how fast a work of a case went.
func DrawRate(d job.Done) (*scene.Scene, error) {
	if d.Result == nil {
		return nil, draw.ErrNoPace
	}
	return draw.Rate(d.Title+", "+units.Moment(d.Begun.Local()), d.Result.Pace, d.Result.Seconds, d.Expected)
}

// DrawPairs draws what a restore or a copy would make of its targets.
func DrawPairs(pairs []*Pair) *scene.Scene {
	k := pairsWork(pairs)
	return sheet.Drawn(k.Title+", as planned "+units.Moment(time.Now()), k)
}

// DrawReady draws what a plan would make of a disk.
func DrawReady(ctx context.Context, p *ready.Plan) *scene.Scene {
	k := readyWork(ctx, p)
	return sheet.Drawn(k.Title+", as planned "+units.Moment(time.Now()), k)
}
