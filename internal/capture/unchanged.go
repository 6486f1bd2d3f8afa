package capture

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
)

// A later capture needn't read what the file system's own records prove to be what it was in the twin before: files
// whose record and map are the same. Blocks of the shelf are taken over only when every used byte in
// them is proven and the same bytes were used then. One in sampleEvery is read all the same; when one
// differs, the records can't be trusted and everything is read.

const (
	sampleEvery = 64
	// mostTracked bounds the memory for it: 12 bytes for each block of the shelf.
	mostTracked = 4 << 20
)

// errUntrusted means that a sample differs from what the records said.
var errUntrusted = errors.New("the file system's records don't tell the truth")

// earlier is a part as it was in the twin before.
type earlier struct {
	twin  *shelf.Twin
	disk  *shelf.Disk
	start int64 // of the part on that disk
	// same says for each block whether it can be taken over.
	same []bool
	seen int
}

// before finds the newest twin that holds the area as a quiet, complete part.
func (p *Plan) before(ctx context.Context, a *survey.Area, id disk.Identity) (*shelf.Twin, int, *shelf.Region) {
	if a.Part == nil || !a.Content.Maps || a.Content.Info.ID == "" {
		return nil, 0, nil
	}
	if a.Content.Cut() != nil {
		return nil, 0, nil // what its records would say of changes may be in its log alone
	}
	if u, can := a.Content.Volume.(fsys.Unchanging); !can || u.Caveat() != "" && p.Trust != TrustMost {
		return nil, 0, nil
	}
	twins, _ := shelf.TwinsOf(ctx, p.Shelf, p.Machine) // newest first
	for _, t := range twins {
		for i := range t.Disks {
			if t.Disks[i].Identity.Serial != id.Serial || t.Disks[i].Identity.Model != id.Model {
				continue
			}
			for j := range t.Disks[i].Regions {
				r := &t.Disks[i].Regions[j]
				if r.ID == a.Content.Info.ID && r.Kind == a.Content.Info.Kind && r.Span.Len() == a.Span.Len() &&
					r.Captured && r.Unclean == "" && r.Whole == "" && t.Disks[i].Missing.Clip(r.Span).Empty() {
					return t, i, r
				}
			}
		}
	}
	return nil, 0, nil
}

// Trusts says in words from which twins unchanged files will be taken over.
func (p *Plan) Trusts(ctx context.Context) []string {
	if p.Trust == TrustNone {
		return nil
	}
	var out []string
	for _, s := range p.Sources {
		for i := range s.Survey.Areas {
			a := &s.Survey.Areas[i]
			if a.Part == nil || s.LeaveOut[a.Number()] {
				continue
			}
			if t, i, r := p.before(ctx, a, s.Survey.Device.Identity()); t != nil {
				out = append(out,
					fmt.Sprintf("part %d (%s): files with the same records as on %s; one block in %d is read as a "+
						"check%s%s", a.Part.Number, a.Title(), t.Taken.Format("2006-01-02 15:04"), sampleEvery,
						p.witness(ctx, a, t, i, r), caveat(a)))
			}
		}
	}
	return out
}

// witness is what the part's own journal of changes tells of the time since a twin.
func (p *Plan) witness(ctx context.Context, a *survey.Area, t *shelf.Twin, i int, r *shelf.Region) string {
	w, ok := a.Content.Volume.(fsys.Witness)
	if !ok {
		return ""
	}
	dev, err := p.Shelf.OpenDisk(ctx, t, i)
	if err != nil {
		return ""
	}
	was, err := families.Identify(ctx, disk.Section(dev, r.Span.Start, r.Span.Len()), r.Span.Len(), dev.SectorSize())
	if err != nil {
		return ""
	}
	if said := w.Witness(ctx, was); said != "" {
		return "; " + said
	}
	return ""
}

func caveat(a *survey.Area) string {
	if c := a.Content.Volume.(fsys.Unchanging).Caveat(); c != "" {
		return ". Changes may be missed: " + c
	}
	return ""
}

