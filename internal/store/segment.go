package store

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
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
	file   string // where it lies; what it is, where it lies in no file of its own
	r      source
	ring   *keyring
	nonce  [nonceRoom]byte
	packs  []string
	ends   [buckets]uint32 // entries up to and with the bucket
	checks []byte          // what proves each bucket: a checksum of 4 bytes, or a tag of 16
	base   int64           // where the entries begin
	count  int
	gone   map[string]bool // packs that it names and that aren't there
	// pending is a segment of a session that is going on here: it isn't in the index yet.
	pending bool
}

// source is what a segment is read from: a file of the index, or what isn't one yet.
type source interface {
	ReadAt(ctx context.Context, p []byte, off int64) (int, error)
	Close() error
}

// local is a source that needs no context: memory, or an upload.
type local struct{ io.ReaderAt }

func (l local) ReadAt(ctx context.Context, p []byte, off int64) (int, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	return l.ReaderAt.ReadAt(p, off)
}

func (l local) Close() error { return nil }

// checkLen is how many bytes prove a bucket.
func (k *keyring) checkLen() int {
	if k.sealed() {
		return tagRoom
	}
	return 4
}

// bucketCheck proves a bucket's entries, which are sealed in place.
func (k *keyring) bucketCheck(nonce [nonceRoom]byte, bucket int, p []byte) []byte {
	if !k.sealed() {
		return binary.LittleEndian.AppendUint32(nil, crc32.Checksum(p, castagnoli))
	}
	var tag [tagRoom]byte
	k.sealWith(numbered(nonce, uint32(bucket)), slices.Clip(p), nil, &tag) // the next bucket lies after it
	return tag[:]
}

func bucketOf(n Name) int { return int(n[0])<<4 | int(n[1])>>4 }

// indexRecord is one entry of a segment.
type indexRecord struct {
	name Name
	place
}

// encodeSegment writes a segment; records must be sorted by name. A block may stand in several places: one of them may
// be hurt.
func (k *keyring) encodeSegment(records []indexRecord) []byte {
	var packs []string
	for _, r := range records {
		packs = append(packs, r.pack)
	}
	slices.Sort(packs)
	packs = slices.Compact(packs)
	nonce := k.freshNonce()
	d := directory{packs: packs}
	entries := make([]byte, 0, len(records)*indexEntry)
	done := 0
	for b := range buckets {
		from := len(entries)
		for ; done < len(records) && bucketOf(records[done].name) == b; done++ {
			entries = appendRecord(entries, records[done], packs)
		}
		d.add(done, k.bucketCheck(nonce, b, entries[from:len(entries):len(entries)]))
	}
	head, dir := k.frameIndex(nonce, d.encode(), len(entries))
	return slices.Concat(head, dir, entries)
}

func (k *keyring) freshNonce() (nonce [nonceRoom]byte) {
	if k.sealed() {
		_, _ = rand.Read(nonce[:])
	}
	return nonce
}

func appendRecord(b []byte, r indexRecord, packs []string) []byte {
	le := binary.LittleEndian
	ordinal, _ := slices.BinarySearch(packs, r.pack)
	b = append(b, r.name[:]...)
	b = le.AppendUint32(b, uint32(ordinal))
	b = le.AppendUint32(b, r.stored)
	return le.AppendUint64(b, uint64(r.offset))
}

// directory is what a segment begins with.
type directory struct {
	packs []string
	total int
	fan   []byte // for each bucket: entries so far, and what proves it
}

func (d *directory) add(total int, check []byte) {
	d.total = total
	d.fan = append(binary.LittleEndian.AppendUint32(d.fan, uint32(total)), check...)
}

func (d *directory) encode() []byte {
	le := binary.LittleEndian
	b := le.AppendUint32(nil, uint32(len(d.packs)))
	for _, p := range d.packs {
		id, _ := hex.DecodeString(p)
		b = append(b, id...)
	}
	b = le.AppendUint32(b, uint32(d.total))
	return append(b, d.fan...)
}

// frameIndex seals a directory and makes the header of its file.
func (k *keyring) frameIndex(nonce [nonceRoom]byte, dir []byte, entries int) (head, sealed []byte) {
	h := header{kind: kindIndex, suite: k.suite(), length: int64(len(dir) + entries), nonce: nonce,
		dir: int64(len(dir))}
	if k.sealed() {
		k.sealWith(nonce, dir, h.bound(), &h.tag)
	}
	h.sum = Checksum(dir)
	return h.encode(), dir
}

// openSegment reads a segment's directory; its entries stay in the source, which is the segment's from then on.
func (k *keyring) openSegment(ctx context.Context, file string, r source, size int64) (*segment, error) {
	hb := make([]byte, headerLen)
	if n, _ := r.ReadAt(ctx, hb, 0); n < len(hb) {
		return nil, orCancelled(ctx, &HurtError{file, 0, "it is cut off"})
	}
	h, err := decodeHeader(file, hb, kindIndex)
	if err != nil {
		return nil, err
	}
	dir, err := k.readDirectory(ctx, file, r, h, size)
	if err != nil {
		return nil, err
	}
	s := &segment{file: file, r: r, ring: k, nonce: h.nonce, base: headerLen + h.dir}
	if problem := s.decodeDirectory(dir, h.length-h.dir); problem != "" {
		return nil, &HurtError{file, headerLen, problem}
	}
	return s, nil
}

