package workshop

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/job"
	"twinshelf/internal/keeping"
	"twinshelf/internal/settings"
	"twinshelf/internal/sheet"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// papers make what is printed.
type papers struct{ *room }

// PlainHead is what papers have at their top but for the logo, which is read when one is printed.
func (w *papers) PlainHead() sheet.Head {
	shop := w.Shop()
	return sheet.Head{Shop: shop, Dates: sheet.DatesAs(shop.Dates, os.Getenv), Made: time.Now()}
}

// PaperHead is what papers have at their top. The logo that is set may have become unusable: then the head is without
// one, and err says why; papers are made all the same.
func (w *papers) PaperHead() (h sheet.Head, err error) {
	h = w.PlainHead()
	if h.Shop.Logo != "" {
		h.Logo, err = sheet.ReadLogo(h.Shop.Logo)
	}
	return h, err
}

// CheckShop says what is wrong with what a shop says of itself; with logo its picture is read too, and its path made
// whole, so that it is found from any folder.
func CheckShop(shop *settings.Shop, logo bool) error {
	if err := sheet.CheckShop(*shop); err != nil {
		return err
	}
	if !logo || shop.Logo == "" {
		return nil
	}
	whole, err := filepath.Abs(shop.Logo)
	if err != nil {
		return fmt.Errorf("%s can't be found: %w", shop.Logo, err)
	}
	shop.Logo = whole
	_, err = sheet.ReadLogo(whole)
	return err
}

// SheetOf is the job sheet of a case; err as in PaperHead.
func (w *papers) SheetOf(j *job.Job, only sheet.Pages) (sheet.Sheet, error) {
	h, err := w.PaperHead()
	return sheet.Sheet{Head: h, Job: j, Only: only}, err
}

// ShelfList is what is on the open shelf, for the file; noLogo as in PaperHead.
func (w *papers) ShelfList(ctx context.Context) (l sheet.ShelfList, noLogo, err error) {
	s := w.shelf()
	if s == nil {
		return l, nil, ErrNoShelf
	}
	h, noLogo := w.PaperHead()
	l = sheet.ShelfList{Head: h, Shelf: s.Head().Name, ID: s.Head().ID}
	twins, problems := s.Twins(ctx)
	l.Problems = problems
	pins, err := s.Pins(ctx)
	if err != nil {
		l.Problems = append(l.Problems, fmt.Errorf("which dates are kept for ever can't be told: %w", err))
	}
	rules, err := keeping.ReadRules(ctx, s)
	if err != nil {
		l.Problems = append(l.Problems, fmt.Errorf("how long dates stay can't be told: %w", err))
	}
	ahead, err := (&shelves{w.room}).Foresee(ctx, twins)
	if err != nil {
		return l, noLogo, err
	}
	l.Facts = [][2]string{{"Lies in", s.Place()}, {"Room", ahead.Words()}}
	if s.Sealed() {
		l.Facts = append(l.Facts, [2]string{"Sealed", "yes: without one of its passphrases nobody can read it"})
	}
	note, retired, err := s.Retired(ctx)
	switch {
	case err != nil:
		l.Facts = append(l.Facts, [2]string{"Retired", "can't be told"})
	case retired:
		l.Facts = append(l.Facts, [2]string{"Retired", note})
	}
	for _, t := range twins { // by machine, the newest first
		n := len(l.Machines)
		if n == 0 || l.Machines[n-1].Machine != t.Machine {
			l.Machines = append(l.Machines, sheet.ListMachine{Machine: t.Machine, Rule: rules.For(t.Machine).Words(),
				Disks: stickersOf(t)})
			n++
		}
		m := &l.Machines[n-1]
		m.Dates = append(m.Dates, sheet.ListDate{Taken: t.Taken, Used: t.Used, Added: t.Added, ID: t.ID,
			State: TwinMarks(ctx, s, t, pins)})
	}
	return l, noLogo, nil
}

// stickersOf name the disks of a twin.
func stickersOf(t *shelf.Twin) []string {
	var out []string
	for i := range t.Disks {
		out = append(out, disk.Sticker(t.Disks[i].Identity))
	}
	return out
}

