package shelf

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"sort"
)

// The index is a set of segment files, each sorted by block name. It is derived:
// packs that no readable segment covers are looked at when the shelf is opened.
// docs/shelf-format.md, "Index".
const (
	buckets      = 4096
	indexEntry   = 48
	packIDLen    = 8
	maxSegments  = 8
	maxDirectory = 64 << 20
)

// segment finds blocks by name with one small read.
type segment struct {
	file  string
	r     io.ReaderAt
	close func() error
	packs []string
	ends  [buckets]uint32 // entries up to and with the bucket
	sums  [buckets]uint32
	base  int64 // where the entries begin
	count int
}

func bucketOf(n Name) int { return int(n[0])<<4 | int(n[1])>>4 }

// indexRecord is one entry of a segment.
type indexRecord struct {
	name Name
	place
}

// encodeSegment writes a segment; records must be sorted by name and without doubles.
func encodeSegment(records []indexRecord) []byte {
	var packs []string
	for _, r := range records {
		packs = append(packs, r.pack)
	}
	slices.Sort(packs)
	packs = slices.Compact(packs)
	le := binary.LittleEndian
	dir := le.AppendUint32(nil, uint32(len(packs)))
	for _, p := range packs {
		id, _ := hex.DecodeString(p)
		dir = append(dir, id...)
	}
	dir = le.AppendUint32(dir, uint32(len(records)))
	entries := make([]byte, 0, len(records)*indexEntry)
	done := 0
	for b := range buckets {
		from := len(entries)
		for ; done < len(records) && bucketOf(records[done].name) == b; done++ {
			r := records[done]
			ordinal, _ := slices.BinarySearch(packs, r.pack)
			entries = append(entries, r.name[:]...)
			entries = le.AppendUint32(entries, uint32(ordinal))
			entries = le.AppendUint32(entries, r.stored)
			entries = le.AppendUint64(entries, uint64(r.offset))
		}
		dir = le.AppendUint32(dir, uint32(done))
		dir = le.AppendUint32(dir, crc32.Checksum(entries[from:], castagnoli))
	}
	h := header{kind: kindIndex, length: int64(len(dir) + len(entries)), sum: NameOf(dir)}
	return slices.Concat(h.encode(), dir, entries)
}

// openSegment reads a segment's directory; its entries stay in the file.
func openSegment(file string, r io.ReaderAt, size int64, closer func() error) (*segment, error) {
	h := make([]byte, headerLen+4)
	if n, _ := r.ReadAt(h, 0); n < len(h) {
		return nil, &Hurt{file, 0, "it is cut off"}
	}
	hd, err := decodeHeader(file, h, kindIndex)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	packs := int64(le.Uint32(h[headerLen:]))
	dirLen := 4 + packs*packIDLen + 4 + buckets*8
	if hd.length != size-headerLen || dirLen > hd.length || dirLen > maxDirectory {
		return nil, &Hurt{file, headerLen, "its directory doesn't fit it"}
	}
	dir := make([]byte, dirLen)
	if n, _ := r.ReadAt(dir, headerLen); n < len(dir) || NameOf(dir) != hd.sum {
		return nil, &Hurt{file, headerLen, "the checksum of its directory is wrong"}
	}
	s := &segment{file: file, r: r, close: closer, base: headerLen + dirLen}
	d := dir[4:]
	for range packs {
		s.packs = append(s.packs, hex.EncodeToString(d[:packIDLen]))
		d = d[packIDLen:]
	}
	s.count = int(le.Uint32(d))
	d = d[4:]
	last := uint32(0)
	for b := range buckets {
		s.ends[b], s.sums[b] = le.Uint32(d[8*b:]), le.Uint32(d[8*b+4:])
		if s.ends[b] < last {
			return nil, &Hurt{file, headerLen, "its directory runs backwards"}
		}
		last = s.ends[b]
	}
	if int64(last) != int64(s.count) || int64(s.count)*indexEntry != hd.length-dirLen {
		return nil, &Hurt{file, headerLen, "its directory doesn't fit its entries"}
	}
	return s, nil
}

