package ntfs

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

const (
	// maxPieces bounds the runs that are moved.
	maxPieces = 1 << 20
	// spare is the share of what is used that stays free on the smallest volume: 1/spare.
	spare      = 32
	leastSpare = 4 << 20 // bytes

	bitmapReadStep = 1 << 20 // bytes
)

var _ fsys.Shrinker = (*Volume)(nil)

// shrinkage is a volume that gets fewer clusters.
type shrinkage struct {
	growth
	free    fsys.FreeRuns
	taken   []span.Span // where moved clusters go, in clusters
	moves   []disk.Move
	changed map[int64]*record
	mirror  stream // $MFTMirr, afterwards
}

// Least tries how small the volume can become: what is used and can't be moved, and room for the rest.
func (v *Volume) Least() (int64, string, error) {
	sector, err := v.sectorSize()
	if err != nil {
		return 0, "", err
	}
	used, err := v.usedClusters()
	if err != nil {
		return 0, "", err
	}
	want := used + max(used/spare, leastSpare/v.cluster)
	why := units.Bytes(used*v.cluster) + " of it are in use"
	fixed, err := v.fixedEnd()
	if err != nil {
		return 0, "", err
	}
	if fixed > want {
		want, why = fixed, "what isn't moved ends there: its boot sectors, or clusters that are bad"
	}
	for want < v.clusters {
		part := (want*v.cluster/sector + 2) * sector
		s := &shrinkage{growth: growth{v: v, clusters: (part/sector - 1) * sector / v.cluster}}
		err := s.plan()
		if c, ok := err.(*fsys.Cant); ok {
			why = c.Why
			want += max((v.clusters-want)/8, want/16, 1024)
			continue
		}
		return part, why, err
	}
	return v.info.Size + sector, "it can't become smaller: " + why, nil
}

func (v *Volume) sectorSize() (int64, error) {
	boot := make([]byte, bootLen)
	err := disk.ReadFull(v.r, boot, 0)
	return int64(binary.LittleEndian.Uint16(boot[bootSectorSize:])), err
}

// bitmapStream gives the runs of $Bitmap.
func (v *Volume) bitmapStream() (*record, stream, error) {
	rec, err := v.readRecord(recBitmap)
	if err != nil {
		return nil, stream{}, fmt.Errorf("$Bitmap: %w", err)
	}
	s, err := v.stream(rec, attrData, "")
	if err == nil && s.runs == nil {
		err = &fsys.Cant{Why: "its cluster bitmap is kept in a way that isn't changed here"}
	}
	return rec, s, err
}

// eachBitmap reads $Bitmap up to cluster end, in chunks.
func (v *Volume) eachBitmap(runs []run, end int64, do func(first int64, b []byte)) error {
	b := make([]byte, bitmapReadStep)
	for at := int64(0); at*8 < end; at += bitmapReadStep {
		n := min(bitmapReadStep, (end+7)/8-at)
		if _, err := v.readRuns(runs, b[:n], at); err != nil {
			return fmt.Errorf("$Bitmap: %w", err)
		}
		do(at*8, b[:n])
	}
	return nil
}

func (v *Volume) usedClusters() (int64, error) {
	_, s, err := v.bitmapStream()
	if err != nil {
		return 0, err
	}
	n := int64(0)
	err = v.eachBitmap(s.runs, v.clusters, func(_ int64, b []byte) {
		for _, c := range b {
			n += int64(bits.OnesCount8(c))
		}
	})
	return n, err
}

// fixedEnd is the cluster after what isn't moved: $Boot, and clusters that are bad.
func (v *Volume) fixedEnd() (int64, error) {
	end := int64(0)
	for _, n := range []int64{recBoot, recBadClus} {
		rec, err := v.readRecord(n)
		if err != nil {
			return 0, err
		}
		var runs []run
		for _, a := range rec.attributes() {
			if !a.nonResident {
				continue
			}
			more, err := v.decodeRuns(a)
			if err != nil {
				return 0, err
			}
			runs = append(slices.Clone(runs), more...)
		}
		for _, r := range runs {
			if !r.sparse {
				end = max(end, r.lcn+r.n)
			}
		}
	}
	return end, nil
}

