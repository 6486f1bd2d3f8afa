// Package table reads, checks and builds partition tables: GPT (UEFI
// Specification 2.10, chapter 5) and MBR with extended chains (the same
// specification, section 5.2, and long-standing practice for the chain). It
// reads and rearranges Apple partition maps, and makes none.
//
// It is pure: bytes in, bytes out. Nothing here writes to a disk. Reading is
// bounded: at most 1,024 GPT entries' worth of bytes per entry size, 128 links
// of an extended chain and 256 entries of a map are followed, whatever the bytes
// say.
package table

import (
	"fmt"
	"io"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Kind is the kind of a table.
type Kind string

const (
	None Kind = ""
	MBR  Kind = "MBR"
	GPT  Kind = "GPT"
	APM  Kind = "APM" // Apple partition map
)

// Severity grades a finding.
type Severity string

const (
	// Note is worth knowing and changes nothing.
	Note Severity = "note"
	// Warning means the table works but should be looked at.
	Warning Severity = "warning"
	// Damage means that some of the table can't be trusted.
	Damage Severity = "damage"
)

// Finding is one thing that a check found, in words.
type Finding struct {
	Severity Severity `json:"severity"`
	Text     string   `json:"text"`
	Offset   int64    `json:"offset"` // bytes from the start of the disk
}

// Part is one entry of a table.
type Part struct {
	Number int       `json:"number"` // as the kernel numbers it, from 1
	Span   span.Span `json:"span"`   // bytes from the start of the disk
	Type   string    `json:"type"`   // GPT: type GUID; MBR: two hex digits, "0x83"; APM: a name, "Apple_HFS"
	GUID   string    `json:"guid,omitempty"`
	Name   string    `json:"name,omitempty"`
	Attrs  uint64    `json:"attrs,omitempty"`  // GPT attribute bits
	Active bool      `json:"active,omitempty"` // MBR: the part the boot code starts
	// Logical says that the part is in the extended chain; TableAt is then
	// the byte offset of the sector that describes it.
	Logical bool  `json:"logical,omitempty"`
	TableAt int64 `json:"table_at,omitempty"`
}

// Table is what a disk says about its parts.
type Table struct {
	Kind     Kind      `json:"kind"`
	Sector   int       `json:"sector"` // bytes
	ID       string    `json:"id"`     // GPT: disk GUID; MBR: eight hex digits
	Parts    []Part    `json:"parts"`
	Findings []Finding `json:"findings,omitempty"`
	// FromBackup says that a GPT's primary copy was damaged and the back-up
	// copy was read instead.
	FromBackup bool `json:"from_backup,omitempty"`
	// Usable is the span in which parts may lie, in bytes.
	Usable span.Span `json:"usable"`

	gpt gptGeometry
	apm apmGeometry
}

// Entries is how many parts a GPT or an Apple partition map has room for; 4 for an MBR's own sector.
func (t *Table) Entries() int {
	if t.Kind == GPT {
		return int(t.gpt.count)
	}
	if t.Kind == APM {
		return int(t.apm.end/t.apm.block) - 1
	}
	return 4
}

// Worst is the gravest severity found; "" when there is none.
func (t *Table) Worst() Severity {
	worst := Severity("")
	for _, f := range t.Findings {
		if f.Severity == Damage || f.Severity == Warning && worst != Damage || worst == "" {
			worst = f.Severity
		}
	}
	return worst
}

func (t *Table) find(s Severity, off int64, format string, args ...any) {
	t.Findings = append(t.Findings, Finding{s, fmt.Sprintf(format, args...), off})
}

// DetectSector returns the sector size in bytes that the table on an image file
// was written with: 4096 when a GPT header stands at byte 4096 and none at
// byte 512, otherwise 512.
func DetectSector(r io.ReaderAt, size int64) int {
	for _, n := range []int{512, 4096} {
		b := make([]byte, 8)
		for _, off := range []int64{int64(n), size - int64(n)} {
			if _, err := r.ReadAt(b, off); off > 0 && err == nil && string(b) == gptSignature {
				return n
			}
		}
	}
	return 512
}

// Read reads the table of a disk of size bytes with the given sector size. A disk without any table gives Kind None. A
// first sector that can't be read is a finding; only a disk that has vanished is an error.
func Read(r io.ReaderAt, size int64, sector int) (*Table, error) {
	t := &Table{Sector: sector}
	if size < int64(sector) {
		return t, nil
	}
	first := make([]byte, sector)
	unread := readAt(r, first, 0)
	if disk.Gone(unread) {
		return nil, fmt.Errorf("the table can't be read: %w", unread)
	}
	if unread != nil { // a failing disk: a GPT has another copy
		clear(first)
		t.find(Damage, 0, "the first sector can't be read (%v)", unread)
	}
	found, err := t.readGPT(r, size, first)
	if err != nil {
		return nil, err
	}
	if !found {
		if found, err = t.readAPM(r, size, first); err != nil {
			return nil, err
		}
	}
	if !found {
		if err := t.readMBR(r, size, first); err != nil {
			return nil, err
		}
	}
	t.check(size)
	return t, nil
}

// check looks for parts that overlap, that lie beyond the end of the disk, or
// that aren't on a whole MiB.
func (t *Table) check(size int64) {
	ordered := slices.Clone(t.Parts)
	slices.SortFunc(ordered, func(a, b Part) int {
		if a.Span.Start != b.Span.Start {
			return int(min(1, max(-1, a.Span.Start-b.Span.Start)))
		}
		return a.Number - b.Number
	})
	for i, p := range ordered {
		if p.Span.End > size {
			t.find(Damage, p.TableAt, "part %d ends at byte %d, but the disk ends at byte %d: the image is cut off "+
				"or the table belongs to a larger disk", p.Number, p.Span.End, size)
		}
		if i > 0 && p.Span.Overlaps(ordered[i-1].Span) {
			t.find(Damage, p.TableAt, "part %d and part %d overlap at byte %d", ordered[i-1].Number, p.Number,
				p.Span.Start)
		}
		if t.Usable.Len() > 0 && p.Span.Start < t.Usable.Start {
			t.find(Damage, p.TableAt, "part %d begins at byte %d, inside the table itself", p.Number, p.Span.Start)
		}
	}
}

// Sound says whether the parts can be taken as they stand: all within a disk
// of size bytes, none overlapping another.
func (t *Table) Sound(size int64) bool { return t.unsound(size) == "" }

// unsound says why the parts can't be taken as they stand; empty where they can.
func (t *Table) unsound(size int64) string {
	var seen span.Set
	for _, p := range t.Parts {
		switch {
		case p.Span.Empty() || p.Span.Start < 0:
			return fmt.Sprintf("part %d has no room", p.Number)
		case p.Span.End > size:
			return fmt.Sprintf("part %d ends at byte %d, and the disk at byte %d", p.Number, p.Span.End, size)
		case seen.Overlaps(p.Span):
			return fmt.Sprintf("part %d overlaps another one", p.Number)
		}
		seen.Add(p.Span)
	}
	return ""
}

func kindWords(k Kind) string {
	if k == None {
		return "no table"
	}
	return string(k)
}

// Complaint says in words why a planned table wouldn't be as it was meant, of that kind and with so many parts, on a
// disk of size bytes; empty where it would.
func (t *Table) Complaint(kind Kind, parts int, size int64) string {
	if t.Kind != kind {
		return fmt.Sprintf("it would be read as %s instead of %s", kindWords(t.Kind), kindWords(kind))
	}
	if why := t.unsound(size); why != "" {
		return why
	}
	for _, f := range t.Findings {
		if f.Severity == Damage {
			return f.Text
		}
	}
	if len(t.Parts) != parts {
		return fmt.Sprintf("it would be read with %s instead of %d", units.Plural(len(t.Parts), "part"), parts)
	}
	return ""
}

func readAt(r io.ReaderAt, b []byte, off int64) error {
	if off < 0 {
		return fmt.Errorf("byte %d lies before the start of the disk", off)
	}
	n, err := r.ReadAt(b, off)
	if n == len(b) {
		return nil
	}
	if err == nil {
		err = io.ErrUnexpectedEOF
	}
	return fmt.Errorf("read of %d bytes at byte %d: %w", len(b), off, err)
}

// Starts are where the parts begin, in bytes.
func (t *Table) Starts() []int64 {
	var out []int64
	for _, p := range t.Parts {
		out = append(out, p.Span.Start)
	}
	return out
}
