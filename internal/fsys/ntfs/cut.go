package ntfs

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"slices"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// maxBeyond bounds how many stretches are kept beside what $Bitmap marks.
const maxBeyond = 1 << 20

// Rest is how the volume's system left it.
func (v *Volume) Rest() fsys.Rest { return v.left }

// Cut says what must be kept for the system to find, after replaying its log, all that it would find on the original.
//
// That is what $Bitmap marks, what records in use name, what records name that were given up since the oldest entry of
// the log that is needed (their files may come back), and what the log itself names since then. Whatever is allocated
// after the replay is marked in $Bitmap on the disk, or by an entry of the log that marks or frees it: each change of
// the bitmap is logged before it is made. So the replay finds nothing that isn't kept.
//
// Left out are the swap files and the hibernation file, as far as nothing else names their clusters. The head of the
// hibernation file is kept as zeros, so nothing wakes up from the copy. With all nothing is left out but that head.
func (v *Volume) Cut(ctx context.Context, all bool) (*fsys.Cut, error) {
	log, err := v.logState()
	switch {
	case err != nil:
		return nil, fmt.Errorf("$LogFile: %w", err)
	case !log.emptied && !log.valid:
		return nil, fmt.Errorf("%w: no restart page of it can be read", ErrLogBroken)
	}
	c := &cut{v: v, since: math.MaxUint64, changed: map[int64]bool{}}
	if log.open() {
		if c.named, c.since, c.changed, err = namedByLog(ctx, v, log.restart); err != nil {
			return nil, err
		}
	}
	if c.files, err = madeAnew(v); err != nil {
		return nil, err
	}
	return c.make(ctx, all)
}

// cut works out what is kept.
type cut struct {
	v       *Volume
	since   uint64 // LSN of the oldest entry of the log that is needed; the largest number without one
	named   span.Set
	changed map[int64]bool // file records whose streams the log changes
	files   []anew
	omitted span.Set
}

func (c *cut) make(ctx context.Context, all bool) (*fsys.Cut, error) {
	var head span.Set
	for _, f := range c.files {
		switch {
		case f.name != hiberName, c.changed[f.record] && c.v.hiber == imageSpent:
		case c.changed[f.record]:
			return nil, fsys.Contradiction(0, "the log changes where %s lies", f.name)
		default:
			head = headOf(c.v, f.runs, hiberPage)
		}
		if !c.changed[f.record] {
			c.omitted = c.omitted.Union(f.spans)
		}
	}
	c.files = slices.DeleteFunc(c.files, func(f anew) bool { return c.changed[f.record] })
	beyond, err := fsys.Beyond(c.v.Grid(), func(l *fsys.Ledger) error { return c.name(ctx, l) },
		c.v.marked(span.Set{}, c.omitted, span.Set{}), maxBeyond)
	if err != nil {
		return nil, err
	}
	out := &fsys.Cut{Named: beyond.Subtract(c.omitted).Total()}
	for _, f := range c.files {
		if all {
			c.omitted = span.Set{}
			break
		}
		if left := f.spans.Subtract(beyond).Subtract(head); !left.Empty() {
			out.Omit = append(out.Omit, f.omission(left))
		}
	}
	if clash := head.Intersect(beyond); !clash.Empty() {
		return nil, fsys.Contradiction(clash.Bounds().Start, "something else lies where %s begins", hiberName)
	}
	if c.v.left.Asleep() || len(c.v.left.Remarks) > 0 { // otherwise its head says already that it is spent
		out.Patches = zeros(head, "nothing wakes up from the hibernation file")
	}
	out.Used = c.v.marked(span.Set{}, c.omitted, beyond.Union(head))
	return out, nil
}

// name enters everything that must be kept whatever $Bitmap says.
func (c *cut) name(ctx context.Context, l *fsys.Ledger) error {
	for sp := range c.named.All() {
		if err := l.Need(sp, fsys.Owner{Kind: "the log"}); err != nil {
			return err
		}
	}
	le := binary.LittleEndian
	return c.v.walkRecords(func(number int64, raw []byte) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		at := number * c.v.record
		if used, err := everUsed(&c.v.records, number, raw); err != nil || !used {
			return err
		}
		inUse := le.Uint16(raw[recFlags:])&recordInUse != 0
		if !inUse && le.Uint64(raw[recLSN:]) < c.since {
			return nil
		}
		r := record{number: number, at: at, b: raw}
		if err := unfix(raw, recMagic, at); err != nil {
			return err
		}
		base := number
		if b := int64(le.Uint64(raw[recBaseRecord:]) & recNumberBytes); b != 0 {
			base = b
		}
		if inUse && slices.ContainsFunc(c.files, func(f anew) bool { return f.record == base }) {
			return nil // it is left out, unless something else names its clusters
		}
		// Others may name it too: without the replay a record may be of another moment than the next one.
		return eachNamed(c.v, &r, l.Need)
	})
}
