package ntfs

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

const mftChunk = 1 << 20 // bytes of $MFT that are read at once

// signature is what stands at a byte of a file of some kind.
type signature struct {
	at    int
	magic string
}

// Files that a running system holds open and writes without touching their records are known by their
// heads: registry hives, event logs and the common database.
var heldOpen = []signature{{0, "regf"}, {0, "ElfFile\x00"}, {4, "\xEF\xCD\xAB\x89"}}

var (
	_ fsys.Unchanging = (*Volume)(nil)
	_ fsys.Witness    = (*Volume)(nil)
)

// Caveat says why these records prove less than those of other families.
func (v *Volume) Caveat() string {
	return "its system writes some files that it holds open without touching their records, and what programs write " +
		"through memory needn't be in its change journal either"
}

// sameAs is the volume as it was before; nil where that is another one.
func sameAs(v *Volume, before fsys.Volume) *Volume {
	old, ok := before.(*Volume)
	if !ok || old.info.ID != v.info.ID || old.cluster != v.cluster || old.record != v.record {
		return nil
	}
	return old
}

// Witness says whether the change journal tells which files changed since the volume was as before is.
func (v *Volume) Witness(ctx context.Context, before fsys.Volume) string {
	old := sameAs(v, before)
	if old == nil {
		return ""
	}
	files, err := changedSince(ctx, v, old)
	if err != nil {
		return "its change journal doesn't help: " + err.Error()
	}
	return "its change journal names " + units.Plural(len(files), "file") + " since then, and they are read"
}

// Unchanged yields where the contents of files lie whose file record, which says where they lie and when they were
// written, is byte for byte what it was on before, and that the change journal doesn't name since, where it reaches
// back to then. Systems of other makers touch the records and keep no journal. Nothing is said of directories (the
// sizes in them follow later), of files with more than one record, of what is written past the file system, and of
// files of the kinds that its system holds open.
func (v *Volume) Unchanged(ctx context.Context, before fsys.Volume, proven func(span.Span) error) error {
	old := sameAs(v, before)
	if old == nil {
		return nil // nothing is proven
	}
	named, err := changedSince(ctx, v, old)
	if err != nil && ctx.Err() != nil { // otherwise, where the journal doesn't help, the records count alone
		return err
	}
	past, err := writtenPast(ctx, v)
	if err != nil {
		return err
	}
	apart := func(number int64) bool {
		_, found := slices.BinarySearch(named, number)
		return found || past[number]
	}
	records := min(v.mftSize, old.mftSize) / v.record
	chunk := max(1, mftChunk/v.record)
	now, was := make([]byte, chunk*v.record), make([]byte, chunk*v.record)
	for first := int64(0); first < records; first += chunk {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := min(chunk, records-first) * v.record
		if _, err := v.readRuns(v.mft, now[:n], first*v.record); err != nil {
			return err
		}
		if _, err := old.readRuns(old.mft, was[:n], first*v.record); err != nil {
			return err
		}
		for at := int64(0); at < n; at += v.record {
			number := first + at/v.record
			b := now[at : at+v.record]
			if number < firstUser || !bytes.Equal(b, was[at:at+v.record]) || apart(number) {
				continue
			}
			if err := v.provenOf(b, proven); err != nil {
				return err
			}
		}
	}
	return nil
}

// maxPast bounds the records that writtenPast collects.
const maxPast = 1 << 20

// writtenPast are the records of files that are written past the file system, straight to where they lie, or by itself
// without a trace: what is below $Extend (transactions' logs) and below System Volume Information (shadow copies,
// BitLocker's data), and everything in the root that is called *.sys (swap files, images for hibernation and dumps).
func writtenPast(ctx context.Context, v *Volume) (map[int64]bool, error) {
	out := map[int64]bool{}
	folders := []int64{recExtend}
	for _, e := range v.rootEntries {
		switch n := strings.ToLower(e.name); {
		case n == "system volume information":
			folders = append(folders, e.ref.number())
		case strings.HasSuffix(n, ".sys"):
			out[e.ref.number()] = true
		}
	}
	for len(folders) > 0 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		rec, err := v.readRecord(folders[0])
		if err != nil {
			return nil, err
		}
		folders = folders[1:]
		if binary.LittleEndian.Uint16(rec.b[recFlags:])&recordIsDir == 0 {
			continue
		}
		if err := v.index(rec, func(e indexEntry) bool {
			if n := ref(e.ref).number(); !out[n] {
				out[n] = true
				folders = append(folders, n)
			}
			return len(out) <= maxPast
		}); err != nil {
			return nil, err
		}
		if len(out) > maxPast {
			return nil, fmt.Errorf("more than %d files are written past the file system", maxPast)
		}
	}
	return out, nil
}

// statusFile is written by the loader of Windows, which leaves records as they are.
const statusFile = "bootstat.dat"

// provenOf yields the clusters of all data streams of a file with one record. One that can't be followed proves
// nothing.
func (v *Volume) provenOf(b []byte, proven func(span.Span) error) error {
	le := binary.LittleEndian
	b = bytes.Clone(b)
	if unfix(b, recMagic, 0) != nil || le.Uint16(b[recFlags:])&(recordInUse|recordIsDir) != recordInUse ||
		le.Uint64(b[recBaseRecord:])&recNumberBytes != 0 {
		return nil
	}
	var spans []span.Span
	for _, a := range (&record{b: b}).attributes() {
		switch {
		case a.kind == attrList || a.kind == attrFileName && strings.EqualFold(nameIn(a.value), statusFile):
			return nil
		case a.kind != attrData || !a.nonResident:
			continue
		}
		runs, err := v.decodeRuns(a)
		if err != nil || v.heldOpen(runs) {
			return nil
		}
		for _, r := range runs {
			if !r.sparse {
				spans = append(spans, v.clusterSpan(r.lcn, r.n))
			}
		}
	}
	for _, sp := range spans {
		if err := proven(sp); err != nil {
			return err
		}
	}
	return nil
}

// heldOpen looks at the head of a stream for the kinds of files that a running system keeps open.
func (v *Volume) heldOpen(runs []run) bool {
	for _, r := range runs {
		if r.sparse {
			continue
		}
		var b [8]byte
		if disk.ReadFull(v.r, b[:], r.lcn*v.cluster) != nil {
			return true
		}
		return slices.ContainsFunc(heldOpen, func(k signature) bool {
			return strings.HasPrefix(string(b[k.at:]), k.magic)
		})
	}
	return false
}