// TwinMarks say what is doubtful or proven about a twin, and whether it is kept for ever.
func TwinMarks(ctx context.Context, s *shelf.Shelf, t *shelf.Twin, kept map[string]shelf.Pin) string {
	var m []string
	if _, yes := kept[t.ID]; yes {
		m = append(m, "kept for ever")
	}
	if !t.Quiet() {
		m = append(m, "not quiet")
	}
	if words := t.RescueWords(); words != "" {
		m = append(m, words)
	}
	if n := t.Missing(); n > 0 {
		m = append(m, units.Bytes(n)+" missing")
	}
	all, hurt := s.Proofs(ctx, t.ID)
	if n := len(hurt); n > 0 {
		m = append(m, units.Plural(n, "proof")+" can't be read")
	}
	switch proofs := shelf.ShelfProofs(all); {
	case len(proofs) == 0 && len(hurt) > 0:
		m = append(m, "whether it is proven can't be told")
	case len(proofs) == 0:
		m = append(m, "not proven yet")
	case proofs[0].Old(time.Now()):
		m = append(m, "proof: "+proofs[0].Words()+", long ago")
	default:
		m = append(m, "proof: "+proofs[0].Words())
	}
	return strings.Join(m, ", ")
}

// Labels are labels on the sheets that the shop uses.
func (w *papers) Labels(all []sheet.Label) (sheet.Labels, error) {
	shop := w.Shop()
	name := shop.Labels
	if name == "" {
		name = sheet.UsualGrid(shop.Paper)
	}
	g, err := sheet.GridNamed(name)
	return sheet.Labels{Head: sheet.Head{Shop: shop, Made: time.Now()}, Grid: g, Right: shop.LabelsRight,
		Below: shop.LabelsBelow, All: all}, err
}

// foot ends a label: the case that is chosen, and who works here, on the day.
func (w *papers) foot() []string {
	var out []string
	if j := (&cases{w.room}).Job(); j != nil {
		out = append(out, "case "+j.Title())
	}
	return append(out, w.madeBy())
}

// madeBy is the day, and who works here.
func (w *papers) madeBy() string {
	h := w.PlainHead()
	return strings.TrimSpace(h.Dates.Day(h.Made) + "  " + h.Shop.Name)
}

// DiskLabel is the label of an attached disk: whose it is by the open shelf, and its sticker.
func (w *papers) DiskLabel(ctx context.Context, d *bench.Disk) sheet.Label {
	id := d.Identity
	l := sheet.Label{Title: id.Model, Code: id.Serial}
	if s := w.shelf(); s != nil {
		if machine, newest := ownerOf(ctx, s, d); machine != "" {
			l.Title = machine
			l.Lines = append(l.Lines, "newest twin on "+s.Head().Name+datedWords(newest, w.PlainHead().Dates.Clock))
		}
	}
	l.Lines = append(append(stickerLines(id), l.Lines...), w.foot()...)
	return l
}

func stickerLines(id disk.Identity) []string {
	out := []string{strings.TrimSpace(id.Model + ", " + units.Bytes(id.Size))}
	if id.Serial != "" {
		out = append(out, "serial "+id.Serial)
	}
	return out
}

// TwinLabels are labels for the disks that a twin was taken of.
func (w *papers) TwinLabels(t *shelf.Twin) []sheet.Label {
	shelf := ""
	if s := w.shelf(); s != nil {
		shelf = " on " + s.Head().Name
	}
	var out []sheet.Label
	for i := range t.Disks {
		l := sheet.Label{Title: t.Machine, Code: t.ID}
		if len(t.Disks) > 1 {
			l.Title += fmt.Sprintf(", disk %d of %d", i+1, len(t.Disks))
		}
		l.Lines = append(append(stickerLines(t.Disks[i].Identity),
			"twin "+w.PlainHead().Dates.Clock(t.Taken)+shelf), w.foot()...)
		out = append(out, l)
	}
	return out
}

// ShelfLabel is the label of the drive that the open shelf lies on.
func (w *papers) ShelfLabel() (sheet.Label, error) {
	s := w.shelf()
	if s == nil {
		return sheet.Label{}, ErrNoShelf
	}
	l := sheet.Label{Title: "Shelf " + s.Head().Name, Code: s.Head().ID, Lines: []string{"Twin Shelf storage drive"}}
	if s.Sealed() {
		l.Lines[0] += ", sealed: needs a passphrase"
	}
	l.Lines = append(l.Lines, s.Head().ID, w.madeBy())
	return l, nil
}

// StickCard is the card that goes with a starting stick; err as in PaperHead.
func (w *papers) StickCard() (sheet.Card, error) {
	h, err := w.PaperHead()
	return sheet.Card{Head: h, Tool: Tool()}, err
}

// StickLabel is the label of a stick that starts a machine into this program.
func (w *papers) StickLabel() sheet.Label {
	return sheet.Label{Title: "Starting stick", Lines: []string{"starts a PC into " + Tool(), w.madeBy()}}
}
