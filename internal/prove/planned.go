package prove

import (
	"cmp"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// planned is a disk of a twin with its areas and its table where a plan puts them.
func planned(d *shelf.TwinDisk, p *plan.Plan) *shelf.TwinDisk {
	out := *d
	out.Regions = nil
	to := map[int]span.Span{}
	for _, x := range p.Layout.Parts {
		to[x.Part.Number] = x.To
	}
	end := int64(0)
	for _, r := range d.Regions {
		if now, ok := p.Renewed()[r.ID]; ok && r.ID != "" {
			r.ID = now
		}
		if sp, ok := to[r.Part]; ok && r.Part > 0 {
			r.Span = sp
		} else {
			r.Span = moved(r.Span, p.Layout.Moves)
		}
		if r.Span.Empty() {
			continue
		}
		end = max(end, r.Span.End)
		out.Regions = append(out.Regions, r)
	}
	if end < p.Layout.Size { // the table's own end, and what was cleared
		out.Regions = append(out.Regions, shelf.Region{Span: span.Span{Start: end, End: p.Layout.Size}, Captured: true})
	}
	slices.SortFunc(out.Regions, func(a, b shelf.Region) int { return cmp.Compare(a.Span.Start, b.Span.Start) })
	out.Table = plannedTable(d, p, to)
	return &out
}

// plannedTable is the table as it will be; the planned disk's own where identities or parts are new.
func plannedTable(d *shelf.TwinDisk, p *plan.Plan, to map[int]span.Span) *table.Table {
	if p.Renewed() != nil || p.Added != nil {
		if t, err := table.Read(p.Disk, p.Disk.Size(), p.Disk.SectorSize()); err == nil {
			return t
		}
	}
	t := *d.Table
	t.Parts = nil
	for _, part := range d.Table.Parts {
		if sp, ok := to[part.Number]; ok {
			part.Span = sp
		}
		if !part.Span.Empty() {
			t.Parts = append(t.Parts, part)
		}
	}
	return &t
}

// moved is where a stretch of the source goes; empty when it goes nowhere.
func moved(sp span.Span, moves []disk.Move) span.Span {
	for _, m := range moves {
		if hit := sp.Intersect(m.From); !hit.Empty() {
			return hit.Shift(m.Shift())
		}
	}
	return span.Span{}
}
