package keeping

import (
	"fmt"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Damage is a block that twins need and that can't be had, and where it is needed.
type Damage struct {
	Machine string    `json:"machine"`
	Twin    string    `json:"twin"`
	Taken   time.Time `json:"taken"`
	Disk    int       `json:"disk"` // from 1
	Part    int       `json:"part"`
	Title   string    `json:"title"`
	Span    span.Span `json:"span"` // bytes on the disk
	Why     string    `json:"why"`
}

func (d Damage) String() string {
	return fmt.Sprintf("%s, twin of %s, disk %d, part %d (%s), bytes %d to %d: %s", d.Machine,
		d.Taken.Format("2006-01-02 15:04"), d.Disk, d.Part, d.Title, d.Span.Start, d.Span.End-1, d.Why)
}

// Report is what a check found.
type Report struct {
	Packs  int      `json:"packs"`        // read
	Of     int      `json:"packs_in_all"` // packs in all
	Bytes  int64    `json:"bytes"`        // read
	Blocks int      `json:"blocks"`
	Mended []string `json:"mended,omitempty"`
	// Hurt are files that aren't what was written, in words.
	Hurt []string `json:"hurt,omitempty"`
	// Idle are hurt packs of which no twin needs anything, in words; giving back space removes them.
	Idle []string `json:"idle,omitempty"`
	// Damage is what twins miss; bounded, see Lost.
	Damage []Damage `json:"damage,omitempty"`
	Lost   int      `json:"lost_blocks"` // blocks
	// Files are the files that miss something, in words; whoever can read them fills it in.
	Files []string `json:"hurt_files,omitempty"`
	// Oldest is when the pack that wasn't read for longest was read last; zero for never.
	Oldest time.Time `json:"oldest"`
	Whole  bool      `json:"complete"` // the round over all packs is complete

	broken map[string]string // packs that can't be mended, and what is wrong with them
	costly map[string]bool   // those of them that hold blocks which can't be had elsewhere
}

// breaks notes a pack that can't be mended. costly says that something of it can't be had elsewhere.
func (r *Report) breaks(pack, what string, costly bool) {
	if r.broken == nil {
		r.broken, r.costly = map[string]string{}, map[string]bool{}
	}
	r.broken[pack] = what
	r.costly[pack] = costly
}

// damage notes what a twin misses. Neighbours come as one.
func (r *Report) damage(t *shelf.Twin, at int, region *shelf.Region, p disk.Piece, why string) {
	if k := len(r.Damage); k > 0 {
		last := &r.Damage[k-1]
		if last.Twin == t.ID && last.Disk == at+1 && last.Part == region.Part && last.Span.End == p.Start &&
			last.Why == why {
			last.Span.End = p.End
			return
		}
	}
	if len(r.Damage) < maxDamage {
		r.Damage = append(r.Damage, Damage{t.Machine, t.ID, t.Taken, at + 1, region.Part, region.Title(), p.Span, why})
	}
}

// Sound says whether nothing is wrong any more.
func (r *Report) Sound() bool { return len(r.Hurt) == 0 && r.Lost == 0 && len(r.Damage) == 0 }

// Verdict says in a sentence what was established, and what wasn't looked at; empty when something is wrong.
func (r *Report) Verdict() string {
	switch {
	case !r.Sound():
		return ""
	case r.Packs >= r.Of:
		return "everything is as it was written: every pack was read"
	case r.Packs == 0:
		return "every block that a twin needs has its place in a pack, and every small file is as it was written; " +
			"no pack was read, so nothing is said of the bytes in them" + r.since()
	}
	return fmt.Sprintf("what was read is as it was written; %d of %s weren't read this time", r.Of-r.Packs,
		units.Plural(r.Of, "pack")) + r.since()
}

// since says when all packs had been read once.
func (r *Report) since() string {
	if r.Oldest.IsZero() {
		return " (some have never been read since they were written)"
	}
	return " (each of them was last read " + units.Moment(r.Oldest) + " or later)"
}

// ByTwin sums up the damage, a sentence for each twin that misses something, in the order of the report.
func (r *Report) ByTwin() []string {
	type sum struct {
		of        Damage
		places    int
		bytes     int64
		elsewhere bool // in other parts too
	}
	var sums []*sum
	by := map[string]*sum{}
	for _, d := range r.Damage {
		s := by[d.Twin]
		if s == nil {
			s = &sum{of: d}
			by[d.Twin] = s
			sums = append(sums, s)
		}
		s.places++
		s.bytes += d.Span.Len()
		s.elsewhere = s.elsewhere || d.Disk != s.of.Disk || d.Part != s.of.Part
	}
	var out []string
	for _, s := range sums {
		where := fmt.Sprintf("in part %d (%s) of disk %d", s.of.Part, s.of.Title, s.of.Disk)
		if s.of.Part == 0 {
			where = fmt.Sprintf("between the parts of disk %d", s.of.Disk)
		}
		if s.elsewhere {
			where += " and other parts"
		}
		out = append(out, fmt.Sprintf("%s, twin of %s: %s with %s can't be had %s", s.of.Machine,
			s.of.Taken.Format("2006-01-02 15:04"), units.Plural(s.places, "place"), units.Bytes(s.bytes), where))
	}
	return out
}
