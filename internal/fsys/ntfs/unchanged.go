package ntfs

import (
	"bytes"
	"context"
	"encoding/binary"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
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

var _ fsys.Unchanging = (*Volume)(nil)

// Caveat says why these records prove less than those of other families.
func (v *Volume) Caveat() string {
	return "its system writes some files that it holds open without touching their records"
}

// Unchanged yields where the contents of files lie whose file record, which says where they lie and when they were
// written, is byte for byte what it was on before. Nothing is said of directories (the sizes in them follow later), of
// files with more than one record, of what the system swaps to, and of files of the kinds that it holds open.
func (v *Volume) Unchanged(ctx context.Context, before fsys.Volume, proven func(span.Span) error) error {
	old, ok := before.(*Volume)
	if !ok || old.info.ID != v.info.ID || old.cluster != v.cluster || old.record != v.record {
		return nil // not the same volume: nothing is proven
	}
	var swaps []int64
	for _, e := range v.rootEntries {
		if n := strings.ToLower(e.name); n == "pagefile.sys" || n == "swapfile.sys" || n == "hiberfil.sys" {
			swaps = append(swaps, e.ref.number())
		}
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
			if number < firstUser || !bytes.Equal(b, was[at:at+v.record]) || slices.Contains(swaps, number) {
				continue
			}
			if err := v.provenOf(b, proven); err != nil {
				return err
			}
		}
	}
	return nil
}

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
		case a.kind == attrList:
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