// shrink gives what becomes of the volume on a smaller part of size bytes.
func (v *Volume) shrink(boot []byte, size, sector int64) (*fsys.Change, error) {
	sectors := size/sector - 1
	s := &shrinkage{growth: growth{v: v, clusters: sectors * sector / v.cluster}}
	if err := s.plan(); err != nil {
		return nil, fmt.Errorf("its NTFS can't be made as small as %s: %w", units.Bytes(size), err)
	}
	le := binary.LittleEndian
	le.PutUint64(boot[bootSectors:], uint64(sectors))
	le.PutUint64(boot[bootMFT:], uint64(s.table()[0].lcn))
	le.PutUint64(boot[bootMFTMirror:], uint64(s.mirror.runs[0].lcn))
	s.patches = append(s.patches, disk.Patch{Off: 0, Data: boot, Why: "boot sector"},
		disk.Patch{Off: sectors * sector, Data: boot, Why: "copy of the boot sector"})
	c := &fsys.Change{Size: sectors * sector}
	var err error
	if c.Patches, err = disk.SortPatches(s.patches, size); err != nil {
		return nil, err
	}
	c.Keep(s.clusters*v.cluster, s.moves)
	return c, nil
}

// plan finds what lies beyond the new end, gives it another place, and changes the records that say where it lies.
func (s *shrinkage) plan() error {
	v := s.v
	fixed, err := v.fixedEnd()
	if err != nil {
		return err
	}
	if fixed > s.clusters {
		return &fsys.Cant{Why: "what isn't moved ends beyond that: its boot sectors, or clusters that are bad"}
	}
	bitmapRec, bm, err := v.bitmapStream()
	if err != nil {
		return err
	}
	var behind span.Set // used clusters past the new end
	if err := s.readFree(bm.runs, &behind); err != nil {
		return err
	}
	s.changed = map[int64]*record{}
	found := int64(0)
	if err := v.eachRecord(func(r *record) error {
		n, err := s.record(r)
		found += n
		return err
	}); err != nil {
		return err
	}
	if found != behind.Total() {
		return &fsys.Cant{Why: fmt.Sprintf("its accounts differ: %d clusters beyond that are in use and its files "+
			"have %d there", behind.Total(), found)}
	}
	if s.mft, err = s.moved(v.mft); err != nil {
		return err
	}
	return s.system(bitmapRec)
}

// firstRecords are those that have to lie in one piece, so that whatever reads the volume finds its way from the first
// one.
const firstRecords = 16

// moved is where the table of files lies afterwards.
func (s *shrinkage) moved(runs []run) ([]run, error) {
	moves := slices.SortedFunc(slices.Values(s.moves), func(a, b disk.Move) int {
		return cmp.Compare(a.From.Start, b.From.Start)
	})
	c := s.v.cluster
	var out []run
	for _, r := range runs {
		for r.n > 0 {
			x := run{vcn: r.vcn, lcn: r.lcn, n: min(r.n, max(0, s.clusters-r.lcn))}
			if x.n == 0 {
				i, _ := slices.BinarySearchFunc(moves, r.lcn*c, func(m disk.Move, at int64) int {
					return cmp.Compare(m.From.End-1, at)
				})
				if i == len(moves) || moves[i].From.Start > r.lcn*c {
					return nil, fsys.Contradiction(r.lcn*c, "the table of its files has clusters that nobody moves")
				}
				x.lcn = moves[i].To/c + r.lcn - moves[i].From.Start/c
				x.n = min(r.n, moves[i].From.End/c-r.lcn)
			}
			out = append(out, x)
			r = run{vcn: r.vcn + x.n, lcn: r.lcn + x.n, n: r.n - x.n}
		}
	}
	if len(out) == 0 || out[0].n*c < min(s.v.mftSize, firstRecords*s.v.record) {
		return nil, &fsys.Cant{Why: "the first of its file records would lie in pieces"}
	}
	return out, nil
}

// eachRecord calls do with every record in use, which it may keep.
func (v *records) eachRecord(do func(*record) error) error {
	return v.walkRecords(func(number int64, raw []byte) error {
		if string(raw[:4]) != recMagic || binary.LittleEndian.Uint16(raw[recFlags:])&recordInUse == 0 {
			return nil
		}
		r := &record{number: number, at: number * v.record, b: slices.Clone(raw)}
		if err := unfix(r.b, recMagic, r.at); err != nil {
			return err
		}
		return do(r)
	})
}

