package ntfs

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

const (
	// maxNamed bounds how many stretches the log names.
	maxNamed = 1 << 22
	// maxMappings bounds of how many attributes changes of the run list are followed.
	maxMappings = 1 << 14
	// maxLower bounds how often the tables of a restart record may send back to older records.
	maxLower = 4
)

// logNames collects the clusters that records of the log name: those that an operation is for, those of bitmaps that it
// marks or frees, those that attributes in its data name, and those of pages that weren't written. What is done again
// and what is taken back counts alike, so the order of the records and what became of their transactions don't matter.
type logNames struct {
	v     *Volume
	named []span.Span // clusters
	// mappings are attributes whose run list the log changes in places, as they are on the disk with those changes.
	mappings map[mapping][]byte
	// changed are the file records whose streams are made, removed or moved.
	changed map[int64]bool
	// tables are the records in which the last restart record has its tables, oldest the oldest LSN in them.
	tables [2]uint64
	wide   bool // they are of version 1
	oldest uint64
	start  bool // the oldest record was met
}

// mapping is an attribute of a file record, by the byte of $MFT at which it begins.
type mapping struct{ at int64 }

// namedByLog goes through the log since the oldest record that is needed. It gives the clusters that are named, as
// bytes of the volume, the LSN of that record, and which file records' streams change.
func namedByLog(ctx context.Context, v *Volume, r restart) (named span.Set, since uint64, changed map[int64]bool,
	err error) {
	for range maxLower {
		l, err := v.openLog(ctx, r)
		if err != nil {
			return span.Set{}, 0, nil, err
		}
		n := &logNames{v: v, mappings: map[mapping][]byte{}, changed: map[int64]bool{}, oldest: l.start}
		if err := l.each(ctx, func(x logRecord) error { return n.restart(x, r.last) }); err != nil {
			return span.Set{}, 0, nil, err
		}
		if err := l.each(ctx, n.record); err != nil {
			return span.Set{}, 0, nil, err
		}
		if !n.start {
			return span.Set{}, 0, nil, fmt.Errorf("%w: its oldest record (%d) isn't in its place", ErrLogBroken,
				l.start)
		}
		if n.oldest == l.start {
			for i, sp := range n.named {
				n.named[i] = span.Span{Start: sp.Start * v.cluster, End: sp.End * v.cluster}
			}
			return span.Of(n.named...), l.start, n.changed, nil
		}
		r.oldest = n.oldest
	}
	return span.Set{}, 0, nil, fmt.Errorf("%w: its tables name ever older records", ErrLogBroken)
}

// restart notes where the last restart record has its tables.
func (n *logNames) restart(x logRecord, last uint64) error {
	if x.lsn == n.oldest {
		n.start = true
	}
	if x.kind == lrRestart && x.lsn == last {
		if len(x.data) < rsLen {
			return fmt.Errorf("%w: its restart record is too short", ErrLogBroken)
		}
		le := binary.LittleEndian
		n.wide = le.Uint32(x.data[rsMajor:]) > 0
		n.tables = [2]uint64{le.Uint64(x.data[rsDirtyLSN:]), le.Uint64(x.data[rsActionsLSN:])}
	}
	return nil
}

// streamOps are the operations after which a file record's streams may lie elsewhere.
var streamOps = [...]uint16{opInitRecord, opFreeRecord, opWriteEnd, opCreateAttr, opDeleteAttr, opMapping, opSetSizes}

// action is what a client logged: an operation to do again and one to take back, on the same target.
type action struct {
	data   []byte
	record int // where in the target its structure begins
	attr   int // where in that the change begins
	byte   int64
}

