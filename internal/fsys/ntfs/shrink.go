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

	tooMany = "more than %d pieces would have to be moved"
	// longRun is how long a run is, in bytes, that is given a place before the others.
	longRun = 4 << 20
	// sameBetween is how many bytes that stay may lie between two that change and be written with them.
	sameBetween = 24
)

var _ fsys.Shrinker = (*Volume)(nil)

// shrinkage is a volume that gets fewer clusters.
type shrinkage struct {
	growth
	free    fsys.FreeRuns
	moves   []disk.Move       // by where they come from
	changed map[int64]*record // of the volume's own files
	mirror  stream            // $MFTMirr, afterwards
	scratch []byte            // of one record
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
	if err := s.place(behind); err != nil {
		return err
	}
	s.changed = map[int64]*record{}
	if s.mft, err = s.rerouted(v.mft); err != nil {
		return err
	}
	if len(s.mft) == 0 || s.mft[0].n*v.cluster < min(v.mftSize, firstRecords*v.record) {
		return &fsys.Cant{Why: "the first of its file records would lie in pieces"}
	}
	if err := v.walkRecords(s.record); err != nil {
		return err
	}
	return s.system(bitmapRec)
}

// firstRecords are those that have to lie in one piece, so that whatever reads the volume finds its way from the first
// one.
const firstRecords = 16

// rerouted is where runs lie afterwards.
func (s *shrinkage) rerouted(runs []run) ([]run, error) {
	c := s.v.cluster
	var out []run
	for _, r := range runs {
		for r.n > 0 {
			x := r
			if !r.sparse {
				x.n = min(r.n, max(0, s.clusters-r.lcn))
			}
			if x.n == 0 {
				i, _ := slices.BinarySearchFunc(s.moves, r.lcn*c, func(m disk.Move, at int64) int {
					return cmp.Compare(m.From.End-1, at)
				})
				if i == len(s.moves) || s.moves[i].From.Start > r.lcn*c {
					return nil, fsys.Contradiction(r.lcn*c, "a file has clusters that nobody moves")
				}
				x.lcn = s.moves[i].To/c + r.lcn - s.moves[i].From.Start/c
				x.n = min(r.n, s.moves[i].From.End/c-r.lcn)
			}
			out = append(out, x)
			r = run{vcn: r.vcn + x.n, lcn: r.lcn + x.n, n: r.n - x.n, sparse: r.sparse}
		}
	}
	return out, nil
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

// place gives everything beyond the new end another place.
func (s *shrinkage) place(behind span.Set) error {
	all, err := s.strays()
	if err != nil {
		return err
	}
	found := int64(0)
	for _, x := range all {
		found += x.Len()
	}
	if found != behind.Total() {
		return &fsys.Cant{Why: fmt.Sprintf("its accounts differ: %d clusters beyond that are in use and its files "+
			"have %d there", behind.Total(), found)}
	}
	err = s.free.Place(all, max(1, longRun/s.v.cluster), s.move)
	slices.SortFunc(s.moves, func(a, b disk.Move) int { return cmp.Compare(a.From.Start, b.From.Start) })
	return err
}

// move has n clusters stand elsewhere.
func (s *shrinkage) move(from, to, n int64) error {
	c := s.v.cluster
	m := disk.Move{From: span.At(from*c, n*c), To: to * c}
	if n := len(s.moves); n > 0 && s.moves[n-1].From.End == m.From.Start && s.moves[n-1].Target().End == m.To {
		s.moves[n-1].From.End = m.From.End
		return nil
	}
	if s.moves = append(s.moves, m); len(s.moves) > maxPieces {
		return &fsys.Cant{Why: fmt.Sprintf(tooMany, maxPieces)}
	}
	return nil
}

// strays are the runs of all files beyond the new end, in the order of their records.
func (s *shrinkage) strays() (out []fsys.Stray, err error) {
	v := s.v
	scratch := make([]byte, v.record)
	err = v.walkRecords(func(number int64, raw []byte) error {
		r, err := v.inUse(number, raw, scratch)
		if r == nil || err != nil {
			return err
		}
		for _, a := range r.attributes() {
			if !a.nonResident || number == recBadClus && a.name == badStream {
				continue
			}
			runs, err := v.decodeRuns(a)
			if err != nil {
				return err
			}
			for _, x := range runs {
				sp := span.Span{Start: max(x.lcn, s.clusters), End: x.lcn + x.n}
				if x.sparse || sp.Empty() {
					continue
				}
				if out = append(out, fsys.Stray{Span: sp, Own: number < firstUser}); len(out) > maxPieces {
					return &fsys.Cant{Why: fmt.Sprintf(tooMany, maxPieces)}
				}
			}
		}
		return nil
	})
	return out, err
}

// inUse is a record in use by its bytes, with its fix-ups undone in memory of the caller's; nil where it isn't in use.
func (v *records) inUse(number int64, raw, scratch []byte) (*record, error) {
	if string(raw[:4]) != recMagic || binary.LittleEndian.Uint16(raw[recFlags:])&recordInUse == 0 {
		return nil, nil
	}
	copy(scratch, raw)
	r := &record{number: number, at: number * v.record, b: scratch}
	return r, unfix(r.b, recMagic, r.at)
}

// record changes a record that names clusters beyond the new end. Those of the volume's own files wait for what else
// becomes of them.
func (s *shrinkage) record(number int64, raw []byte) error {
	v := s.v
	if len(s.scratch) == 0 {
		s.scratch = make([]byte, v.record)
	}
	r, err := v.inUse(number, raw, s.scratch)
	if r == nil || err != nil {
		return err
	}
	changed := false
	for i := 0; i < len(r.attributes()); i++ { // its attributes move when one becomes longer
		a := r.attributes()[i]
		if !a.nonResident || number == recBadClus && a.name == badStream {
			continue
		}
		runs, err := v.decodeRuns(a)
		if err != nil {
			return err
		}
		mirror := number == recMirror && a.kind == attrData && a.name == ""
		if mirror {
			s.mirror = stream{runs: runs, size: a.size}
		}
		if !slices.ContainsFunc(runs, func(x run) bool { return !x.sparse && x.lcn+x.n > s.clusters }) {
			continue
		}
		moved, err := s.rerouted(runs)
		if err != nil {
			return err
		}
		if !reroute(r, a, moved) {
			return &fsys.Cant{Why: fmt.Sprintf("the run list of file record %d has no room for another place of what "+
				"it holds", number)}
		}
		if changed = true; mirror {
			s.mirror.runs = moved
		}
	}
	switch {
	case !changed:
	case number < firstUser:
		r.b = slices.Clone(r.b)
		s.changed[number] = r
	default:
		s.differing(r, raw)
	}
	return nil
}

// differing writes what changes in a record, under the number of its fix-ups that it has, so that little is held for
// each of very many.
func (s *shrinkage) differing(r *record, raw []byte) {
	at := int(binary.LittleEndian.Uint16(r.b[recUSAOffset:]))
	fixUp(r.b, at, binary.LittleEndian.Uint16(r.b[at:]))
	for from := 0; from < len(raw); {
		if r.b[from] == raw[from] {
			from++
			continue
		}
		end := from + 1
		for i := end; i < min(len(raw), end+sameBetween); i++ {
			if r.b[i] != raw[i] {
				end = i + 1
			}
		}
		s.pieces(s.table(), r.at+int64(from), slices.Clone(r.b[from:end]), "places in a file record")
		from = end
	}
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
	c := s.v.cluster
	for _, m := range s.moves {
		if err := mark(span.At(m.To/c, m.From.Len()/c)); err != nil {
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