// bucket reads the entries of one bucket.
func (s *segment) bucket(b int) ([]byte, error) {
	from := uint32(0)
	if b > 0 {
		from = s.ends[b-1]
	}
	p := make([]byte, int64(s.ends[b]-from)*indexEntry)
	if len(p) == 0 {
		return p, nil
	}
	at := s.base + int64(from)*indexEntry
	if n, err := s.r.ReadAt(p, at); n < len(p) {
		return nil, fmt.Errorf("%s: %w", s.file, err)
	}
	if crc32.Checksum(p, castagnoli) != s.sums[b] {
		return nil, &Hurt{s.file, at, "the checksum of its entries is wrong"}
	}
	return p, nil
}

func (s *segment) record(e []byte) indexRecord {
	le := binary.LittleEndian
	ordinal := int(le.Uint32(e[32:]))
	pack := ""
	if ordinal < len(s.packs) {
		pack = s.packs[ordinal]
	}
	return indexRecord{Name(e[:32]), place{pack, int64(le.Uint64(e[40:])), le.Uint32(e[36:])}}
}

// find looks a block up.
func (s *segment) find(n Name) (place, bool, error) {
	p, err := s.bucket(bucketOf(n))
	if err != nil {
		return place{}, false, err
	}
	k := len(p) / indexEntry
	i := sort.Search(k, func(i int) bool { return bytes.Compare(p[i*indexEntry:][:32], n[:]) >= 0 })
	if i == k || !bytes.Equal(p[i*indexEntry:][:32], n[:]) {
		return place{}, false, nil
	}
	return s.record(p[i*indexEntry:]).place, true, nil
}

// all gives a segment's records in order.
func (s *segment) all(yield func(indexRecord) error) error {
	for b := range buckets {
		p, err := s.bucket(b)
		if err != nil {
			return err
		}
		for ; len(p) > 0; p = p[indexEntry:] {
			if err := yield(s.record(p)); err != nil {
				return err
			}
		}
	}
	return nil
}

func sortRecords(r []indexRecord) []indexRecord {
	slices.SortFunc(r, func(a, b indexRecord) int {
		if c := bytes.Compare(a.name[:], b.name[:]); c != 0 {
			return c
		}
		return cmp.Compare(a.pack, b.pack)
	})
	return slices.CompactFunc(r, func(a, b indexRecord) bool { return a.name == b.name })
}

// loadIndex opens the segments and looks at the packs that none of them covers.
func (s *Shelf) loadIndex() error {
	names, err := s.b.List("index")
	if err != nil {
		return fmt.Errorf("the index can't be listed: %w", err)
	}
	covered := map[string]bool{}
	for _, n := range names {
		file := "index/" + n
		r, err := s.b.Open(file)
		if err != nil {
			return fmt.Errorf("%s can't be opened: %w", file, err)
		}
		seg, err := openSegment(file, r, r.Size(), r.Close)
		if err != nil {
			r.Close()
			if errors.Is(err, ErrNewer) {
				return err
			}
			s.notes = append(s.notes, err.Error()+"; its packs are looked at instead")
			continue
		}
		s.segments = append(s.segments, seg)
		for _, p := range seg.packs {
			covered[p] = true
		}
	}
	packs, err := s.b.List("packs")
	if err != nil {
		return fmt.Errorf("the packs can't be listed: %w", err)
	}
	var loose []indexRecord
	for _, n := range packs {
		id, ok := packID(n)
		if !ok || covered[id] {
			continue
		}
		records, err := s.packRecords(id)
		if err != nil {
			s.notes = append(s.notes, err.Error())
			continue
		}
		loose = append(loose, records...)
		s.loosePacks++
	}
	if len(loose) > 0 {
		b := encodeSegment(sortRecords(loose))
		seg, err := openSegment("packs", bytes.NewReader(b), int64(len(b)), func() error { return nil })
		if err != nil {
			return err
		}
		s.segments = append(s.segments, seg)
		s.looseSegment = b
	}
	return nil
}

func packID(file string) (string, bool) {
	id, ok := bytes.CutSuffix([]byte(file), []byte(".pack"))
	if _, err := hex.DecodeString(string(id)); err != nil || len(id) != 2*packIDLen {
		return "", false
	}
	return string(id), ok
}