// record takes in a record of a client ("LOG_REC_HDR").
func (n *logNames) record(x logRecord) error {
	if x.kind != lrClient {
		return nil
	}
	le := binary.LittleEndian
	broken := func(what string) error {
		return fmt.Errorf("%w: record %d %s", ErrLogBroken, x.lsn, what)
	}
	d := x.data
	if len(d) < opLCNs {
		return broken("is too short")
	}
	a := action{record: int(le.Uint16(d[opRecordAt:])), attr: int(le.Uint16(d[opAttrAt:]))}
	vcn := le.Uint64(d[opVCN:])
	if vcn > maxStream {
		return broken("is for a cluster that no stream has")
	}
	a.byte = int64(vcn)*n.v.cluster + int64(le.Uint16(d[opBlockAt:]))*fixupStride
	count := int(le.Uint16(d[opClusters:]))
	if opLCNs+8*count > len(d) && count > 1 {
		return broken("names more clusters than it has")
	}
	for i := range min(count, (len(d)-opLCNs)/8) {
		n.cluster(le.Uint64(d[opLCNs+8*i:]), 1)
	}
	for _, p := range [][3]int{{opRedo, opRedoAt, opRedoLen}, {opUndo, opUndoAt, opUndoLen}} {
		op, at, length := le.Uint16(d[p[0]:]), int(le.Uint16(d[p[1]:])), int(le.Uint16(d[p[2]:]))
		if op > opLast {
			return broken(fmt.Sprintf("has operation %#x, which isn't known", op))
		}
		if length > 0 && at+length > len(d) {
			return broken("has data beyond its end")
		}
		if a.data = nil; length > 0 {
			a.data = d[at : at+length]
		}
		if err := n.operation(x.lsn, op, a); err != nil {
			return broken(err.Error())
		}
	}
	if len(n.named) > maxNamed {
		return broken(fmt.Sprintf("is one too many: more than %d stretches are named", maxNamed))
	}
	return nil
}

// cluster notes clusters; the log may name some of another volume size, which aren't there.
func (n *logNames) cluster(first, count uint64) {
	if end := uint64(n.v.clusters); first < end {
		n.named = append(n.named, span.At(int64(first), int64(min(count, end-first))))
	}
}

// operation notes what one operation names.
func (n *logNames) operation(lsn uint64, op uint16, a action) error {
	le := binary.LittleEndian
	if slices.Contains(streamOps[:], op) {
		n.changed[a.byte/n.v.record] = true
	}
	switch op {
	case opSetBits, opClearBits:
		if len(a.data) >= 8 {
			first := uint64(a.byte+int64(a.record))*8 + uint64(le.Uint32(a.data))
			n.cluster(first, uint64(le.Uint32(a.data[4:])))
		}
	case opInitRecord:
		if len(a.data) < attrHeaderLong || string(a.data[:4]) != recMagic {
			return nil
		}
		return n.attributes(a.data[min(len(a.data), int(le.Uint16(a.data[recAttrsOffset:]))):])
	case opWriteEnd, opCreateAttr, opDeleteAttr:
		return n.attributes(a.data)
	case opMapping:
		return n.mapping(a)
	case opDeleteClusters, opHotFix:
		for b := a.data; len(b) >= 16; b = b[16:] {
			n.cluster(le.Uint64(b), le.Uint64(b[8:]))
		}
	case opDirtyPages:
		n.dirtyPages(a.data, lsn == n.tables[0])
	case opTransactions:
		for e := range tableOf(a.data) {
			if lsn == n.tables[1] && len(e) >= actionFirstLSN+8 {
				n.older(le.Uint64(e[actionFirstLSN:]))
			}
		}
	}
	return nil
}

// attributes notes the runs of attributes that stand one after the other.
func (n *logNames) attributes(b []byte) error {
	attrs, _ := attributesIn(b, 0)
	for _, a := range attrs {
		if a.nonResident {
			runs, err := n.v.decodeRuns(a)
			if err != nil {
				return err
			}
			n.runs(runs)
		}
	}
	return nil
}

func (n *logNames) runs(runs []run) {
	for _, r := range runs {
		if !r.sparse {
			n.cluster(uint64(r.lcn), uint64(r.n))
		}
	}
}