// walkRecords calls do with the bytes of every record of $MFT, with their fix-ups; they are good until the next.
func (v *records) walkRecords(do func(number int64, raw []byte) error) error {
	chunk := max(1, mftChunk/v.record)
	b := make([]byte, chunk*v.record)
	records := v.mftSize / v.record
	for first := int64(0); first < records; first += chunk {
		n := min(chunk, records-first)
		if _, err := v.readRuns(v.mft, b[:n*v.record], first*v.record); err != nil {
			return err
		}
		for i := range n {
			if err := do(first+i, b[i*v.record:(i+1)*v.record]); err != nil {
				return err
			}
		}
	}
	return nil
}

// readFree collects the free runs before the new end and the used ones after it.
func (s *shrinkage) readFree(runs []run, behind *span.Set) error {
	var open span.Span
	return s.v.eachBitmap(runs, s.v.clusters, func(first int64, b []byte) {
		n := int(min(int64(len(b))*8, s.v.clusters-first))
		at := first
		for from, to := range fsys.Runs(b, n) { // runs of used ones
			if free := (span.Span{Start: at, End: min(first+int64(from), s.clusters)}); !free.Empty() {
				addTo(&s.free, &open, free)
			}
			if used := (span.Span{Start: max(first+int64(from), s.clusters), End: first + int64(to)}); !used.Empty() {
				behind.Add(used)
			}
			at = first + int64(to)
		}
		if free := (span.Span{Start: at, End: min(first+int64(n), s.clusters)}); !free.Empty() {
			addTo(&s.free, &open, free)
		}
		if first+int64(n) >= s.v.clusters {
			s.free.Add(open)
		}
	})
}

// addTo joins free runs across chunks.
func addTo(all *fsys.FreeRuns, open *span.Span, free span.Span) {
	if open.End == free.Start && !open.Empty() {
		open.End = free.End
		return
	}
	all.Add(*open)
	*open = free
}

// record moves what a record has past the new end, and says how many clusters that were.
func (s *shrinkage) record(r *record) (found int64, err error) {
	v := s.v
	for i := 0; i < len(r.attributes()); i++ { // its attributes move when one becomes longer
		a := r.attributes()[i]
		if !a.nonResident || r.number == recBadClus && a.name == badStream {
			continue
		}
		runs, err := v.decodeRuns(a)
		if err != nil {
			return found, err
		}
		behind := int64(0)
		for _, x := range runs {
			if !x.sparse {
				behind += max(0, x.lcn+x.n-max(x.lcn, s.clusters))
			}
		}
		if r.number == recMirror && a.kind == attrData && a.name == "" {
			s.mirror = stream{runs: runs, size: a.size}
		}
		if behind == 0 {
			continue
		}
		found += behind
		moved, err := s.relocate(runs)
		if err != nil {
			return found, err
		}
		if !reroute(r, a, moved) {
			return found,
				&fsys.Cant{Why: fmt.Sprintf("the run list of file record %d has no room for another place of what "+
					"it holds", r.number)}
		}
		if s.changed[r.number] = r; r.number == recMirror && a.kind == attrData && a.name == "" {
			s.mirror.runs = moved
		}
		if len(s.moves) > maxPieces {
			return found, &fsys.Cant{Why: fmt.Sprintf("more than %d pieces would have to be moved", maxPieces)}
		}
	}
	return found, nil
}

// relocate gives runs of which nothing lies past the new end.
func (s *shrinkage) relocate(runs []run) ([]run, error) {
	var out []run
	c := s.v.cluster
	for _, r := range runs {
		keep := r
		if !r.sparse {
			keep.n = max(0, min(r.n, s.clusters-r.lcn))
		}
		if keep.n > 0 {
			out = append(out, keep)
		}
		if keep.n == r.n {
			continue
		}
		to, err := s.free.Take(r.n - keep.n)
		if err != nil {
			return nil, &fsys.Cant{Why: err.Error()}
		}
		vcn, lcn := r.vcn+keep.n, r.lcn+keep.n
		for _, sp := range to {
			out = append(out, run{vcn: vcn, lcn: sp.Start, n: sp.Len()})
			s.moves = append(s.moves, disk.Move{From: span.At(lcn*c, sp.Len()*c), To: sp.Start * c})
			s.taken = append(s.taken, sp)
			vcn, lcn = vcn+sp.Len(), lcn+sp.Len()
		}
	}
	return out, nil
}

