package ntfs

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// LogWriter writes a log as a system at work leaves it: it is for what stands in for such a system, in the demo and in
// tests. Its pages are of 4096 bytes, its client is NTFS, its one restart area is written by Bytes.
type LogWriter struct {
	r    restart
	b    []byte
	at   int64  // where the next record begins
	turn uint64 // how often it went through the file
	last uint64
	// Oldest and Restart are the LSNs that the client keeps: of the oldest record that it needs, and of its last
	// restart record.
	Oldest, Restart uint64
	// Copies has the last two pages copied before the first one.
	Copies bool
}

const (
	makePage = 4096
	makeData = 64 // where records begin
	makeUSA  = 40
)

// NewLog begins a log of size bytes, of version 1.1 or 2.0, whose first record is of the given turn through the file.
func NewLog(size int64, major int, turn uint64) (*LogWriter, error) {
	if size%makePage != 0 || size < minLogPages*makePage || size > 1<<32 || major < 1 || major > 2 || turn == 0 {
		return nil, fmt.Errorf("a log of %d bytes in version %d", size, major)
	}
	w := &LogWriter{turn: turn, r: restart{major: major, minor: 2 - major, page: makePage, system: makePage, size: size,
		bits: uint(bits.Len64(uint64(size)) - 3), head: lrHeadMin, data: makeData}}
	w.b = make([]byte, size)
	for i := range w.b {
		w.b[i] = 0xFF
	}
	w.at = w.r.first() + w.r.data
	return w, nil
}

// Record appends what the client logs, and gives its LSN. transaction and previous tell what it belongs to; 0 is
// nothing.
func (w *LogWriter) Record(kind uint32, data []byte, transaction uint32, previous uint64) uint64 {
	if w.at%makePage+w.r.head > makePage || w.at%makePage == 0 {
		w.turnPage()
	}
	le := binary.LittleEndian
	lsn := w.turn<<w.r.bits + uint64(w.at)>>3
	h := make([]byte, lrHeadMin, lrHeadMin+len(data))
	le.PutUint64(h[lrLSN:], lsn)
	le.PutUint64(h[8:], previous)
	le.PutUint64(h[16:], previous)
	le.PutUint32(h[lrLength:], uint32(len(data)))
	le.PutUint32(h[lrType:], kind)
	le.PutUint32(h[36:], transaction)
	if w.at%makePage+lrHeadMin+int64(len(data)) > makePage {
		h[40] = 1 // it goes on in another page
	}
	h = append(h, data...)
	for {
		p := w.page()
		off := w.at % makePage
		n := copy(p[off:], h)
		h = h[n:]
		w.at += int64(n)
		le.PutUint64(p[pageLSN:], lsn)
		if len(h) == 0 {
			w.at = (w.at + 7) &^ 7
			p[16] = 1 // a record ends here
			le.PutUint16(p[24:], uint16((w.at-1)%makePage+1))
			le.PutUint64(p[pageLastEnd:], lsn)
			break
		}
		w.turnPage()
	}
	w.last = lsn
	return lsn
}

// turnPage goes to the next page.
func (w *LogWriter) turnPage() {
	if w.at%makePage != 0 {
		w.at += makePage - w.at%makePage
	}
	if w.at >= w.r.size {
		w.at = w.r.first()
		w.turn++
	}
	w.at += w.r.data
	clear(w.page())
	w.page()
}

// page is the bytes of the page that is written to, with its head.
func (w *LogWriter) page() []byte {
	from := (w.at - 1) / makePage * makePage
	p := w.b[from:][:makePage]
	if string(p[:4]) != logPageMagic {
		clear(p)
		le := binary.LittleEndian
		copy(p, logPageMagic)
		le.PutUint16(p[recUSAOffset:], makeUSA)
		le.PutUint16(p[recUSACount:], makePage/fixupStride+1)
		le.PutUint16(p[20:], 1) // one page of one
		le.PutUint16(p[22:], 1)
		if w.r.major >= 2 {
			le.PutUint32(p[pageFileOff:], uint32(from))
		}
	}
	return p
}

// Logged is what an NTFS client logs: an operation to do again and one to take back, on clusters from VCN on of an open
// attribute. Record and Attr are where in them the structure and the change begin, Block in units of 512 bytes.
type Logged struct {
	Redo, Undo          uint16
	RedoData, UndoData  []byte
	Target              uint16
	Record, Attr, Block uint16
	VCN                 uint64
	LCNs                []uint64
}

// Bytes are the record's.
func (o Logged) Bytes() []byte {
	le := binary.LittleEndian
	n := max(1, len(o.LCNs))
	b := make([]byte, opLCNs+8*n)
	for i, lcn := range o.LCNs {
		le.PutUint64(b[opLCNs+8*i:], lcn)
	}
	for i, x := range []uint16{o.Redo, o.Undo, 0, uint16(len(o.RedoData)), 0, uint16(len(o.UndoData)), o.Target,
		uint16(len(o.LCNs)), o.Record, o.Attr, o.Block} {
		le.PutUint16(b[2*i:], x)
	}
	le.PutUint64(b[opVCN:], o.VCN)
	for _, p := range []struct {
		at   int
		data []byte
	}{{opRedoAt, o.RedoData}, {opUndoAt, o.UndoData}} {
		le.PutUint16(b[p.at:], uint16(len(b)))
		b = append(b, p.data...)
		b = append(b, make([]byte, -len(b)&7)...)
	}
	return b
}

// RestartRecord is a restart record without tables, as a client logs that has nothing open.
func RestartRecord() []byte { return make([]byte, rsLen+8) }

