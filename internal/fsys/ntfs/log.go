package ntfs

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"

	"twinshelf/internal/fsys"
)

// maxLogPages bounds how many pages a log has.
const maxLogPages = 1 << 20

// logState is what the restart pages of the log say.
type logState struct {
	emptied bool // it was filled with ones: nothing is in it
	valid   bool // at least one restart page can be read
	restart restart
}

// open says whether something may have to be replayed.
func (l logState) open() bool { return !l.closed() }

// closed says whether there is nothing to replay.
func (l logState) closed() bool { return l.emptied || l.valid && l.restart.closed }

func (l logState) words() string {
	switch {
	case l.emptied:
		return "the log was emptied"
	case !l.valid:
		return "no restart page of the log can be read"
	case l.restart.closed:
		return fmt.Sprintf("the log (version %d.%d) was closed", l.restart.major, l.restart.minor)
	}
	return fmt.Sprintf("the log (version %d.%d) is open", l.restart.major, l.restart.minor)
}

// restart is a restart page of the log.
type restart struct {
	lsn          uint64 // of the last record when it was written
	major, minor int
	page         int64 // bytes of a page with records
	system       int64 // bytes of a restart page
	size         int64 // bytes of the log that are used
	bits         uint  // of an LSN, those that tell a place
	head, data   int64 // bytes of a record's header; where records begin in a page
	closed       bool
	// oldest and last are LSNs: of the oldest record that is still needed, and of the last restart record.
	oldest, last uint64
}

// first is where the pages with records begin, in bytes of the log; before them lie copies of some.
func (r *restart) first() int64 {
	n := int64(copiesOne)
	if r.major >= 2 {
		n = copiesTwo
	}
	return r.copies() + n*r.page
}

// copies is where copies of pages begin.
func (r *restart) copies() int64 { return restartPages * r.page }

// place is where a record lies, in bytes of the log.
func (r *restart) place(lsn uint64) int64 { return int64(lsn & (1<<r.bits - 1) << 3) }

// parseRestart reads a restart page ("RESTART_HDR", "RESTART_AREA", "CLIENT_REC"); b is the whole page, and is changed.
func parseRestart(b []byte, at int64) (*restart, error) {
	le := binary.LittleEndian
	if err := unfix(b, restartMagic, at); err != nil {
		return nil, err
	}
	wrong := func(what string) error { return fsys.Contradiction(at, "a restart page of the log has %s", what) }
	r := &restart{system: int64(le.Uint32(b[restartSystemPage:])), page: int64(le.Uint32(b[restartLogPage:])),
		minor: int(int16(le.Uint16(b[restartMajor-2:]))), major: int(int16(le.Uint16(b[restartMajor:])))}
	if !pageSize(r.page) || r.system != int64(len(b)) {
		return nil, wrong("pages of another size")
	}
	if r.major < 0 || r.major > 2 {
		return nil, wrong(fmt.Sprintf("version %d.%d", r.major, r.minor))
	}
	off := int(le.Uint16(b[restartArea:]))
	if off < restartMajor+2 || off+areaLen > len(b) {
		return nil, wrong("no area")
	}
	a := b[off:]
	r.lsn, r.size = le.Uint64(a[areaLSN:]), int64(le.Uint64(a[areaSize:]))
	r.head, r.data = int64(le.Uint16(a[areaRecordHead:])), int64(le.Uint16(a[areaPageData:]))
	user := le.Uint16(a[areaInUse:])
	r.closed = user == noClient || le.Uint16(a[areaFlags:])&areaClean != 0
	if r.closed {
		return r, nil // the rest is of no use
	}
	turns := le.Uint32(a[areaSeqBits:])
	if turns < 24 || turns > 55 || r.size < minLogPages*r.page || r.size > 1<<(64-turns+3) {
		return nil, wrong("a size that doesn't fit its sequence numbers")
	}
	r.bits = uint(64 - turns)
	if r.head < lrHeadMin || r.data < pageHeadMin || r.head%8 != 0 || r.data%8 != 0 || r.head+r.data > r.page {
		return nil, wrong("headers of impossible sizes")
	}
	client := int(le.Uint16(a[areaClientsAt:])) + int(user)*clientLen
	if le.Uint16(a[areaClients:]) > maxClients || user >= le.Uint16(a[areaClients:]) || client+clientLSNs > len(a) {
		return nil, wrong("no such client")
	}
	r.oldest, r.last = le.Uint64(a[client+clientOldest:]), le.Uint64(a[client+clientRestart:])
	return r, nil
}

// pageSize says whether n can be the size of a page.
func pageSize(n int64) bool { return n >= minPage && n <= maxPage && n&(n-1) == 0 }

// logState reads the restart pages. Of the two, which are written in turns, the one with the larger LSN is true.
func (v *records) logState() (logState, error) {
	var l logState
	s, err := v.logStream()
	if err != nil {
		return l, err
	}
	head := make([]byte, restartPages*restartLen)
	if n := min(int64(len(head)), s.Size()); n < int64(len(head)) {
		return l, fsys.Contradiction(0, "$LogFile has %d bytes", n)
	}
	if _, err := s.ReadAt(head, 0); err != nil {
		return l, err
	}
	if l.emptied = bytes.Count(head, []byte{0xFF}) == len(head); l.emptied {
		return l, nil
	}
	// The second page lies after the first, whose size it has itself.
	for _, at := range restartPlaces() {
		r, err := readRestart(s, at)
		if err == nil && (!l.valid || r.lsn > l.restart.lsn) {
			l.valid, l.restart = true, *r
		}
	}
	return l, nil
}

// restartPlaces are the bytes of the log at which restart pages may lie.
func restartPlaces() []int64 {
	out := []int64{0}
	for at := int64(minPage); at <= maxPage; at *= 2 {
		out = append(out, at)
	}
	return out
}

// readRestart reads the restart page at a byte of the log.
func readRestart(s *io.SectionReader, at int64) (*restart, error) {
	head := make([]byte, minPage)
	if _, err := s.ReadAt(head, at); err != nil {
		return nil, err
	}
	n := int64(binary.LittleEndian.Uint32(head[restartSystemPage:]))
	if string(head[:4]) != restartMagic || !pageSize(n) || at > 0 && at != n {
		return nil, fsys.Contradiction(at, "no restart page of the log")
	}
	b := make([]byte, n)
	if _, err := s.ReadAt(b, at); err != nil {
		return nil, err
	}
	return parseRestart(b, at)
}

// logStream reads the log.
func (v *records) logStream() (*io.SectionReader, error) {
	rec, err := v.readRecord(recLog)
	if err != nil {
		return nil, err
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		return nil, err
	}
	if n := len(s.runs); n == 0 || s.size < 0 || s.size > (s.runs[n-1].vcn+s.runs[n-1].n)*v.cluster {
		return nil, fsys.Contradiction(rec.at, "$LogFile claims %d bytes and doesn't have clusters for them", s.size)
	}
	return io.NewSectionReader(&streamReader{v, s.runs}, 0, s.size), nil
}

// streamReader reads the runs of a stream.
type streamReader struct {
	v    *records
	runs []run
}

func (r *streamReader) ReadAt(p []byte, off int64) (int, error) {
	if _, err := r.v.readRuns(r.runs, p, off); err != nil {
		return 0, err
	}
	return len(p), nil
}
