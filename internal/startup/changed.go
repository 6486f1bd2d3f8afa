package startup

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Changed says in words what of the start-up code and loaders of a disk isn't what it was on an earlier date of the
// same disk.
func Changed(ctx context.Context, now, before disk.Device) ([]string, error) {
	a, err := newChecker(ctx, now, Options{})
	if err != nil || a == nil {
		return nil, err
	}
	b, err := newChecker(ctx, before, Options{})
	if err != nil || b == nil || now.SectorSize() != before.SectorSize() {
		return nil, err
	}
	var out []string
	add := func(what string, n int) {
		if n > 0 {
			out = append(out, fmt.Sprintf("%s (%s)", what, units.Plural(n, "sector")))
		}
	}
	add("the code in the first sector", differ(now, before, span.Span{End: codeLen}))
	gap := a.biosWay.roomOf(int64(a.t.Sector))
	gap.End = min(gap.End, gap.Start+maxGap)
	if a.t.Kind == table.MBR {
		add("what lies before the first part", differ(now, before, gap))
	}
	for _, p := range a.parts {
		if p.Type == table.TypeBIOSBoot && p.Span.Len() <= maxGap {
			add(fmt.Sprintf("part %d, for BIOS start-up code", p.Number), differ(now, before, p.Span))
		}
	}
	return append(out, loadersChanged(a, b)...), ctx.Err()
}

const maxGap = 32 << 20 // bytes of start-up code that are compared

// differ counts the sectors that differ; one that either can't give counts.
func differ(a, b disk.Device, sp span.Span) int {
	n := 0
	x, y := make([]byte, biosSector), make([]byte, biosSector)
	for at := sp.Start; at < sp.End; at += biosSector {
		m := min(biosSector, sp.End-at)
		if at+m > b.Size() || disk.ReadFull(a, x[:m], at) != nil || disk.ReadFull(b, y[:m], at) != nil ||
			!bytes.Equal(x[:m], y[:m]) {
			n++
		}
	}
	return n
}

// loadersChanged compares the loaders where firmware looks.
func loadersChanged(a, b *checker) []string {
	var out []string
	for i := range a.parts {
		p := &a.parts[i]
		if p.files == nil || p.Type != table.TypeESP && p.Type != mbrESP {
			continue
		}
		for k := range b.parts {
			q := &b.parts[k]
			if q.files == nil || q.Number != p.Number {
				continue
			}
			for _, f := range fallbacks {
				name := fallbackDir + "/" + f.name
				is, err := p.read(name, maxKernel)
				was, errWas := q.read(name, maxKernel)
				gone := errors.Is(err, fs.ErrNotExist) && errWas == nil
				if gone || err == nil && errWas == nil && !bytes.Equal(is, was) {
					out = append(out, "\\"+backslashed(name))
				}
			}
		}
	}
	return out
}

// Since is the report with what changed since an earlier date.
func (r *Report) Since(date string, changed []string) *Report {
	if len(changed) == 0 {
		return r
	}
	out := *r
	out.Findings = append(slices.Clone(r.Findings),
		Finding{Way: References, Verdict: Doubt, Aside: true,
			Says: fmt.Sprintf("changed since the twin before, of %s: %s", date, strings.Join(changed, ", "))})
	return &out
}

// Decline is the report where nothing of it is repaired.
func (r *Report) Decline() *Report {
	out := *r
	out.Declined = true
	return &out
}

// Troubled says whether something of the start-up isn't good.
func (r *Report) Troubled() bool {
	for _, f := range r.Findings {
		if f.Verdict != Good && !f.Aside {
			return true
		}
	}
	return false
}