// reroute gives an attribute another run list and leaves its sizes.
func reroute(r *record, a attribute, runs []run) bool {
	le := binary.LittleEndian
	b := r.b[a.at-r.at:]
	return rewrite(r, a, runs, int64(le.Uint64(b[nonAllocated:])), int64(le.Uint64(b[nonSize:])),
		int64(le.Uint64(b[nonInitial:])))
}

// system changes the volume's own files: $Bitmap, $BadClus, and the records with their mirror.
func (s *shrinkage) system(bitmapRec *record) error {
	v := s.v
	if r := s.changed[recBitmap]; r != nil {
		bitmapRec = r
	}
	a, ok := single(bitmapRec, attrData, "")
	if !ok {
		return &fsys.Cant{Why: "its cluster bitmap is kept in a way that isn't changed here"}
	}
	runs, err := v.decodeRuns(a)
	if err != nil {
		return err
	}
	old, err := v.bitmapRuns()
	if err != nil {
		return err
	}
	size := (s.clusters + 63) / 64 * 8
	if !rewrite(bitmapRec, a, runs, a.allocated(bitmapRec), size, size) {
		return &fsys.Cant{Why: "the record of its cluster bitmap has no room"}
	}
	s.changed[recBitmap] = bitmapRec
	if err := s.pages(old, runs, size); err != nil {
		return err
	}
	bad := s.changed[recBadClus]
	if bad == nil {
		if bad, err = v.readRecord(recBadClus); err != nil {
			return fmt.Errorf("$BadClus: %w", err)
		}
	}
	if a, ok := single(bad, attrData, badStream); ok && a.nonResident {
		runs, err := v.decodeRuns(a)
		if err != nil {
			return fmt.Errorf("$BadClus: %w", err)
		}
		var kept []run
		for _, r := range runs {
			if r.n = min(r.n, s.clusters-r.vcn); r.n > 0 {
				kept = append(kept, r)
			}
		}
		initial := int64(binary.LittleEndian.Uint64(bad.b[a.at-bad.at+nonInitial:]))
		if !rewrite(bad, a, kept, s.clusters*v.cluster, s.clusters*v.cluster, min(initial, s.clusters*v.cluster)) {
			return &fsys.Cant{Why: "the list of its bad clusters has no room"}
		}
		s.changed[recBadClus] = bad
	}
	if len(s.mirror.runs) == 0 || s.mirror.runs[0].sparse {
		return &fsys.Cant{Why: "the mirror of the table of its files isn't where it should be"}
	}
	records := make([]*record, 0, len(s.changed))
	for _, r := range s.changed {
		records = append(records, r)
	}
	slices.SortFunc(records, func(a, b *record) int { return cmp.Compare(a.number, b.number) })
	return s.storeWith(records, s.mirror)
}

func (a attribute) allocated(r *record) int64 {
	return int64(binary.LittleEndian.Uint64(r.b[a.at-r.at+nonAllocated:]))
}

func (v *Volume) bitmapRuns() ([]run, error) {
	_, s, err := v.bitmapStream()
	return s.runs, err
}

// pages writes the pages of $Bitmap that change: what was moved is taken in its new place, and what lies after the new
// end is marked as taken up to the bitmap's own end. old is where the bitmap is read, runs where it will be.
func (s *shrinkage) pages(old, runs []run, size int64) error {
	pages := map[int64][]byte{}
	page := func(cluster int64) ([]byte, error) {
		n := cluster / 8 / bitmapPage
		b := pages[n]
		if b == nil {
			b = make([]byte, min(bitmapPage, size-n*bitmapPage))
			if _, err := s.v.readRuns(old, b, n*bitmapPage); err != nil {
				return nil, fmt.Errorf("$Bitmap: %w", err)
			}
			pages[n] = b
		}
		return b, nil
	}
	mark := func(sp span.Span) error {
		for c := sp.Start; c < sp.End; c++ {
			b, err := page(c)
			if err != nil {
				return err
			}
			b[c/8%bitmapPage] |= 1 << (c % 8)
		}
		return nil
	}
	for _, sp := range s.taken {
		if err := mark(sp); err != nil {
			return err
		}
	}
	if err := mark(span.Span{Start: s.clusters, End: size * 8}); err != nil {
		return err
	}
	for n, b := range pages {
		s.stream(runs, n*bitmapPage, disk.Patch{Data: b})
	}
	return nil
}
