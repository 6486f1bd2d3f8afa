package store

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

	"twinshelf/internal/store/backend"
)

// saveEvery is after how many packs a round is remembered.
const saveEvery = 16

// Round reads the packs of a store through, the ones that weren't read for longest first, after those that an earlier
// check found hurt: they are read by every check until they are mended.
type Round struct {
	p     *packs
	packs []packSize
	was   Reads
	// Known is how many packs stand first because they are known to be hurt.
	Known int
	// Total is the size of all packs, in bytes.
	Total int64
	next  int
}

type packSize struct {
	id   string
	size int64
}

// NewRound begins a round over all packs: those that are there, and those that ought to be.
func (p *packs) NewRound(ctx context.Context) (*Round, error) {
	sizes, err := p.index.packSizes(ctx)
	if err != nil {
		return nil, err
	}
	r := &Round{p: p}
	r.was, _ = p.Reads(ctx)
	present := map[string]bool{}
	for _, id := range slices.Sorted(maps.Keys(sizes)) {
		present[id] = true
		r.packs, r.Total = append(r.packs, packSize{id, sizes[id]}), r.Total+sizes[id]
	}
	segments, done := p.index.snapshot()
	done()
	for id := range coveredBy(segments) {
		if !present[id] {
			present[id] = true
			r.packs = append(r.packs, packSize{id, 0})
		}
	}
	for id := range r.was.Read {
		if !present[id] {
			delete(r.was.Read, id)
		}
	}
	r.was.Broken = slices.DeleteFunc(r.was.Broken, func(id string) bool { return !present[id] })
	r.Known = len(r.was.Broken)
	r.order()
	return r, nil
}

