package shelf

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
)

// CheckKind is how much a check reads.
type CheckKind struct {
	// Share is how much of the packs is read, the ones that weren't read for longest first: 0 only looks whether
	// every block is there, 1 reads everything.
	Share float64
	// Mend has what is hurt mended, as far as parity reaches.
	Mend bool
}

// checked is what is remembered between checks.
type checked struct {
	Read   map[string]time.Time `json:"read"`             // packs, by when they were last read through
	Broken []string             `json:"broken,omitempty"` // packs that were hurt beyond mending then
}

const (
	checkedFile = "checked.note"
	saveEvery   = 16 // packs
	maxDamage   = 10_000
)

// Check looks whether everything on the shelf is there and as it was written. It may be stopped at any time and
// goes on where it was: packs that were read stay read for this round.
func (s *Shelf) Check(ctx context.Context, kind CheckKind, step func(done, total int64) error) (*Report, error) {
	if err := s.refresh(); err != nil {
		return nil, err
	}
	rep := &Report{}
	s.checkSmall(rep, kind.Mend)
	twins, problems := s.Twins()
	for _, p := range problems {
		if h := new(Hurt); !errors.As(p, &h) { // hurt files were found above, with what can be done
			rep.Hurt = append(rep.Hurt, p.Error())
		}
	}
	bad := map[Name]string{} // blocks that can't be had, and why
	if err := s.checkPacks(ctx, kind, rep, bad, step); err != nil {
		return rep, err
	}
	m := s.marking()
	unsure := len(problems) > 0 // whether something may be needed that isn't marked
	for _, t := range twins {
		err := m.twin(ctx, t)
		if err != nil && ctx.Err() != nil {
			return rep, ctx.Err()
		}
		unsure = unsure || err != nil
		// A node that can't be read is found again by name below.
		if h := new(Hurt); errors.As(err, &h) && strings.HasPrefix(h.File, "twins/") {
			rep.Hurt = append(rep.Hurt, err.Error())
		}
	}
	if err := m.flush(); err != nil {
		rep.Hurt, unsure = append(rep.Hurt, err.Error()), true
	}
	if err := s.sortBroken(m, rep, unsure || len(m.missing) > 0); err != nil {
		rep.Hurt = append(rep.Hurt, err.Error())
	}
	for _, seg := range m.segments {
		rep.Blocks += seg.count
	}
	for n := range m.missing {
		bad[n] = "no pack holds this block"
	}
	if len(bad) > 0 || m.lost > 0 || len(rep.Hurt) > 0 {
		s.locate(ctx, twins, bad, rep)
	}
	return rep, ctx.Err()
}

// sortBroken tells packs that something is needed of from those that nothing is; while that is unsure all are needed. Of a
// pack whose hurt blocks stand elsewhere too nothing is missed.
func (s *Shelf) sortBroken(m *marking, rep *Report, unsure bool) error {
	if len(rep.broken) == 0 {
		return nil
	}
	needed := map[string]bool{}
	var err error
	for i, seg := range m.segments {
		n := 0
		err = errors.Join(err, seg.all(func(r indexRecord) error {
			if m.has(i, n) {
				needed[r.pack] = true
			}
			n++
			return nil
		}))
	}
	for _, id := range slices.Sorted(maps.Keys(rep.broken)) {
		if err != nil || unsure || needed[id] && rep.costly[id] {
			rep.Hurt = append(rep.Hurt, rep.broken[id])
		} else {
			text := "; no twin needs anything of it: giving back space removes it"
			if needed[id] {
				text = "; every block in it that a twin needs can be had"
			}
			rep.Idle = append(rep.Idle, rep.broken[id]+text)
		}
	}
	return err
}

