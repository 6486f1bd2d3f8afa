package rescue

import (
	"context"
	"fmt"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

// What a drive doesn't give any more may lie elsewhere: in an older twin, or on the other drive of a mirror. It is
// taken from there only for files whose records and maps are byte for byte the same on both, by file systems that
// note every change in them (fsys.Unchanging without a caveat).

// elsewhere is a place that may have what is lost.
type elsewhere struct {
	dev     disk.Device
	words   string
	missing span.Set // what it doesn't have itself
}

// fill fills what is lost of a drive, and says where from.
func (s *sitting) fill(i int, q *patient) error {
	if q.lost().Empty() {
		return nil
	}
	for _, e := range s.elsewhere(i, q) {
		n, err := s.fillFrom(q, e)
		if err != nil {
			return err
		}
		if n > 0 {
			q.filled = append(q.filled, shelf.Filled{From: e.words, Bytes: n})
			s.rc.Note("%s%s that couldn't be read come from %s, where the same files lie unchanged by the "+
				"file system's "+
				"records", s.of(q), units.Bytes(n), e.words)
		}
	}
	return nil
}

// mostElsewhere bounds how many older twins are looked through.
const mostElsewhere = 12

// elsewhere lists where what is lost may lie: drives that the person names, then older twins, the newest first.
func (s *sitting) elsewhere(i int, q *patient) []elsewhere {
	var out []elsewhere
	for _, d := range s.FillFrom {
		out = append(out, elsewhere{dev: d, words: disk.Sticker(d.Identity())})
	}
	twins, _ := s.Shelf.Twins(s.rc)
	id := q.Device.Identity()
	for _, t := range twins {
		if !strings.EqualFold(t.Machine, s.Machine) || t.Rescue != nil && t.Rescue.ID == s.twin.Rescue.ID {
			continue
		}
		if len(out) >= mostElsewhere {
			break
		}
		for k := range t.Disks {
			if was := t.Disks[k].Identity; was.Serial != id.Serial || was.Model != id.Model ||
				was.Size != q.Device.Size() {
				continue
			}
			if d, err := s.Shelf.OpenDisk(s.rc, t, k); err == nil {
				out = append(out, elsewhere{d, "the twin of " + units.Moment(t.Taken), t.Disks[k].Missing})
			}
		}
	}
	return out
}

// fillFrom fills what is lost from one place, and gives how many bytes that were. What can't be read there is no
// failure.
func (s *sitting) fillFrom(q *patient, e elsewhere) (n int64, err error) {
	for _, a := range q.taken() {
		lost := q.lost().Clip(a.Span)
		u, can := a.Content.Volume.(fsys.Unchanging)
		if lost.Empty() || !can || u.Caveat() != "" || a.Content.Info.Unclean != "" {
			continue
		}
		was, ok := sameVolume(s.rc, e.dev, &a)
		if !ok {
			continue
		}
		failed := u.Unchanged(s.rc, was, func(sp span.Span) error {
			for part := range lost.Clip(sp.Shift(a.Span.Start)).Subtract(e.missing).All() {
				got, err := q.take(s.rc, e.dev, part)
				if n += got; err != nil {
					return err
				}
			}
			return nil
		})
		if s.rc.Err() != nil {
			return n, s.rc.Err()
		}
		if failed != nil {
			s.rc.Note("part %d can't be filled from %s: %v", a.Number(), e.words, failed)
		}
	}
	return n, nil
}

// sameVolume is the volume at the same place elsewhere, where it is the same one and was quiet there.
func sameVolume(ctx context.Context, d disk.Device, a *survey.Area) (fsys.Volume, bool) {
	if a.Span.End > d.Size() {
		return nil, false
	}
	c, err := families.Examine(ctx, disk.Section(d, a.Span.Start, a.Span.Len()), a.Span.Len(), d.SectorSize())
	same := err == nil && c.Maps && c.Volume != nil && c.Info.ID != "" && c.Info.ID == a.Content.Info.ID &&
		c.Info.Kind == a.Content.Info.Kind
	return c.Volume, same
}

// take takes whole sectors of a stretch from elsewhere.
func (p *patient) take(ctx context.Context, from disk.Device, sp span.Span) (n int64, err error) {
	sector := p.states.Sector()
	sp = span.Span{Start: (sp.Start + sector - 1) / sector * sector, End: sp.End / sector * sector}
	for part := range disk.Chunks(sp, large) {
		for r := range p.states.Runs(part) {
			if r.State == careful.Got {
				continue
			}
			b := p.buf[:r.Len()]
			if disk.ReadFull(from, b, r.Start) != nil {
				continue
			}
			if err := p.canvas.write(ctx, b, r.Start); err != nil {
				return n, fmt.Errorf("what was found elsewhere can't be kept: %w", err)
			}
			p.states.MarkGot(r.Span)
			n += r.Len()
		}
	}
	return n, nil
}
