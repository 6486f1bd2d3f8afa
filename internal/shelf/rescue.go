package shelf

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

// Rescue says of a twin that it comes from drives that are failing: it was got in sittings, and may become more. Every
// sitting makes a twin of its own, which takes the place of the one before.
type Rescue struct {
	// ID is the same over all sittings.
	ID       string    `json:"id"`
	Sittings []Sitting `json:"sittings"`
	// Wanted is how many bytes should be got, as far as the maps tell that could be read.
	Wanted int64 `json:"wanted"`
	// Mapped says that the maps of all parts could be read and agree with their records. Otherwise the whole of a part
	// is wanted.
	Mapped bool `json:"mapped"`
	// Hit is what couldn't be read so far belongs to, as far as the names are known.
	Hit Hit `json:"hit_so_far,omitzero"`
	// Filled is what came from elsewhere, in all sittings.
	Filled []Filled `json:"filled,omitempty"`
}

// Filled is what couldn't be read and was taken from elsewhere, where the same files lie unchanged by the records of
// the file system.
type Filled struct {
	From  string `json:"taken_from"`
	Bytes int64  `json:"bytes"`
}

// Hit is which files are hit by what couldn't be read.
type Hit struct {
	Files int  `json:"files"`
	More  bool `json:"more"` // there are more than these
	// Rest are the bytes that belong to no file.
	Rest int64 `json:"of_no_file"`
}

// Add adds what is hit on another disk.
func (h *Hit) Add(o Hit) {
	h.Files += o.Files
	h.More = h.More || o.More
	h.Rest += o.Rest
}

// Words say how many files are hit; empty for none.
func (h Hit) Words() string {
	switch {
	case h.Files == 0:
		return ""
	case h.More:
		return fmt.Sprintf("more than %d files hit", h.Files)
	}
	return units.Plural(h.Files, "file") + " hit"
}

// Sitting is one time that drives were read for a rescue.
type Sitting struct {
	Begun time.Time `json:"begun"`
	Ended time.Time `json:"ended"`
	Got   int64     `json:"got"` // bytes that it brought
	Reads int64     `json:"reads"`
	Fails int64     `json:"fails"` // reads that failed
	// Done says that it came to the end of what was chosen.
	Done bool `json:"came_to_end"`
}

// RescueWords say what a twin of a rescue has: "rescue, 3 sittings, 99.98 % of what is used".
func (t *Twin) RescueWords() string {
	if t.Rescue == nil {
		return ""
	}
	n := len(t.Rescue.Sittings)
	words := fmt.Sprintf("rescue, %d sittings", n)
	if n == 1 {
		words = "rescue, 1 sitting"
	}
	words += ", " + Share(t.Rescue.Wanted-t.Missing(), t.Rescue.Wanted) + " of what is used"
	var filled int64
	for _, f := range t.Rescue.Filled {
		filled += f.Bytes
	}
	if filled > 0 {
		words += ", " + units.Bytes(filled) + " of it from elsewhere"
	}
	if hit := t.Rescue.Hit.Words(); hit != "" {
		words += ", " + hit
	}
	return words
}

// Share is a share in percent, never rounded up to all of it.
func Share(part, whole int64) string {
	if whole <= 0 || part >= whole {
		return "100 %"
	}
	hundredths := min(9_999, int64(float64(max(0, part))/float64(whole)*10_000))
	return fmt.Sprintf("%d.%02d %%", hundredths/100, hundredths%100)
}

// What was tried on the drives of a rescue lies in notes beside its twin: packed states (package disk/careful), in
// pieces. A note that is lost costs tries, never data. docs/shelf-format.md, "Rescues".
type triedNote struct {
	Twin   string `json:"twin"`
	Disk   int    `json:"disk"`
	From   int    `json:"from"` // the first chunk
	States []byte `json:"states"`
}

// Tries are what was tried on the drives of rescues.
type Tries struct{ s *Shelf }

// TriesOn are the tries that a shelf keeps.
func TriesOn(s *Shelf) Tries { return Tries{s} }

const triedFolder = "tried"

func triedPath(twin string, i, piece int) string {
	return fmt.Sprintf("%s/%s.%02d.%04d.note", triedFolder, twin, i, piece)
}

// PutTried keeps pieces of packed states of disk i with a twin, each with the chunk that it begins at. Pieces of an
// earlier time that are too many are removed.
func (c *Session) PutTried(ctx context.Context, twin string, i int, pieces iter.Seq2[int, []byte]) error {
	n := 0
	for from, b := range pieces {
		if err := c.s.PutNote(ctx, nil, triedPath(twin, i, n), triedNote{twin, i, from, b}); err != nil {
			return err
		}
		n++
	}
	for _, f := range TriesOn(c.s).files(ctx, fmt.Sprintf("%s.%02d.", twin, i)) {
		if f >= triedPath(twin, i, n) {
			_ = c.s.Backend().Delete(ctx, f)
		}
	}
	return nil
}

// files are the notes whose names begin so.
func (r Tries) files(ctx context.Context, prefix string) []string {
	names, _ := r.s.Backend().List(ctx, triedFolder) // what can't be listed costs tries only
	names = slices.DeleteFunc(names, func(n string) bool { return !strings.HasPrefix(n, prefix) })
	for i := range names {
		names[i] = triedFolder + "/" + names[i]
	}
	return names
}

// Of gives the pieces of packed states that were kept with a twin for disk i. A piece that can't be read is left
// out.
func (r Tries) Of(ctx context.Context, twin string, i int) iter.Seq2[int, []byte] {
	return func(yield func(int, []byte) bool) {
		if !validID(twin) {
			return
		}
		for _, f := range r.files(ctx, fmt.Sprintf("%s.%02d.", twin, i)) {
			var n triedNote
			if ok, err := r.s.GetNote(ctx, f, &n); !ok || err != nil || n.Twin != twin || n.Disk != i {
				continue
			}
			if !yield(n.From, n.States) {
				return
			}
		}
	}
}

// drop removes what was kept of the tries for a twin.
func (r Tries) drop(ctx context.Context, twin string) {
	for _, f := range r.files(ctx, twin+".") {
		_ = r.s.Backend().Delete(ctx, f)
	}
}

// Checkpoint makes everything durable that was put so far and lets the twin appear, or takes the place of what it was;
// the session goes on.
func (c *Session) Checkpoint(ctx context.Context, t *Twin) error {
	return c.Session.Checkpoint(ctx, func(ctx context.Context, l *store.Lock) error {
		return c.s.writeTwin(ctx, l, t)
	})
}

// missingZero gives a stretch for which nothing is kept: zeros where something should have been kept and couldn't be
// read, undefined elsewhere.
func (d *Disk) missingZero(area span.Span, emit func(disk.Piece) bool) bool {
	at := area.Start
	for sp := range d.d.Missing.Clip(area).All() {
		if at < sp.Start && !emit(disk.Piece{Span: span.Span{Start: at, End: sp.Start}}) ||
			!emit(disk.Piece{Span: sp, Kind: disk.Zero}) {
			return false
		}
		at = sp.End
	}
	return at >= area.End || emit(disk.Piece{Span: span.Span{Start: at, End: area.End}})
}