func (r *Round) order() {
	hurt := func(id string) int {
		if slices.Contains(r.was.Broken, id) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(r.packs, func(a, b packSize) int {
		return cmp.Or(hurt(a.id)-hurt(b.id), r.was.Read[a.id].Compare(r.was.Read[b.id]), strings.Compare(a.id, b.id))
	})
}

// Len is the number of packs.
func (r *Round) Len() int { return len(r.packs) }

// Oldest is when the pack that wasn't read for longest was read last; zero for never, and where there are no packs.
func (r *Round) Oldest() time.Time {
	if len(r.packs) == 0 {
		return time.Time{}
	}
	oldest := time.Now()
	for _, p := range r.packs {
		if t := r.was.Read[p.id]; t.Before(oldest) {
			oldest = t
		}
	}
	return oldest
}

// PackCheck is what reading one pack through came to.
type PackCheck struct {
	ID   string
	File string
	Size int64 // bytes
	// Mended are the files that were put back as they were, and Why says of each what had been wrong with it.
	Mended []string
	Why    error
	// Problem is what is wrong with the pack and couldn't be mended, Parity what is wrong with only its parity.
	Problem, Parity error
	// Lost are the blocks that can't be had any more, neither from here nor from elsewhere.
	Lost []Name
	// Costly says that something of the pack can't be had elsewhere.
	Costly bool
}

// Next reads the next pack, mends it when that is wanted and can be, and remembers the result.
func (r *Round) Next(ctx context.Context, mend bool) (PackCheck, error) {
	p := r.packs[r.next]
	c := PackCheck{ID: p.id, File: packPath(p.id), Size: p.size}
	if err := r.p.checkPack(ctx, &c, mend); err != nil {
		return c, err
	}
	r.next++
	r.was.Broken = slices.DeleteFunc(r.was.Broken, func(id string) bool { return id == p.id })
	switch {
	case c.Problem != nil:
		r.was.Broken = append(r.was.Broken, p.id)
	case c.Parity == nil:
		r.was.Read[p.id] = time.Now()
	}
	if r.next%saveEvery == 0 {
		r.Save(ctx)
	}
	return c, nil
}

// Save remembers what was read so far.
func (r *Round) Save(ctx context.Context) { r.p.remember(ctx, r.was) }

// checkPack reads a pack through and has it mended when that is wanted and can be. The error is the context's.
func (p *packs) checkPack(ctx context.Context, c *PackCheck, mend bool) error {
	hurt, problem := p.readPack(ctx, c.ID)
	parityProblem := p.checkParity(ctx, c.ID, problem == nil)
	if err := ctx.Err(); err != nil {
		return err
	}
	if problem == nil && parityProblem == nil {
		return nil
	}
	if mend {
		mended, err := p.mend(ctx, c.ID, problem)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err == nil {
			c.Mended, c.Why = []string{mended}, errors.Join(problem, parityProblem)
			return nil
		}
		if problem != nil && !errors.Is(err, fs.ErrNotExist) {
			problem = fmt.Errorf("%w (%w)", problem, err)
		}
	}
	if problem == nil {
		c.Parity = parityProblem
		return nil
	}
	c.Problem = problem
	block := new(hurtBlockError)
	c.Costly = !errors.As(problem, &block) // its header or table: more than a block
	p.letGo(c.ID)                          // what is read below comes from the medium
	for _, n := range hurt {
		if len(c.Lost) < MostMissing && !p.Readable(ctx, n) { // it may stand elsewhere too
			c.Lost, c.Costly = append(c.Lost, n), true
		}
	}
	return ctx.Err()
}

// mend puts a hurt pack back as it was, or makes the parity of a sound one anew, and gives the file.
func (p *packs) mend(ctx context.Context, id string, problem error) (string, error) {
	l, err := p.locks.Exclusive(ctx, "mending a pack")
	if err != nil {
		return "", err
	}
	defer l.Release()
	if problem == nil {
		r, err := backend.Open(ctx, p.b, packPath(id))
		if err != nil {
			return "", err
		}
		defer r.Close()
		return parityPath(id), p.protect(ctx, l, id, r.At(ctx), r.Size())
	}
	if err := p.mendPack(ctx, l, id); err != nil {
		return "", err
	}
	_, again := p.readPack(ctx, id)
	return packPath(id), again
}

// checkParity reads the parity file of a pack, and compares it with a pack that is sound.
func (p *packs) checkParity(ctx context.Context, id string, sound bool) error {
	par, err := openParity(ctx, p.b, id)
	if err != nil {
		return err
	}
	defer par.r.Close()
	b := make([]byte, cellLen)
	for at := range par.groups * par.parity {
		if !par.parityCell(ctx, at, b) {
			return &HurtError{parityPath(id), par.base + int64(at)*cellLen, "a parity cell isn't what was written"}
		}
	}
	if par.r.Size() != par.base+int64(par.groups*par.parity)*cellLen {
		return &HurtError{parityPath(id), par.base, fmt.Sprintf("it has %d bytes", par.r.Size())}
	}
	if !sound {
		return nil
	}
	r, err := backend.Open(ctx, p.b, packPath(id))
	if err != nil {
		return err
	}
	defer r.Close()
	if r.Size() != par.size || len(par.hurt(r.At(ctx))) > 0 {
		return &HurtError{packPath(id), 0, "it isn't what its parity remembers"}
	}
	return nil
}

// readPack reads every byte of a pack; it gives what is wrong first, and the names of the blocks that can't be had from
// it, as far as the index knows them.
func (p *packs) readPack(ctx context.Context, id string) (hurt []Name, problem error) {
	file := packPath(id)
	r, err := backend.Open(ctx, p.b, file)
	if err != nil {
		return p.namesIn(ctx, id, nil), fmt.Errorf("%s can't be opened: %w", file, err)
	}
	defer r.Close()
	w := &packWalk{file: file, r: r, good: map[int64]bool{}}
	h := make([]byte, headerLen)
	if n, _ := r.ReadAt(ctx, h, 0); n < headerLen {
		return p.namesIn(ctx, id, w.good), &HurtError{file, 0, "it is cut off"}
	}
	_, w.problem = decodeHeader(file, h, kindPack)
	// Where blocks begin is known from the pack's own table, or else from the index, which is long.
	table, whole := tableOf(r.At(ctx), r.Size())
	var known []int64
	for _, e := range table {
		known = append(known, e.offset)
	}
	if !whole {
		known = p.offsets(ctx, id)
	}
	w.walk(ctx, known, len(table), whole)
	if w.problem == nil && (!whole || !slices.Equal(table, w.entries)) {
		w.problem = &HurtError{file, w.off, "the table at its end isn't what was written"}
	}
	if w.problem == nil {
		return nil, ctx.Err()
	}
	return p.namesIn(ctx, id, w.good), w.problem
}

// packWalk goes through a pack from entry to entry.
type packWalk struct {
	file    string
	r       *backend.Handle
	off     int64
	entries []packEntry
	good    map[int64]bool // offsets of entries that are as they were written
	problem error          // the first
}

// walk reads entries; known are offsets of entries, ascending, and whole says that those are all, count of them.
func (w *packWalk) walk(ctx context.Context, known []int64, count int, whole bool) {
	w.off = headerLen
	buf := getBuffer(0)
	defer putBuffer(buf)
	for ctx.Err() == nil {
		if whole && len(w.entries) == count {
			return
		}
		e, err := readEntry(ctx, w.file, w.r, w.off, buf)
		if err == nil {
			w.good[w.off] = true
			w.entries = append(w.entries, packEntry{e.name, w.off, e.stored, e.plain})
			w.off += entryLen + int64(e.stored)
			continue
		}
		// The end of the entries, or a hurt one: go on where the next is known to be.
		i, found := slices.BinarySearch(known, w.off)
		if found {
			if w.problem == nil {
				w.problem = &hurtBlockError{err}
			}
			i++
		}
		if i >= len(known) {
			return
		}
		w.off = known[i]
	}
}

// hurtBlockError is a problem with one block of a pack, where the rest of it may be sound.
type hurtBlockError struct{ error }

func (h *hurtBlockError) Unwrap() error { return h.error }

// readEntry reads and checks one entry into buf.
func readEntry(ctx context.Context, file string, r *backend.Handle, off int64, buf *buffer) (entryHeader, error) {
	if cap(buf.b) < entryLen {
		buf.b = make([]byte, entryLen)
	}
	b := buf.b[:entryLen]
	if n, _ := r.ReadAt(ctx, b, off); n < entryLen {
		return entryHeader{}, &HurtError{file, off, "it is cut off"}
	}
	e, err := decodeEntry(file, off, b)
	if err != nil {
		return e, err
	}
	if e.stored > 2*MaxBlock {
		return e, &HurtError{file, off, "a block of impossible size"}
	}
	if cap(buf.b) < int(e.stored) {
		buf.b = make([]byte, e.stored)
	}
	b = buf.b[:e.stored]
	if n, _ := r.ReadAt(ctx, b, off+entryLen); n < len(b) || crc32.Checksum(b, castagnoli) != e.dataCRC {
		return e, &HurtError{file, off, "a block isn't what was written"}
	}
	return e, nil
}

// offsets are where the index says that blocks of a pack begin.
func (p *packs) offsets(ctx context.Context, id string) []int64 {
	var out []int64
	p.index.of(ctx, id, func(r indexRecord) { out = append(out, r.offset) })
	slices.Sort(out)
	return slices.Compact(out)
}

// namesIn are the blocks that the index places in a pack, but for those at good offsets.
func (p *packs) namesIn(ctx context.Context, id string, good map[int64]bool) []Name {
	var out []Name
	p.index.of(ctx, id, func(r indexRecord) {
		if !good[r.offset] {
			out = append(out, r.name)
		}
	})
	return out
}

// CheckIndex reads the whole index, and gives what is wrong with its files.
func (x *index) CheckIndex(ctx context.Context) (problems []error) {
	segments, done := x.snapshot()
	defer done()
	for _, seg := range segments {
		if err := seg.all(ctx, func(int, indexRecord) error { return nil }); err != nil {
			problems = append(problems, err)
		}
	}
	return problems
}

// NeededPacks are the packs of which something is marked.
func (m *Marking) NeededPacks(ctx context.Context) (map[string]bool, error) {
	needed := map[string]bool{}
	var problem error
	for i, seg := range m.segments {
		problem = errors.Join(problem, seg.all(ctx, func(n int, r indexRecord) error {
			if m.has(i, n) {
				needed[r.pack] = true
			}
			return nil
		}))
	}
	return needed, problem
}