// checkSmall reads the files that aren't packs.
func (s *Shelf) checkSmall(rep *Report, mend bool) {
	for _, f := range []string{"head", "head.copy"} {
		raw, err := s.b.ReadFile(f, maxHead)
		if err == nil {
			_, _, err = framed(f, raw, kindHead)
		}
		if err == nil {
			continue
		}
		if mend && s.mendHead() == nil {
			rep.Mended = append(rep.Mended, f)
			_ = s.journal(Event{What: "mended " + f, Why: "its copy had what was lost"})
			return
		}
		rep.Hurt = append(rep.Hurt, err.Error())
	}
	for _, seg := range s.snapshot() {
		if err := seg.all(func(indexRecord) error { return nil }); err != nil {
			rep.Hurt = append(rep.Hurt, err.Error()+"; \"twinshelf shelf reindex\" makes it anew")
		}
	}
	rep.Hurt = append(rep.Hurt, s.Notes()...)
	s.checkCopies(rep, mend)
	s.checkReserve(rep, mend)
	var reads checked
	if _, err := s.readNote(checkedFile, &reads); err != nil { // it costs only reading again
		rep.Hurt = append(rep.Hurt, err.Error())
	}
	twins, _ := s.b.List("proofs")
	for _, t := range twins {
		_, problems := s.Proofs(t)
		for _, p := range problems {
			rep.Hurt = append(rep.Hurt, p.Error())
		}
	}
}

func (s *Shelf) snapshot() []*segment {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return slices.Clone(s.segments)
}