func (s *Shelf) packRecords(id string) ([]indexRecord, error) {
	r, err := s.b.Open(packPath(id))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	entries, err := readTable(r, packPath(id))
	if err != nil {
		return nil, err
	}
	records := make([]indexRecord, len(entries))
	for i, e := range entries {
		records[i] = indexRecord{e.name, place{id, e.offset, e.stored}}
	}
	return records, nil
}

// lookup finds a block in any segment.
func (s *Shelf) lookup(n Name) (place, bool, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var problem error
	for i := len(s.segments) - 1; i >= 0; i-- {
		p, ok, err := s.segments[i].find(n)
		if ok {
			return p, true, nil
		}
		problem = errors.Join(problem, err)
	}
	return place{}, false, problem
}

// writeSegment puts a segment on the medium and opens it.
func (s *Shelf) writeSegment(encoded []byte) (*segment, error) {
	file := "index/" + newID() + ".index"
	if err := s.writeFile(file, encoded); err != nil {
		return nil, fmt.Errorf("the index can't be written: %w", err)
	}
	r, err := s.b.Open(file)
	if err != nil {
		return nil, err
	}
	return openSegment(file, r, r.Size(), r.Close)
}

// mergeSegments makes one segment of all when there are many. It streams:
// memory is one bucket per segment and the buffer.
func (s *Shelf) mergeSegments() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.segments) <= maxSegments {
		return nil
	}
	packSet := map[string]bool{}
	for _, seg := range s.segments {
		for _, p := range seg.packs {
			packSet[p] = true
		}
	}
	packs := make([]string, 0, len(packSet))
	for p := range packSet {
		packs = append(packs, p)
	}
	slices.Sort(packs)
	merged, err := s.mergeInto("tmp/"+newID()+".index", packs)
	if err != nil {
		return err
	}
	old := s.segments
	s.segments = []*segment{merged}
	for _, seg := range old {
		seg.close()
		_ = s.b.Remove(seg.file)
	}
	return nil
}

// mergeInto writes the merged segment in two passes: the directory needs the
// counts and checksums of all buckets.
func (s *Shelf) mergeInto(temp string, packs []string) (*segment, error) {
	le := binary.LittleEndian
	dir := le.AppendUint32(nil, uint32(len(packs)))
	for _, p := range packs {
		id, _ := hex.DecodeString(p)
		dir = append(dir, id...)
	}
	bucketBytes := func(b int) ([]byte, int, error) {
		var records []indexRecord
		for _, seg := range s.segments {
			p, err := seg.bucket(b)
			if err != nil {
				return nil, 0, err
			}
			for ; len(p) > 0; p = p[indexEntry:] {
				records = append(records, seg.record(p))
			}
		}
		records = sortRecords(records)
		var out []byte
		for _, r := range records {
			ordinal, _ := slices.BinarySearch(packs, r.pack)
			out = append(out, r.name[:]...)
			out = le.AppendUint32(out, uint32(ordinal))
			out = le.AppendUint32(out, r.stored)
			out = le.AppendUint64(out, uint64(r.offset))
		}
		return out, len(records), nil
	}
	var fan []byte
	total := 0
	for b := range buckets {
		p, n, err := bucketBytes(b)
		if err != nil {
			return nil, err
		}
		total += n
		fan = le.AppendUint32(fan, uint32(total))
		fan = le.AppendUint32(fan, crc32.Checksum(p, castagnoli))
	}
	dir = append(le.AppendUint32(dir, uint32(total)), fan...)
	w, err := s.b.Create(temp)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	bw := bufio.NewWriterSize(w, 1<<20)
	h := header{kind: kindIndex, length: int64(len(dir)) + int64(total)*indexEntry, sum: NameOf(dir)}
	bw.Write(h.encode())
	bw.Write(dir)
	for b := range buckets {
		p, _, err := bucketBytes(b)
		if err != nil {
			return nil, err
		}
		bw.Write(p)
	}
	if err := errors.Join(bw.Flush(), w.Sync()); err != nil {
		return nil, err
	}
	file := "index/" + newID() + ".index"
	if err := s.b.Rename(temp, file); err != nil {
		return nil, err
	}
	r, err := s.b.Open(file)
	if err != nil {
		return nil, err
	}
	return openSegment(file, r, r.Size(), r.Close)
}