// readDirectory reads the directory of a segment and checks it as a whole.
func (k *keyring) readDirectory(ctx context.Context, file string, r source, h header, size int64) ([]byte, error) {
	fan := int64(buckets * (4 + k.checkLen()))
	if err := k.fits(file, h); err != nil {
		return nil, err
	}
	if h.length != size-headerLen || h.dir > h.length || h.dir > maxDirectory || h.dir < 8+fan ||
		(h.dir-8-fan)%packIDLen != 0 {
		return nil, &HurtError{file, headerLen, "its directory doesn't fit it"}
	}
	dir := make([]byte, h.dir, h.dir+tagRoom)
	if n, _ := r.ReadAt(ctx, dir, headerLen); n < len(dir) || Checksum(dir) != h.sum {
		return nil, orCancelled(ctx, &HurtError{file, headerLen, "the checksum of its directory is wrong"})
	}
	if !k.unseal(h.nonce, h.tag, dir, h.bound()) {
		return nil, &HurtError{file, headerLen, "its directory isn't what this shelf sealed"}
	}
	return dir, nil
}

// decodeDirectory reads a directory of a length that fits; entries is how many bytes lie after it. It gives what is
// wrong, in words.
func (s *segment) decodeDirectory(dir []byte, entries int64) (problem string) {
	le := binary.LittleEndian
	n := s.ring.checkLen()
	packs := (len(dir) - 8 - buckets*(4+n)) / packIDLen
	if int64(le.Uint32(dir)) != int64(packs) {
		return "its directory doesn't fit its packs"
	}
	d := dir[4:]
	for range packs {
		s.packs = append(s.packs, hex.EncodeToString(d[:packIDLen]))
		d = d[packIDLen:]
	}
	s.count = int(le.Uint32(d))
	d = d[4:]
	last := uint32(0)
	for b := range buckets {
		s.ends[b] = le.Uint32(d)
		s.checks = append(s.checks, d[4:4+n]...)
		d = d[4+n:]
		if s.ends[b] < last {
			return "its directory runs backwards"
		}
		last = s.ends[b]
	}
	if int64(last) != int64(s.count) || int64(s.count)*indexEntry != entries {
		return "its directory doesn't fit its entries"
	}
	return ""
}

// bucket reads the entries of one bucket.
func (s *segment) bucket(ctx context.Context, b int) ([]byte, error) {
	from := uint32(0)
	if b > 0 {
		from = s.ends[b-1]
	}
	size := int64(s.ends[b]-from) * indexEntry
	p := make([]byte, size, size+tagRoom)
	if len(p) == 0 {
		return p, nil
	}
	at := s.base + int64(from)*indexEntry
	if n, err := s.r.ReadAt(ctx, p, at); n < len(p) {
		return nil, fmt.Errorf("%s: %w", s.file, err)
	}
	n := s.ring.checkLen()
	check := s.checks[b*n:][:n]
	if s.ring.sealed() && !s.ring.unseal(numbered(s.nonce, uint32(b)), [tagRoom]byte(check), p, nil) ||
		!s.ring.sealed() && crc32.Checksum(p, castagnoli) != binary.LittleEndian.Uint32(check) {
		return nil, &HurtError{s.file, at, "the checksum of its entries is wrong"}
	}
	return p, nil
}

// first is the number of the first entry of a bucket.
func (s *segment) first(b int) int {
	if b == 0 {
		return 0
	}
	return int(s.ends[b-1])
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

// find looks a block up and gives its places.
func (s *segment) find(ctx context.Context, n Name) ([]place, error) {
	p, err := s.bucket(ctx, bucketOf(n))
	if err != nil {
		return nil, err
	}
	var out []place
	from, to := namedIn(p, n)
	for i := from; i < to; i++ {
		if at := s.record(p[i*indexEntry:]).place; !s.gone[at.pack] {
			out = append(out, at)
		}
	}
	return out, nil
}

// namedIn says which entries [from, to) of a bucket are those of a block.
func namedIn(p []byte, n Name) (from, to int) {
	k := len(p) / indexEntry
	from = sort.Search(k, func(i int) bool { return bytes.Compare(p[i*indexEntry:][:32], n[:]) >= 0 })
	for to = from; to < k && bytes.Equal(p[to*indexEntry:][:32], n[:]); {
		to++
	}
	return from, to
}

// all gives a segment's records in order, with their numbers.
func (s *segment) all(ctx context.Context, yield func(n int, r indexRecord) error) error {
	for b := range buckets {
		p, err := s.bucket(ctx, b)
		if err != nil {
			return err
		}
		for n := s.first(b); len(p) > 0; n, p = n+1, p[indexEntry:] {
			if err := yield(n, s.record(p)); err != nil {
				return err
			}
		}
	}
	return nil
}

// sortRecords orders records by name, and drops those that are there twice with the same place.
func sortRecords(r []indexRecord) []indexRecord {
	slices.SortFunc(r, func(a, b indexRecord) int {
		return cmp.Or(bytes.Compare(a.name[:], b.name[:]), cmp.Compare(a.pack, b.pack), cmp.Compare(a.offset, b.offset))
	})
	return slices.Compact(r)
}
