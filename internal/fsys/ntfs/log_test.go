package ntfs

import (
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// plainVolume is an NTFS volume of the system's own making, in memory.
func plainVolume(t testing.TB, size int64, args ...string) *disk.Memory {
	t.Helper()
	testkit.Need(t, "mkntfs")
	img := testkit.Image(t, "n.img", size)
	testkit.Do(t, "mkntfs", append(append([]string{"-q", "-F", "-s", "512"}, args...), img)...)
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	return &disk.Memory{Bytes: b, Sector: 512}
}

func probed(t testing.TB, m *disk.Memory) *Volume {
	t.Helper()
	v, err := Probe(m, int64(len(m.Bytes)), 512)
	if err != nil || v == nil {
		t.Fatalf("%v %v", v, err)
	}
	return v.(*Volume)
}

// lay writes bytes into a stream of a system file.
func lay(t testing.TB, m *disk.Memory, v *Volume, record int64, off int64, b []byte) {
	t.Helper()
	rec, err := v.readRecord(record)
	if err != nil {
		t.Fatal(err)
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		t.Fatal(err)
	}
	for len(b) > 0 {
		i := firstRun(s.runs, off/v.cluster)
		r := s.runs[i]
		within := off - r.vcn*v.cluster
		n := copy(m.Bytes[r.lcn*v.cluster+within:(r.lcn+r.n)*v.cluster], b)
		b, off = b[n:], off+int64(n)
	}
}

func logSize(t testing.TB, v *Volume) int64 {
	t.Helper()
	s, err := v.logStream()
	if err != nil {
		t.Fatal(err)
	}
	return s.Size() &^ (makePage - 1)
}

// aLog is an open log that names clusters in as many operations.
func aLog(t testing.TB, size int64, major int, clusters ...uint32) *LogWriter {
	t.Helper()
	w, err := NewLog(size, major, 7)
	if err != nil {
		t.Fatal(err)
	}
	w.Restart = w.Record(lrRestart, RestartRecord(), 0, 0)
	w.Oldest = w.Restart
	for _, c := range clusters {
		w.Record(lrClient, Logged{Redo: opSetBits, Undo: opClearBits, RedoData: rangeOf(c, 3), UndoData: rangeOf(c, 3),
			LCNs: []uint64{5}}.Bytes(), 24, 0)
	}
	return w
}

func rangeOf(first, n uint32) []byte {
	b := binary.LittleEndian.AppendUint32(nil, first)
	return binary.LittleEndian.AppendUint32(b, n)
}

// TestNewerRestartPageDecides: the log's two restart pages are written in turns; only the later one tells whether it
// is in use.
func TestNewerRestartPageDecides(t *testing.T) {
	m := plainVolume(t, 32<<20)
	v := probed(t, m)
	page := func(n int64, lsn uint64, closed bool) {
		w := aLog(t, logSize(t, v), 1)
		w.last = lsn
		lay(t, m, v, recLog, n*makePage, w.Bytes(closed)[n*makePage:][:makePage])
	}
	for _, c := range []struct {
		name  string
		first uint64
		want  bool
	}{{"page 0 is the newer one and closed", 300, true}, {"page 1 is the newer one and in use", 100, false}} {
		page(0, c.first, true)
		page(1, 200, false)
		got, err := v.logState()
		if err != nil || got.closed() != c.want {
			t.Errorf("%s: %+v (%v), want closed=%v", c.name, got, err, c.want)
		}
	}
	lay(t, m, v, recLog, 0, bytes.Repeat([]byte{7}, 2*makePage))
	if got, err := v.logState(); err != nil || got.closed() || got.valid {
		t.Errorf("with garbage for restart pages: %+v (%v)", got, err)
	}
}

// TestLogNames: what is logged since the oldest record that is needed is named, through page ends, copies of pages and
// the end of the file, and nothing that was logged before.
func TestLogNames(t *testing.T) {
	m := plainVolume(t, 64<<20)
	v := probed(t, m)
	size := logSize(t, v)
	for _, major := range []int{1, 2} {
		w := aLog(t, size, major, 9000)
		before := w.last
		for w.turn < 9 { // twice through the file
			before = w.Record(lrClient, Logged{Redo: opSetBits, RedoData: rangeOf(8000, 1)}.Bytes(), 24, 0)
		}
		w.Oldest = w.Record(lrRestart, RestartRecord(), 0, 0)
		w.Restart = w.Oldest
		runs := encodeRuns([]run{{lcn: 7000, n: 11}, {vcn: 11, lcn: 7500, n: 2}})
		attr := make([]byte, attrHeaderLong, 128)
		le := binary.LittleEndian
		le.PutUint32(attr, attrData)
		attr[headNonResident] = 1
		le.PutUint16(attr[nonRuns:], attrHeaderLong)
		attr = append(attr, runs...)
		attr = append(attr, make([]byte, -len(attr)&7)...)
		le.PutUint32(attr[headLength:], uint32(len(attr)))
		w.Record(lrClient, Logged{Redo: opCreateAttr, Undo: opDeleteAttr, RedoData: attr}.Bytes(), 24, 0)
		w.Record(lrClient, Logged{Redo: opDeleteClusters, RedoData: make([]byte, 3*makePage)}.Bytes(), 24, 0)
		w.Record(lrClient, Logged{Redo: opSetBits, RedoData: rangeOf(6000, 4), LCNs: []uint64{5001, 1 << 40},
			Record: 0x10}.Bytes(), 24, 0)
		w.Record(lrClient, Logged{Redo: 0, Undo: opClearBits, UndoData: rangeOf(4000, 2)}.Bytes(), 24, 0)
		lay(t, m, v, recLog, 0, w.Bytes(false))
		st, err := v.logState()
		if err != nil || !st.valid || st.restart.major != major {
			t.Fatalf("%+v %v", st, err)
		}
		got, since, _, err := namedByLog(t.Context(), v, st.restart)
		if err != nil || since != w.Oldest || since <= before {
			t.Fatalf("version %d: since %d of %d, %d before (%v)", major, since, w.Oldest, before, err)
		}
		var want span.Set
		for _, x := range [][2]int64{{0, 1}, {7000, 11}, {7500, 2}, {6000 + 0x80, 4}, {5001, 1}, {4000, 2}} {
			if x[0] > 0 {
				want.Add(v.clusterSpan(x[0], x[1]))
			}
		}
		if !got.Subtract(v.clusterSet(0, 1)).Equal(want) {
			t.Errorf("version %d: %v, want %v", major, got, want)
		}
	}
}

// clusterSet is a set of clusters as bytes.
func (v *Volume) clusterSet(lcn, n int64) span.Set { return span.Of(v.clusterSpan(lcn, n)) }

// TestBrokenLogs: where pages are missing that were needed the log isn't believed; a page that was being written when
// the power went is no loss where its copy is there.
func TestBrokenLogs(t *testing.T) {
	m := plainVolume(t, 64<<20)
	v := probed(t, m)
	size := logSize(t, v)
	many := make([]uint32, 200)
	for i := range many {
		many[i] = uint32(3000 + 10*i)
	}
	w := aLog(t, size, 2, many...)
	whole := w.Bytes(false)
	first, last := w.r.first(), (w.at-1)/makePage*makePage
	spoil := func(at int64) func([]byte) { return func(b []byte) { b[at+100] ^= 1; b[at+510] ^= 1 } }
	for _, c := range []struct {
		name   string
		change func(b []byte)
		broken bool
	}{
		{"as it was written", func([]byte) {}, false},
		{"a page in the middle", spoil(first + 2*makePage), true},
		{"the page with the oldest record", spoil(first), true},
		{"the last page, of which there is a copy", func(b []byte) {
			copy(b[2*makePage:], b[last:last+makePage])
			spoil(last)(b)
		}, false},
		{"the last page", spoil(last), true},
		{"a page of an earlier turn instead", func(b []byte) {
			p := b[first+makePage:][:makePage]
			binary.LittleEndian.PutUint64(p[pageLSN:], 1)
			binary.LittleEndian.PutUint64(p[pageLastEnd:], 1)
		}, true},
		{"no oldest record", func(b []byte) {
			for i := range int64(2) {
				p := b[i*makePage:][:makePage]
				binary.LittleEndian.PutUint64(p[48+64+clientOldest:], w.Oldest+1)
				binary.LittleEndian.PutUint64(p[48+64+clientRestart:], w.Oldest+1)
			}
		}, true},
	} {
		b := bytes.Clone(whole)
		c.change(b)
		lay(t, m, v, recLog, 0, b)
		st, err := v.logState()
		if err != nil || !st.valid {
			t.Fatalf("%s: %+v %v", c.name, st, err)
		}
		got, _, _, err := namedByLog(t.Context(), v, st.restart)
		if errors.Is(err, ErrLogBroken) != c.broken || !c.broken && err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if !c.broken && !got.Covers(v.clusterSpan(int64(many[len(many)-1]), 3)) {
			t.Errorf("%s: the last record's clusters aren't named", c.name)
		}
	}
	w.Record(lrClient, Logged{Redo: opLast + 1}.Bytes(), 24, 0)
	lay(t, m, v, recLog, 0, w.Bytes(false))
	if st, _ := v.logState(); st.valid {
		if _, _, _, err := namedByLog(t.Context(), v, st.restart); !errors.Is(err, ErrLogBroken) {
			t.Errorf("an operation that nobody knows: %v", err)
		}
	}
}

// TestHiberHeads: what the head of a hibernation file says, and what it can't be made to say.
func TestHiberHeads(t *testing.T) {
	since := time.Date(2026, 11, 20, 18, 2, 0, 0, time.UTC)
	fast, full := SleepingHead(since, true), SleepingHead(since, false)
	woken := bytes.Clone(fast)
	copy(woken, "wake")
	two := bytes.Clone(fast)
	copy(two[0x500-4:], fast[hiberSearchFrom+0x204:][:0x150]) // the same once more: it can't be told which is true
	old := make([]byte, hiberPage)
	copy(old, "hibr")
	binary.LittleEndian.PutUint32(old[hiberPageSize32:], hiberPage)
	binary.LittleEndian.PutUint64(old[hiberTime32:], uint64(since.UnixNano()/100+epoch))
	for _, c := range []struct {
		name       string
		b          []byte
		want       image
		fast, told bool
		since      bool
	}{
		{"fast start", fast, imageWaiting, true, true, true},
		{"hibernated", full, imageWaiting, false, true, true},
		{"woken up from", woken, imageSpent, false, false, false},
		{"two marks", two, imageWaiting, false, false, true},
		{"32 bits", old, imageWaiting, false, false, true},
		{"begun", append([]byte("RSTR"), make([]byte, 100)...), imageBegun, false, false, false},
		{"elsewhere", append([]byte("link"), make([]byte, 100)...), imageElsewhere, false, false, false},
		{"zeros", make([]byte, hiberPage), imageSpent, false, false, false},
		{"garbage", bytes.Repeat([]byte("weigh"), 900), imageUnknown, false, false, false},
		{"nothing", nil, imageSpent, false, false, false},
		{"a few bytes", []byte("HIBR"), imageWaiting, false, false, false},
	} {
		h := parseHiber(c.b)
		if h.image != c.want || h.fast != c.fast || h.told != c.told || h.since.Equal(since) != c.since {
			t.Errorf("%s: %+v", c.name, h)
		}
	}
}

// FuzzLog: whatever a log holds, reading it ends, with names inside the volume or an error.
func FuzzLog(f *testing.F) {
	m := plainVolume(f, 3<<20)
	v := probed(f, m)
	size := logSize(f, v)
	for _, major := range []int{1, 2} {
		w := aLog(f, size, major, 100, 200, 300)
		b := w.Bytes(false)
		f.Add(b[:2*makePage], b[w.r.first():][:2*makePage], uint16(major))
	}
	f.Fuzz(func(t *testing.T, restart, page []byte, at uint16) {
		c := &disk.Memory{Bytes: bytes.Clone(m.Bytes), Sector: 512}
		x := probed(t, c)
		w := aLog(t, size, 1+int(at)%2, 100)
		b := w.Bytes(false)
		copy(b, restart)
		copy(b[w.r.first():size], page)
		for off := w.r.first(); int(at)&2 == 0 && off < w.r.first()+2*makePage; off += makePage {
			if p := b[off:][:makePage]; unfix(bytes.Clone(p), logPageMagic, 0) != nil {
				copy(p, logPageMagic)
				binary.LittleEndian.PutUint16(p[recUSAOffset:], makeUSA)
				binary.LittleEndian.PutUint16(p[recUSACount:], makePage/fixupStride+1)
				fixUp(p, makeUSA, usn)
			}
		}
		lay(t, c, x, recLog, 0, b)
		v, err := Probe(c, c.Size(), 512)
		if err != nil || v == nil {
			return
		}
		cut, err := v.(fsys.Interrupted).Cut(t.Context(), false)
		if err != nil {
			return
		}
		last := int64(0)
		for sp, err := range cut.Used {
			if err != nil {
				break
			}
			if sp.Start < last || sp.End > v.Info().Size || sp.Empty() {
				t.Fatalf("%v after %d in a volume of %d bytes", sp, last, v.Info().Size)
			}
			last = sp.End
		}
	})
}

// FuzzHiberHead: whatever the head of a hibernation file is, it is read, and what looks like nothing known is never
// called spent.
func FuzzHiberHead(f *testing.F) {
	f.Add(SleepingHead(time.Unix(1_700_000_000, 0), true))
	f.Add([]byte("wake"))
	f.Fuzz(func(t *testing.T, b []byte) {
		h := parseHiber(b)
		zero := len(b) < 4 || bytes.Count(b[:min(len(b), hiberPage)], []byte{0}) == min(len(b), hiberPage)
		if h.image == imageSpent && !zero && !strings.EqualFold(string(b[:4]), "wake") {
			t.Fatalf("%q counts as spent", b[:4])
		}
	})
}

// aTable is a table as it is dumped into the log, of entries in use.
func aTable(size int, entries ...[]byte) []byte {
	le := binary.LittleEndian
	b := make([]byte, tableHead)
	le.PutUint16(b[tableEntryLen:], uint16(size))
	le.PutUint16(b[tableEntries:], uint16(len(entries)))
	for _, e := range entries {
		e = append(e, make([]byte, size-len(e))...)
		le.PutUint32(e, tableAllocated)
		b = append(b, e...)
	}
	return b
}

// TestTablesSendBack: the tables of the last restart record may need older records than the client says; then those
// count too. Pages that weren't written are named, in both layouts of their table.
func TestTablesSendBack(t *testing.T) {
	m := plainVolume(t, 64<<20)
	v := probed(t, m)
	size := logSize(t, v)
	le := binary.LittleEndian
	for _, c := range []struct {
		name         string
		major        uint32 // of the tables
		oldest, lcns int
		transaction  bool
	}{
		{"dirty pages", 1, dirtyOldest, dirtyLCNs, false},
		{"dirty pages of version 0", 0, dirtyOldest32, dirtyLCNs32, false},
		{"a transaction", 1, dirtyOldest, dirtyLCNs, true},
	} {
		w, err := NewLog(size, 2, 7)
		if err != nil {
			t.Fatal(err)
		}
		w.Record(lrClient, Logged{Redo: opSetBits, RedoData: rangeOf(4000, 1)}.Bytes(), 24, 0)
		old := w.Record(lrClient, Logged{Redo: opSetBits, RedoData: rangeOf(5000, 2)}.Bytes(), 24, 0)
		page := make([]byte, 64)
		le.PutUint32(page[dirtyClusters:], 2)
		le.PutUint64(page[c.lcns:], 6000)
		le.PutUint64(page[c.lcns+8:], 6500)
		action := make([]byte, 40)
		if c.transaction {
			le.PutUint64(action[actionFirstLSN:], old)
		} else {
			le.PutUint64(page[c.oldest:], old)
		}
		rs := RestartRecord()
		le.PutUint32(rs[rsMajor:], c.major)
		pages := w.Record(lrClient, Logged{Redo: opDirtyPages, RedoData: aTable(64, page)}.Bytes(), 0, 0)
		le.PutUint64(rs[rsDirtyLSN:], pages)
		le.PutUint64(rs[rsActionsLSN:], w.Record(lrClient,
			Logged{Redo: opTransactions, RedoData: aTable(40, action)}.Bytes(), 0, 0))
		w.Oldest = pages
		w.Restart = w.Record(lrRestart, rs, 0, 0)
		lay(t, m, v, recLog, 0, w.Bytes(false))
		st, err := v.logState()
		if err != nil || !st.valid {
			t.Fatalf("%s: %+v %v", c.name, st, err)
		}
		got, since, _, err := namedByLog(t.Context(), v, st.restart)
		if err != nil || since != old {
			t.Fatalf("%s: since %d instead of %d (%v)", c.name, since, old, err)
		}
		for _, x := range [][2]int64{{5000, 2}, {6000, 1}, {6500, 1}} {
			if !got.Covers(v.clusterSpan(x[0], x[1])) {
				t.Errorf("%s: cluster %d isn't named", c.name, x[0])
			}
		}
		if got.Covers(v.clusterSpan(4000, 1)) {
			t.Errorf("%s: what is older than needed is named", c.name)
		}
		short, at := w.Bytes(false), w.r.place(w.Restart)
		page = short[at/makePage*makePage:][:makePage]
		if err := unfix(page, logPageMagic, 0); err != nil {
			t.Fatal(err)
		}
		le.PutUint32(short[at+lrLength:], 8)
		fixUp(page, makeUSA, usn)
		lay(t, m, v, recLog, 0, short)
		if _, _, _, err := namedByLog(t.Context(), v, st.restart); !errors.Is(err, ErrLogBroken) {
			t.Errorf("%s: a short restart record: %v", c.name, err)
		}
	}
}

// TestMappingsAreFollowed: a change of a run list, logged as the bytes that change, names the runs that come of it.
func TestMappingsAreFollowed(t *testing.T) {
	m, _ := sleeper(t, true)
	v := probed(t, m)
	where, rec := placeOf(t, v, "fares.csv")
	var at attribute
	for _, a := range rec.attributes() {
		if a.kind == attrData {
			at = a
		}
	}
	off := int(at.at - rec.at)
	runs := encodeRuns([]run{{lcn: where.lcn, n: where.n}, {vcn: where.n, lcn: 7777, n: 5}})
	number := rec.number
	w := aLog(t, 256<<10, 2)
	w.Record(lrClient, Logged{Redo: opMapping, RedoData: runs, Record: uint16(off), Attr: attrHeaderLong,
		VCN: uint64(number * v.record / v.cluster), Block: uint16(number * v.record % v.cluster / fixupStride)}.Bytes(),
		24, 0)
	lay(t, m, v, recLog, 0, w.Bytes(false))
	st, err := v.logState()
	if err != nil || !st.valid {
		t.Fatal(st, err)
	}
	got, _, changed, err := namedByLog(t.Context(), v, st.restart)
	if err != nil || !got.Covers(v.clusterSpan(7777, 5)) || !got.Covers(v.clusterSpan(where.lcn, where.n)) ||
		!changed[number] {
		t.Errorf("%v, changed %v (%v)", got, changed, err)
	}
	c, err := probed(t, m).Cut(t.Context(), false)
	if err != nil || !usedOf(t, c).Covers(v.clusterSpan(7777, 5)) || c.Named < 5*v.cluster {
		t.Errorf("%+v (%v)", c, err)
	}
}

// TestLogAsTheSystemReadsIt: the system's own tool for interrupted volumes finds the same operations in a log, on the
// same bits of the bitmap.
func TestLogAsTheSystemReadsIt(t *testing.T) {
	testkit.Need(t, "ntfsrecover")
	m := plainVolume(t, 32<<20)
	v := probed(t, m)
	w := aLog(t, logSize(t, v), 1)
	for i := range uint32(150) {
		redo, undo := uint16(opSetBits), uint16(opClearBits)
		if i%3 == 0 {
			redo, undo = undo, redo
		}
		b := rangeOf(3000+i*7%1000, 1+i%4)
		w.Record(lrClient, Logged{Redo: redo, Undo: undo, RedoData: b, UndoData: b, Target: tableHead,
			LCNs: []uint64{5}}.Bytes(), tableHead, 0)
	}
	w.Copies = true
	lay(t, m, v, recLog, 0, w.Bytes(false))
	img := testkit.Image(t, "n.img", 0)
	if err := os.WriteFile(img, m.Bytes, 0o600); err != nil {
		t.Fatal(err)
	}
	out, _ := testkit.Try("ntfsrecover", "-n", "-v", img) // it goes back as far as it can, but for the first page
	found := regexp.MustCompile(`first bit (\d+)\s+bit count (\d+)`).FindAllStringSubmatch(out, -1)
	var theirs span.Set
	for _, x := range found {
		first, err := strconv.ParseInt(x[1], 10, 64)
		n, failed := strconv.ParseInt(x[2], 10, 64)
		if err != nil || failed != nil {
			t.Fatal(x)
		}
		theirs.Add(v.clusterSpan(first, n))
	}
	st, err := v.logState()
	if err != nil {
		t.Fatal(err)
	}
	ours, _, _, err := namedByLog(t.Context(), v, st.restart)
	if lacks := theirs.Subtract(ours); err != nil || len(found) < 200 || !lacks.Empty() {
		t.Errorf("of %d operations there %v is lacking here (%v)\n%s", len(found), lacks, err, out[max(0,
			len(out)-500):])
	}
}