// checkPacks reads packs through, the ones that weren't read for longest first.
func (s *Shelf) checkPacks(ctx context.Context, kind CheckKind, rep *Report, bad map[Name]string, step func(done, total int64) error) error {
	names, err := s.b.List("packs")
	if err != nil {
		return err
	}
	was := s.lastReads()
	type pack struct {
		id   string
		size int64
	}
	var packs []pack
	present := map[string]bool{}
	total := int64(0)
	add := func(id string, size int64) {
		if !present[id] {
			packs, total = append(packs, pack{id, size}), total+size
		}
		present[id] = true
	}
	for _, n := range names {
		if id, ok := packID(n); ok {
			size, _, err := s.b.Stat("packs/" + n)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			add(id, size)
		}
	}
	for _, seg := range s.snapshot() { // also those that ought to be there
		for _, id := range seg.packs {
			add(id, 0)
		}
	}
	for id := range was.Read {
		if !present[id] {
			delete(was.Read, id)
		}
	}
	was.Broken = slices.DeleteFunc(was.Broken, func(id string) bool { return !present[id] })
	hurt := func(id string) int { // what an earlier check found hurt is read by every check, until it is mended
		if slices.Contains(was.Broken, id) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(packs, func(a, b pack) int {
		return cmp.Or(hurt(a.id)-hurt(b.id), was.Read[a.id].Compare(was.Read[b.id]), strings.Compare(a.id, b.id))
	})
	known := len(was.Broken)
	want := int64(kind.Share * float64(total))
	rep.Of = len(packs)
	defer func() {
		if len(packs) > 0 {
			rep.Oldest = time.Now()
			for _, p := range packs {
				if t := was.Read[p.id]; t.Before(rep.Oldest) {
					rep.Oldest = t
				}
			}
		}
	}()
	done := int64(0)
	for i, p := range packs {
		if kind.Share < 1 && done >= want && i >= known {
			break
		}
		ok, err := s.checkPack(ctx, p.id, kind.Mend, rep, bad)
		if err != nil {
			return err
		}
		done += p.size
		rep.Packs++
		rep.Bytes += p.size
		was.Broken = slices.DeleteFunc(was.Broken, func(id string) bool { return id == p.id })
		if ok {
			was.Read[p.id] = time.Now()
		}
		if rep.broken[p.id] != "" {
			was.Broken = append(was.Broken, p.id)
		}
		if i%saveEvery == saveEvery-1 || i == len(packs)-1 {
			_ = s.writeNote(checkedFile, was) // forgetting it costs only reading again
		}
		if step != nil {
			if err := step(done, max(want, done)); err != nil {
				_ = s.writeNote(checkedFile, was)
				return err
			}
		}
	}
	rep.Whole = rep.Packs == len(packs)
	if rep.Packs > 0 {
		_ = s.writeNote(checkedFile, was)
	}
	return nil
}

// KnownDamage is what an earlier check found hurt and nobody has mended yet, in words.
func (s *Shelf) KnownDamage() []string {
	var out []string
	for _, id := range s.lastReads().Broken {
		if _, _, err := s.b.Stat(packPath(id)); err == nil {
			out = append(out, fmt.Sprintf("%s was found damaged by a check and isn't mended; \"twinshelf shelf check --mend --from SHELF\" tries", packPath(id)))
		}
	}
	return out
}

// checkPack reads a pack through and has it mended when that is wanted and can be.
func (s *Shelf) checkPack(ctx context.Context, id string, mend bool, rep *Report, bad map[Name]string) (bool, error) {
	hurt, problem := s.readPack(ctx, id)
	if err := ctx.Err(); err != nil {
		return false, err
	}
	parityProblem := s.checkParity(id, problem == nil)
	if problem == nil && parityProblem == nil {
		return true, nil
	}
	if mend && problem == nil {
		if err := s.protect(id, packPath(id)); err == nil {
			rep.Mended = append(rep.Mended, parityPath(id))
			return true, s.journal(Event{What: "made " + parityPath(id) + " anew", Why: parityProblem.Error()})
		}
	}
	if mend && problem != nil {
		if err := s.mendPack(id); err == nil {
			if _, again := s.readPack(ctx, id); again == nil {
				rep.Mended = append(rep.Mended, packPath(id))
				return true, nil
			}
		} else if !errors.Is(err, fs.ErrNotExist) {
			problem = fmt.Errorf("%w (%w)", problem, err)
		}
	}
	if problem != nil {
		if rep.broken == nil {
			rep.broken = map[string]string{}
		}
		rep.broken[id] = problem.Error()
		if block := new(hurtBlock); !errors.As(problem, &block) { // its header or table: more than a block
			rep.costs(id)
		}
		s.letGo(id) // what is read below comes from the medium
	}
	if parityProblem != nil && problem == nil {
		rep.Hurt = append(rep.Hurt, parityProblem.Error())
	}
	for _, n := range hurt {
		if len(bad) < keptMissing && !s.readable(n) { // it may stand elsewhere too
			bad[n] = packPath(id) + " is damaged there"
			rep.costs(id)
		}
	}
	return false, nil
}

// checkParity compares a sound pack with its parity file, and reads that one.
func (s *Shelf) checkParity(id string, sound bool) error {
	p, err := s.openParity(id)
	if err != nil {
		return err
	}
	defer p.r.Close()
	b := make([]byte, cellLen)
	for at := range p.groups * p.parity {
		if n, _ := p.r.ReadAt(b, p.base+int64(at)*cellLen); n < cellLen || sumOf(b) != p.sum(p.cells+at) {
			return &Hurt{parityPath(id), p.base + int64(at)*cellLen, "a parity cell isn't what was written"}
		}
	}
	if p.r.Size() != p.base+int64(p.groups*p.parity)*cellLen {
		return &Hurt{parityPath(id), p.base, fmt.Sprintf("it has %d bytes", p.r.Size())}
	}
	if !sound {
		return nil
	}
	r, err := s.b.Open(packPath(id))
	if err != nil {
		return err
	}
	defer r.Close()
	if r.Size() != p.size || len(p.hurt(r)) > 0 {
		return &Hurt{packPath(id), 0, "it isn't what its parity remembers"}
	}
	return nil
}

// readPack reads every byte of a pack; it gives what is wrong first, and the names of
// the blocks that can't be had from it, as far as the index knows them.
func (s *Shelf) readPack(ctx context.Context, id string) (hurt []Name, problem error) {
	file := packPath(id)
	r, err := s.b.Open(file)
	if err != nil {
		return s.namesIn(id, nil), fmt.Errorf("%s can't be opened: %w", file, err)
	}
	defer r.Close()
	good := map[int64]bool{}
	var entries []packEntry
	h := make([]byte, headerLen)
	if n, _ := r.ReadAt(h, 0); n < headerLen {
		return s.namesIn(id, good), &Hurt{file, 0, "it is cut off"}
	}
	if _, err := decodeHeader(file, h, kindPack); err != nil {
		problem = err
	}
	// Where blocks begin is known from the pack's own table, or else from the index, which is long.
	table, whole := tableOf(r)
	var known []int64
	for _, e := range table {
		known = append(known, e.offset)
	}
	if !whole {
		known = s.offsets(id)
	}
	off := int64(headerLen)
	buf := getBuffer(0)
	defer putBuffer(buf)
	for ctx.Err() == nil {
		if whole && len(entries) == len(table) {
			break
		}
		e, stored, err := readEntry(file, r, off, buf)
		if err == nil {
			good[off] = true
			entries = append(entries, packEntry{e.name, off, e.stored, e.plain})
			off += entryLen + stored
			continue
		}
		// The end of the entries, or a hurt one: go on where the next is known to be.
		i, found := slices.BinarySearch(known, off)
		if found {
			if problem == nil {
				problem = &hurtBlock{err}
			}
			i++
		}
		if i >= len(known) {
			break
		}
		off = known[i]
	}
	if problem == nil && (!whole || !slices.Equal(table, entries)) {
		problem = &Hurt{file, off, "the table at its end isn't what was written"}
	}
	if problem == nil {
		return nil, nil
	}
	return s.namesIn(id, good), problem
}

// hurtBlock is a problem with one block of a pack, where the rest of it may be sound.
type hurtBlock struct{ error }

func (h *hurtBlock) Unwrap() error { return h.error }

// readEntry reads and checks one entry into buf.
func readEntry(file string, r Reader, off int64, buf *buffer) (entryHeader, int64, error) {
	if cap(buf.b) < entryLen {
		buf.b = make([]byte, entryLen)
	}
	b := buf.b[:entryLen]
	if n, _ := r.ReadAt(b, off); n < entryLen {
		return entryHeader{}, 0, &Hurt{file, off, "it is cut off"}
	}
	e, err := decodeEntry(file, off, b)
	if err != nil {
		return e, 0, err
	}
	if e.stored > 2*maxBlock {
		return e, 0, &Hurt{file, off, "a block of impossible size"}
	}
	if cap(buf.b) < int(e.stored) {
		buf.b = make([]byte, e.stored)
	}
	b = buf.b[:e.stored]
	if n, _ := r.ReadAt(b, off+entryLen); n < len(b) || crc32.Checksum(b, castagnoli) != e.dataCRC {
		return e, 0, &Hurt{file, off, "a block isn't what was written"}
	}
	return e, int64(e.stored), nil
}

// offsets are where the index says that blocks of a pack begin.
func (s *Shelf) offsets(id string) []int64 {
	var out []int64
	s.recordsOf(id, func(r indexRecord) { out = append(out, r.offset) })
	slices.Sort(out)
	return slices.Compact(out)
}

// namesIn are the blocks that the index places in a pack, but for those at good offsets.
func (s *Shelf) namesIn(id string, good map[int64]bool) []Name {
	var out []Name
	s.recordsOf(id, func(r indexRecord) {
		if !good[r.offset] {
			out = append(out, r.name)
		}
	})
	return out
}

func (s *Shelf) recordsOf(id string, do func(indexRecord)) {
	for _, seg := range s.snapshot() {
		if _, in := slices.BinarySearch(seg.packs, id); !in && seg.file != "packs" {
			continue
		}
		_ = seg.all(func(r indexRecord) error {
			if r.pack == id {
				do(r)
			}
			return nil
		})
	}
}

// locate names what the twins miss.
func (s *Shelf) locate(ctx context.Context, twins []*Twin, bad map[Name]string, rep *Report) {
	lost := map[Name]bool{}
	for _, t := range twins {
		for i := range t.Disks {
			d, err := s.OpenDisk(t, i)
			if err != nil {
				continue
			}
			for p, err := range d.Pieces() {
				if ctx.Err() != nil {
					return
				}
				why := ""
				if err != nil {
					why = "its block map can't be read: " + err.Error()
				} else if p.Kind == disk.Data {
					n, err := ParseName(p.Name)
					if err != nil {
						continue
					}
					if why = bad[n]; why != "" {
						lost[n] = true
					}
				}
				if why == "" {
					continue
				}
				r := d.region(p.Start)
				if k := len(rep.Damage); k > 0 { // neighbours come as one
					last := &rep.Damage[k-1]
					if last.Twin == t.ID && last.Disk == i+1 && last.Part == r.Part && last.Span.End == p.Start && last.Why == why {
						last.Span.End = p.End
						continue
					}
				}
				if len(rep.Damage) < maxDamage {
					rep.Damage = append(rep.Damage, Damage{t.Machine, t.ID, t.Taken, i + 1, r.Part, r.Title(), p.Span, why})
				}
			}
		}
	}
	rep.Lost = len(lost)
}