// Work logs a restart record, and after it n changes of the bitmap: clusters that are taken, from first on.
func (w *LogWriter) Work(first uint32, n int) {
	le := binary.LittleEndian
	w.Restart = w.Record(lrRestart, RestartRecord(), 0, 0)
	w.Oldest = w.Restart
	for i := range uint32(n) {
		b := le.AppendUint32(le.AppendUint32(nil, first+i), 1)
		w.Record(lrClient, Logged{Redo: opSetBits, Undo: opClearBits, RedoData: b, UndoData: b}.Bytes(), tableHead, 0)
	}
}

// Bytes are those of the log: closed or, as it is while it is in use, open.
func (w *LogWriter) Bytes(closed bool) []byte {
	out := append([]byte{}, w.b...)
	if w.Copies {
		last := (w.at - 1) / makePage * makePage
		for i, at := range []int64{last, last - makePage} {
			if at < w.r.first() {
				continue
			}
			p := out[w.r.copies()+int64(i)*makePage:][:makePage]
			copy(p, out[at:at+makePage])
			if w.r.major < 2 {
				binary.LittleEndian.PutUint64(p[pageLSN:], uint64(at))
			}
			fixUp(p, makeUSA, usn)
		}
	}
	for at := w.r.first(); at < w.r.size; at += makePage {
		if p := out[at:][:makePage]; string(p[:4]) == logPageMagic {
			fixUp(p, makeUSA, usn)
		}
	}
	le := binary.LittleEndian
	for i := range int64(restartPages) {
		p := out[i*makePage:][:makePage]
		clear(p)
		copy(p, restartMagic)
		le.PutUint16(p[recUSAOffset:], 30)
		le.PutUint16(p[recUSACount:], makePage/fixupStride+1)
		le.PutUint32(p[restartSystemPage:], makePage)
		le.PutUint32(p[restartLogPage:], makePage)
		le.PutUint16(p[restartArea:], 48)
		le.PutUint16(p[restartMajor-2:], uint16(w.r.minor))
		le.PutUint16(p[restartMajor:], uint16(w.r.major))
		a := p[48:]
		le.PutUint64(a[areaLSN:], w.last)
		le.PutUint16(a[areaClients:], 1)
		le.PutUint16(a[areaInUse-2:], noClient)
		if closed {
			le.PutUint16(a[areaInUse-2:], 0)
			le.PutUint16(a[areaInUse:], noClient)
			le.PutUint16(a[areaFlags:], areaClean)
		}
		le.PutUint32(a[areaSeqBits:], uint32(64-w.r.bits))
		le.PutUint16(a[20:], 64+clientLen)
		le.PutUint16(a[areaClientsAt:], 64)
		le.PutUint64(a[areaSize:], uint64(w.r.size))
		le.PutUint16(a[areaRecordHead:], uint16(w.r.head))
		le.PutUint16(a[areaPageData:], uint16(w.r.data))
		c := a[64:]
		le.PutUint64(c[clientOldest:], w.Oldest)
		le.PutUint64(c[clientRestart:], w.Restart)
		le.PutUint16(c[16:], noClient)
		le.PutUint16(c[18:], noClient)
		le.PutUint32(c[28:], 8)
		for j, u := range "NTFS" {
			le.PutUint16(c[32+2*j:], uint16(u))
		}
		fixUp(p, 30, usn)
	}
	return out
}

// SleepingHead is the first page of a hibernation file that a system wakes up from, for a fast start or with everything
// that was open, put to sleep at a time.
func SleepingHead(since time.Time, fast bool) []byte {
	le := binary.LittleEndian
	b := make([]byte, hiberPage)
	copy(b, "HIBR")
	le.PutUint64(b[hiberSelf64:], 0x1A2B)
	le.PutUint32(b[hiberPageSize64:], hiberPage)
	le.PutUint64(b[hiberTime64:], uint64(since.UnixNano()/100+epoch))
	at := hiberSearchFrom + 0x204 // the count of the list
	le.PutUint32(b[at:], 2)
	le.PutUint64(b[at+4:], 0x9000)
	le.PutUint64(b[at+12:], 0x9001)
	end := b[at+4+8*hiberLogPages:]
	le.PutUint32(end[hiberCheck:], 0xC0FFEE)
	le.PutUint32(end[hiberContext:], 12)
	if fast {
		end[hiberFast] = 1
	}
	le.PutUint64(end[hiberHighest:], 0x23F000)
	return b
}

// PutToSleep gives the patches that make a volume look as a system leaves it that sleeps: the head of its hibernation
// file, which must be there, and an open log of so many bytes that names clusters.
func PutToSleep(v fsys.Volume, since time.Time, fast bool, log *LogWriter) ([]disk.Patch, error) {
	n, ok := v.(*Volume)
	if !ok {
		return nil, fmt.Errorf("%s isn't NTFS", v.Info().Kind)
	}
	hiber, _, found, err := n.rootFile(hiberName)
	if err != nil || !found || len(hiber.runs) == 0 {
		return nil, fmt.Errorf("it has no %s (%w)", hiberName, err)
	}
	rec, err := n.readRecord(recLog)
	if err != nil {
		return nil, err
	}
	s, err := n.stream(rec, attrData, "")
	if err != nil {
		return nil, err
	}
	b := log.Bytes(false)
	if len(s.runs) == 0 || s.runs[0].n*n.cluster < int64(len(b)) {
		return nil, fmt.Errorf("its log has no %d bytes in one place", len(b))
	}
	return []disk.Patch{{Off: hiber.runs[0].lcn * n.cluster, Data: SleepingHead(since, fast), Why: "it sleeps"},
		{Off: s.runs[0].lcn * n.cluster, Data: b, Why: "its log is open"}}, nil
}