// earlier works out which blocks of an area can be taken over; nil when none.
func (p *Plan) earlier(ctx context.Context, a *survey.Area, id disk.Identity, block int64) *earlier {
	if p.Trust == TrustNone || a.Span.Len()/block > mostTracked {
		return nil
	}
	t, i, r := p.before(ctx, a, id)
	if t == nil {
		return nil
	}
	dev, err := p.Shelf.OpenDisk(ctx, t, i)
	if err != nil {
		return nil
	}
	var was fsys.Content
	part := disk.Section(dev, r.Span.Start, r.Span.Len())
	if r.Accounted {
		was, err = families.ExamineChecked(ctx, part, r.Span.Len(), dev.SectorSize())
	} else {
		was, err = families.Examine(ctx, part, r.Span.Len(), dev.SectorSize())
	}
	if err != nil || !was.Maps {
		return nil
	}
	e := &earlier{twin: t, disk: dev, start: r.Span.Start}
	if e.same, err = unchangedBlocks(ctx, &a.Content, &was, a.Span.Len(), block); err != nil ||
		!slices.Contains(e.same, true) {
		return nil
	}
	return e
}

// tally is what is known of a block: how many used bytes it has, how many of them are proven, a sum of where the used
// ones lie against those of before, and one of where they lie against the proven ones: a stretch that is proven twice,
// as one that two files share, must not stand for another that isn't.
type tally struct {
	used, proven, where uint32
	unproven            uint64
}

// grain is how finely used and proven stretches are compared, in bytes.
const grain = 4096

// marks is a number for a stretch that is the sum of those of its grains.
func marks(sp span.Span) (sum uint64) {
	for c := range disk.Chunks(sp, grain) {
		x := uint64(c.Start)<<13 ^ uint64(c.Len()) // mixed as by splitmix64
		x = (x ^ x>>30) * 0xBF58476D1CE4E5B9
		x = (x ^ x>>27) * 0x94D049BB133111EB
		sum += x ^ x>>31
	}
	return sum
}

// unchangedBlocks compares the used stretches of a part with those it had, and with what the records prove.
func unchangedBlocks(ctx context.Context, now, was *fsys.Content, size, block int64) ([]bool, error) {
	tallies := make([]tally, (size+block-1)/block)
	if err := eachUsed(ctx, now, block, func(k int64, sp span.Span) {
		tallies[k].used += uint32(sp.Len())
		tallies[k].where += place(sp)
		tallies[k].unproven += marks(sp)
	}); err != nil {
		return nil, err
	}
	if err := eachUsed(ctx, was, block, func(k int64, sp span.Span) { tallies[k].where -= place(sp) }); err != nil {
		return nil, err
	}
	u := now.Volume.(fsys.Unchanging)
	if err := u.Unchanged(ctx, was.Volume, func(sp span.Span) error {
		for kept := range now.Kept(sp).All() {
			for c := range disk.Chunks(kept, block) {
				if k := c.Start / block; k < int64(len(tallies)) {
					tallies[k].proven += uint32(c.Len())
					tallies[k].unproven -= marks(c)
				}
			}
		}
		return ctx.Err()
	}); err != nil {
		return nil, err
	}
	same := make([]bool, len(tallies))
	for k, t := range tallies {
		same[k] = t.used > 0 && t.used == t.proven && t.where == 0 && t.unproven == 0
	}
	return same, nil
}

// eachUsed gives the used stretches block by block.
func eachUsed(ctx context.Context, c *fsys.Content, block int64, do func(k int64, sp span.Span)) error {
	for sp, err := range c.Spans() {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		for part := range disk.Chunks(sp, block) {
			do(part.Start/block, part)
		}
	}
	return nil
}

// place is a number for a stretch; the sum of those of a block tells whether the same stretches are used.
func place(sp span.Span) uint32 {
	h := fnv.New32a()
	var b [16]byte
	for i := range 8 {
		b[i], b[8+i] = byte(sp.Start>>(8*i)), byte(sp.End>>(8*i))
	}
	_, _ = h.Write(b[:])
	return h.Sum32() | 1
}

// takeOver says whether block k of the part can be taken over, what it holds then, and whether it
// is a sample that has to be read.
func (e *earlier) takeOver(k int64) (ref shelf.BlockRef, ok, sample bool) {
	if e == nil || !e.same[k] {
		return ref, false, false
	}
	ref, err := e.disk.RefAt(e.start + k*e.disk.BlockSize())
	if err != nil || ref.Kind == disk.Undefined {
		return ref, false, false
	}
	e.seen++
	return ref, true, e.seen%sampleEvery == 1
}
