package ntfs

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"twinshelf/internal/fsys"
)

// ErrLogBroken means that the log has gaps, so what it names isn't all that it named.
var ErrLogBroken = errors.New("the log isn't whole")

// logFile is an open log, and which of its pages can be read.
type logFile struct {
	s *io.SectionReader
	r restart
	// pages are the pages with records, by number from the log's start; those before the first one are empty.
	pages []logPage
	start uint64 // LSN of the oldest record that is needed
	end   uint64 // LSN of the last record
}

// logPage is a page with records, or the newer copy of it.
type logPage struct {
	at      int64 // byte of the log where it can be read; 0 where it can't
	lsn     uint64
	lastEnd uint64
}

// openLog looks at the pages of an open log.
func (v *records) openLog(ctx context.Context, r restart) (*logFile, error) {
	s, err := v.logStream()
	if err != nil {
		return nil, err
	}
	l := &logFile{s: s, r: r, start: r.oldest}
	n := min(r.size, s.Size()) / r.page
	if r.size > s.Size() || n < minLogPages || n > maxLogPages {
		return nil, fsys.Contradiction(0, "the log claims %d bytes and has %d", r.size, s.Size())
	}
	if l.start == 0 || r.last != 0 && r.last < l.start {
		l.start = r.last
	}
	if l.start == 0 {
		return nil, fmt.Errorf("%w: it has no restart record", ErrLogBroken)
	}
	l.pages = make([]logPage, n)
	for at := r.first(); at < n*r.page; at += r.page {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		l.pages[at/r.page], _ = l.page(at)
	}
	for at := r.copies(); at < r.first(); at += r.page {
		l.copied(at)
	}
	return l, l.whole()
}

// page reads what a page says of itself. One that can't be read is an empty one.
func (l *logFile) page(at int64) (logPage, []byte) {
	b := make([]byte, l.r.page)
	if _, err := l.s.ReadAt(b, at); err != nil || unfix(b, logPageMagic, at) != nil {
		return logPage{}, nil
	}
	le := binary.LittleEndian
	return logPage{at: at, lsn: le.Uint64(b[pageLSN:]), lastEnd: le.Uint64(b[pageLastEnd:])}, b
}

// copied puts the copy of a page in its place where that is older or can't be read.
func (l *logFile) copied(at int64) {
	p, b := l.page(at)
	if b == nil {
		return
	}
	to := int64(binary.LittleEndian.Uint32(b[pageFileOff:]))
	if l.r.major < 2 {
		to, p.lsn = int64(p.lsn), p.lastEnd
	}
	if to < l.r.first() || to%l.r.page != 0 || to/l.r.page >= int64(len(l.pages)) {
		return
	}
	if old := &l.pages[to/l.r.page]; old.at == 0 || old.lastEnd < p.lastEnd {
		*old = p
	}
}

// next is the number of the page after one.
func (l *logFile) next(i int64) int64 {
	if i++; i >= int64(len(l.pages)) {
		i = l.r.first() / l.r.page
	}
	return i
}

// whole goes through the pages from the oldest record that is needed: each must be there, and the last one must be
// reached. Pages are written in this order, so the first one that is older is the end.
func (l *logFile) whole() error {
	for _, p := range l.pages {
		if p.at > 0 {
			l.end = max(l.end, p.lsn, p.lastEnd)
		}
	}
	if l.end < l.r.lsn || l.end < l.start {
		return fmt.Errorf("%w: its last record (%d) is missing, the last one that can be read is %d", ErrLogBroken,
			l.r.lsn, l.end)
	}
	i := l.r.place(l.start) / l.r.page
	if i >= int64(len(l.pages)) || i < l.r.first()/l.r.page {
		return fmt.Errorf("%w: its oldest record (%d) lies outside of it", ErrLogBroken, l.start)
	}
	reached := uint64(0)
	for range l.pages {
		p := l.pages[i]
		if p.at == 0 || p.lsn < max(l.start, reached) {
			break
		}
		reached = max(reached, p.lsn, p.lastEnd)
		i = l.next(i)
	}
	if reached < l.end {
		return fmt.Errorf("%w: after record %d some are missing, up to %d", ErrLogBroken, reached, l.end)
	}
	return nil
}

// maxLogged bounds what a client logs in one record, in bytes.
const maxLogged = 4 << 20

// logRecord is a record of the log with what its client logged.
type logRecord struct {
	lsn  uint64
	kind uint32
	data []byte
}

// each gives the records from the oldest that is needed on, page by page. A record tells its own place, so it is known
// by that wherever it begins in its page.
func (l *logFile) each(ctx context.Context, do func(logRecord) error) error {
	for i, p := range l.pages {
		if err := ctx.Err(); err != nil {
			return err
		}
		if p.at == 0 || max(p.lsn, p.lastEnd) < l.start {
			continue
		}
		_, b := l.page(p.at)
		for off := l.r.data; b != nil && off+l.r.head <= l.r.page; off += 8 {
			rec, ok, err := l.record(b, int64(i), off)
			if err == nil && ok {
				err = do(rec)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// record reads the record that begins at a byte of page i, whose bytes are b; ok is false where none does.
func (l *logFile) record(b []byte, i, off int64) (rec logRecord, ok bool, err error) {
	le := binary.LittleEndian
	h := b[off:]
	rec = logRecord{lsn: le.Uint64(h[lrLSN:]), kind: le.Uint32(h[lrType:])}
	if rec.lsn < l.start || rec.lsn > l.end || l.r.place(rec.lsn) != i*l.r.page+off ||
		rec.kind != lrClient && rec.kind != lrRestart {
		return rec, false, nil
	}
	n := int64(le.Uint32(h[lrLength:]))
	if n < 0 || n > maxLogged {
		return rec, false, fmt.Errorf("%w: record %d claims %d bytes", ErrLogBroken, rec.lsn, n)
	}
	rec.data = make([]byte, 0, n)
	for from := off + l.r.head; ; from = l.r.data {
		rec.data = append(rec.data, b[from:min(l.r.page, from+n-int64(len(rec.data)))]...)
		if int64(len(rec.data)) == n {
			return rec, true, nil
		}
		i = l.next(i)
		if p := l.pages[i]; p.at > 0 && p.lsn >= rec.lsn {
			_, b = l.page(p.at)
		} else {
			b = nil
		}
		if b == nil {
			// It was being written when the power went.
			return rec, false, nil
		}
	}
}