// mapping follows a change of a run list. It tells only the bytes that change, so they are laid over the attribute as
// it is on the disk; where that is of another time they may say nothing: what is allocated is in the bitmap's records
// too.
func (n *logNames) mapping(a action) error {
	key := mapping{a.byte + int64(a.record)}
	old, known := n.mappings[key]
	if !known {
		if len(n.mappings) >= maxMappings {
			return fmt.Errorf("is one too many: more than %d attributes change", maxMappings)
		}
		old = n.attributeAt(a)
	}
	if len(old) < attrHeaderLong || a.attr > len(old) || a.attr+len(a.data) > int(n.v.record) {
		return nil
	}
	b := append(append([]byte{}, old[:a.attr]...), a.data...)
	if len(b) < len(old) {
		b = append(b, old[len(b):]...)
	}
	n.mappings[key] = b
	binary.LittleEndian.PutUint32(b[headLength:], uint32(len(b)))
	attrs, _ := attributesIn(b, 0)
	for _, x := range attrs {
		if x.nonResident {
			if runs, err := n.v.decodeRuns(x); err == nil {
				n.runs(runs)
			}
		}
	}
	return nil
}

// attributeAt reads the attribute of a file record that an action is for; nil where there is none.
func (n *logNames) attributeAt(a action) []byte {
	number := a.byte / n.v.record
	rec, err := n.v.readRecord(number)
	if err != nil || a.record+attrHeaderLong > len(rec.b) {
		return nil
	}
	b := rec.b[a.record:]
	length := int(binary.LittleEndian.Uint32(b[headLength:]))
	if length < attrHeaderLong || length > len(b) || b[headNonResident] == 0 {
		return nil
	}
	return b[:length]
}

// dirtyPages notes the clusters of pages that weren't written when the table was. Of its two layouts both are read,
// since only the last restart record tells which it is: one of them names what isn't there, or a few clusters too
// many.
func (n *logNames) dirtyPages(b []byte, last bool) {
	le := binary.LittleEndian
	for e := range tableOf(b) {
		if len(e) < dirtyLCNs {
			continue
		}
		for _, at := range []int{dirtyLCNs, dirtyLCNs32} {
			for i := 0; i < int(le.Uint32(e[dirtyClusters:])) && at+8*i+8 <= len(e); i++ {
				n.cluster(le.Uint64(e[at+8*i:]), 1)
			}
		}
		switch {
		case !last:
		case n.wide:
			n.older(le.Uint64(e[dirtyOldest:]))
		case len(e) >= dirtyOldest32+8:
			n.older(le.Uint64(e[dirtyOldest32:]))
		}
	}
}

// older notes an LSN that a table sends back to. Only those that can be one of this log count.
func (n *logNames) older(lsn uint64) {
	if lsn > 0 && lsn < n.oldest {
		n.oldest = lsn
	}
}

// tableOf yields the entries in use of a table that was dumped into the log ("RESTART_TABLE").
func tableOf(b []byte) func(func([]byte) bool) {
	return func(yield func([]byte) bool) {
		if len(b) < tableHead {
			return
		}
		le := binary.LittleEndian
		size, entries := int(le.Uint16(b[tableEntryLen:])), int(le.Uint16(b[tableEntries:]))
		for i := 0; size >= 8 && i < entries && tableHead+(i+1)*size <= len(b); i++ {
			e := b[tableHead+i*size:][:size]
			if le.Uint32(e) == tableAllocated && !yield(e) {
				return
			}
		}
	}
}

var _ fsys.Interrupted = (*Volume)(nil)

// headOf is the first bytes of a stream on the volume, in whole clusters: at least n, where it has so many.
func headOf(v *Volume, runs []run, n int64) span.Set {
	var out []span.Span
	for _, r := range runs {
		if left := (n + v.cluster - 1) / v.cluster * v.cluster; left > 0 && !r.sparse {
			sp := v.clusterSpan(r.lcn, r.n)
			sp.End = min(sp.End, sp.Start+left)
			out = append(out, sp)
		}
		n -= r.n * v.cluster
	}
	return span.Of(out...)
}

// zeros are patches that clear stretches of the volume.
func zeros(set span.Set, why string) []disk.Patch {
	var out []disk.Patch
	for sp := range set.All() {
		out = append(out, disk.Patch{Off: sp.Start, Zeros: sp.Len(), Why: why})
	}
	return out
}
