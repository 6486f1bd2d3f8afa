package fit

import (
	"errors"
	"fmt"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Added is a part that the source doesn't have.
type Added struct {
	Part  table.Part
	Kind  string // of its file system
	Label string
}

// fill makes a new part of the room that is left over, with a file system, when that is wished.
func (m *maker) fill() error {
	p, w := m.plan, m.wish
	if w.Fill == "" {
		return nil
	}
	room := span.Span{Start: (p.Leftover.Start + step - 1) / step * step, End: p.Leftover.End / step * step}
	if room.Empty() || m.t.Kind == table.None {
		return errors.New("there is no room left for a new part: the others take all of it; let nothing grow, " +
			"or give " +
			"them exact sizes")
	}
	maker, err := families.MakerOf(w.Fill)
	if err != nil {
		return err
	}
	id := blake3.Sum256([]byte(w.Seed + "\nnew part"))
	form := fsys.Form{Kind: maker.Kind, Label: w.FillLabel, Size: room.Len(), Sector: p.Sector, Start: room.Start,
		ID: [16]byte(id[:16]), Now: w.When}
	if err := maker.Check(form); err != nil {
		return fmt.Errorf("the new part: %w", err)
	}
	volume, err := maker.Format(form)
	if err != nil {
		return fmt.Errorf("the new part: %w", err)
	}
	for i := range volume {
		volume[i].Off += room.Start
	}
	order, err := disk.Arrange(m.source, p.Size, p.Moves)
	if err != nil {
		return err
	}
	o, err := disk.NewOverlay(order, p.Patches, p.Size)
	if err != nil {
		return err
	}
	o.SetSectorSize(p.Sector)
	t, err := table.Read(o, p.Size, p.Sector)
	if err != nil {
		return err
	}
	part := table.Part{Span: room, Name: w.FillLabel, GUID: table.NewGUID(form.ID)}
	part.Type = table.TypeFor(t.Kind, maker.Kind)
	entries, number, err := t.Add(o, part, p.Size)
	if err != nil {
		return fmt.Errorf("the new part: %w", err)
	}
	part.Number = number
	p.Patches = disk.Over(append(entries, volume...), p.Patches)
	p.Added = &Added{part, maker.Kind, w.FillLabel}
	p.Notes = append(p.Notes[:max(0, len(p.Notes)-p.unused)],
		fmt.Sprintf("part %d is new: %s of %s in the room that is left", number, maker.Kind, units.Bytes(room.Len())))
	p.Leftover = span.Span{}
	return nil
}
