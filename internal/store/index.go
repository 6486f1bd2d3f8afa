package store

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"twinshelf/internal/store/backend"
)

const indexFolder = "index"

// index knows where blocks are: by the segments in the index's files, by those of sessions that are going on here, and
// by packs that none of the files covers.
type index struct {
	b     backend.Backend
	ring  *keyring
	files *files
	locks *locks
	note  func(string) // takes what is found amiss

	mu       sync.RWMutex
	segments []*segment
	loaded   []string   // files of the index that were loaded
	loose    []byte     // the segment of packs that no index file covers
	looseAt  *segment   // the same, among segments
	users    int        // of snapshots
	replaced []*segment // that users of snapshots may still be reading
}

func (x *index) close() {
	x.mu.Lock()
	defer x.mu.Unlock()
	closeAll(x.segments)
	closeAll(x.replaced)
	x.segments, x.replaced = nil, nil
}

func closeAll(segments []*segment) {
	for _, seg := range segments {
		seg.r.Close()
	}
}

// snapshot are the segments of this moment. They stay open until done is called, also when others take their place.
func (x *index) snapshot() (segments []*segment, done func()) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.users++
	return slices.Clone(x.segments), sync.OnceFunc(func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.users--
		x.retire(nil)
	})
}

// retire closes segments that others took the place of, as soon as nobody reads them any more. mu is held.
func (x *index) retire(old []*segment) {
	x.replaced = append(x.replaced, old...)
	if x.users > 0 {
		return
	}
	closeAll(x.replaced)
	x.replaced = nil
}

// count is the number of entries.
func (x *index) count() (n int) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, seg := range x.segments {
		n += seg.count
	}
	return n
}

// knows says whether any segment has a block.
func (x *index) knows(ctx context.Context, n Name) (bool, error) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	var problem error
	for _, seg := range slices.Backward(x.segments) {
		p, err := seg.find(ctx, n)
		if len(p) > 0 {
			return true, nil
		}
		problem = errors.Join(problem, err)
	}
	return false, problem
}

// places are all places of a block, the latest segment's first.
func (x *index) places(ctx context.Context, n Name) (out []place, problem error) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, seg := range slices.Backward(x.segments) {
		found, err := seg.find(ctx, n)
		for _, p := range found {
			if !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
		problem = errors.Join(problem, err)
	}
	return out, problem
}

// of gives the records of one pack.
func (x *index) of(ctx context.Context, id string, do func(indexRecord)) {
	segments, done := x.snapshot()
	defer done()
	for _, seg := range segments {
		if _, in := slices.BinarySearch(seg.packs, id); !in {
			continue
		}
		_ = seg.all(ctx, func(_ int, r indexRecord) error {
			if r.pack == id {
				do(r)
			}
			return nil
		})
	}
}

// add puts a segment on the medium, in a file of the index, and opens it. It isn't among the segments yet.
func (x *index) add(ctx context.Context, l *Lock, encoded []byte) (*segment, error) {
	file := indexFolder + "/" + newID() + ".index"
	if err := x.files.put(ctx, l, file, encoded); err != nil {
		return nil, fmt.Errorf("the index can't be written: %w", err)
	}
	return x.openFile(ctx, file)
}

func (x *index) openFile(ctx context.Context, file string) (*segment, error) {
	r, err := backend.Open(ctx, x.b, file)
	if err != nil {
		return nil, err
	}
	seg, err := x.ring.openSegment(ctx, file, r, r.Size())
	if err != nil {
		r.Close()
	}
	return seg, err
}

// load opens the segments and looks at the packs that none of them covers. Somebody may be shortening the index
// meanwhile, so a file that vanishes is a reason to look again.
func (x *index) load(ctx context.Context) error {
	var err error
	for range tries {
		if err = x.tryLoad(ctx); !errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	return err
}

func (x *index) tryLoad(ctx context.Context) error {
	names, err := x.b.List(ctx, indexFolder)
	if err != nil {
		return fmt.Errorf("the index can't be listed: %w", err)
	}
	segments, problems, err := x.openAll(ctx, names)
	if err != nil {
		return err
	}
	loose, more, err := x.looseRecords(ctx, coveredBy(segments))
	if err == nil {
		err = x.missPacks(ctx, segments)
	}
	var encoded []byte
	var looseAt *segment
	if err == nil && len(loose) > 0 {
		encoded = x.ring.encodeSegment(sortRecords(loose))
		at := local{bytes.NewReader(encoded)}
		looseAt, err = x.ring.openSegment(ctx, "packs that no file of the index covers", at, int64(len(encoded)))
	}
	if err != nil {
		closeAll(segments)
		return err
	}
	if looseAt != nil {
		segments = append(segments, looseAt)
	}
	x.segments, x.loaded, x.loose, x.looseAt = segments, names, encoded, looseAt
	for _, n := range append(problems, more...) {
		x.note(n)
	}
	return nil
}

// openAll opens the files of the index. What is wrong with one that is hurt is a problem, in words.
func (x *index) openAll(ctx context.Context, names []string) (segments []*segment, problems []string, err error) {
	type opened struct {
		seg *segment
		err error
	}
	all := make([]opened, len(names))
	backend.Each(x.b, len(names), func(i int) {
		all[i].seg, all[i].err = x.openFile(ctx, indexFolder+"/"+names[i])
	})
	for i, o := range all {
		switch {
		case o.err == nil:
			segments = append(segments, o.seg)
		case IsHurt(o.err):
			problems = append(problems, o.err.Error()+"; its packs are looked at instead")
		default:
			err = errors.Join(err, fmt.Errorf("%s can't be opened: %w", indexFolder+"/"+names[i], o.err))
		}
	}
	if err != nil {
		closeAll(segments)
		return nil, nil, err
	}
	return segments, problems, nil
}

// missPacks notes which packs that the segments name aren't there: what stood in them is not known to the store, and is
// stored again when it comes.
func (x *index) missPacks(ctx context.Context, segments []*segment) error {
	there, err := x.packIDs(ctx)
	if err != nil {
		return err
	}
	for _, seg := range segments {
		for _, p := range seg.packs {
			if _, found := slices.BinarySearch(there, p); found {
				continue
			}
			// A listing may be behind.
			if _, err := x.b.Stat(ctx, packPath(p)); err == nil {
				continue
			} else if !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			if seg.gone == nil {
				seg.gone = map[string]bool{}
			}
			seg.gone[p] = true
		}
	}
	return nil
}

// packs are the IDs of the packs that are there, ascending.
func (x *index) packIDs(ctx context.Context) ([]string, error) {
	names, err := x.b.List(ctx, packFolder)
	if err != nil {
		return nil, fmt.Errorf("the packs can't be listed: %w", err)
	}
	var ids []string
	for _, n := range names {
		if id, ok := packID(n); ok {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids, nil
}

// packSizes are the sizes of the packs that are there, in bytes, by ID.
func (x *index) packSizes(ctx context.Context) (map[string]int64, error) {
	entries, err := backend.Entries(ctx, x.b, packFolder)
	if err != nil {
		return nil, fmt.Errorf("the packs can't be listed: %w", err)
	}
	sizes := map[string]int64{}
	for _, e := range entries {
		if id, ok := packID(e.Name); ok {
			sizes[id] = e.Size
		}
	}
	return sizes, nil
}

func packID(file string) (string, bool) {
	id, ok := strings.CutSuffix(file, ".pack")
	if _, err := hex.DecodeString(id); err != nil || len(id) != 2*packIDLen {
		return "", false
	}
	return id, ok
}

// looseRecords looks at the packs that no segment covers, but for those that somebody is still writing: they may vanish
// again. Who writes is asked last, and only where it matters: whoever has ended by then has left its packs for good.
func (x *index) looseRecords(ctx context.Context,
	covered map[string]bool) (records []indexRecord, problems []string, err error) {
	ids, err := x.packIDs(ctx)
	if err != nil {
		return nil, nil, err
	}
	ids = slices.DeleteFunc(ids, func(id string) bool { return covered[id] })
	if len(ids) == 0 {
		return nil, nil, nil
	}
	live, err := x.locks.holders(ctx, "")
	if err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		if slices.ContainsFunc(live, func(h Holder) bool { return h.writes(id) }) {
			continue
		}
		r, err := packRecords(ctx, x.b, id)
		switch {
		case ctx.Err() != nil:
			return nil, nil, ctx.Err()
		case errors.Is(err, fs.ErrNotExist): // its writer took it back
		case err != nil:
			problems = append(problems, err.Error())
		default:
			records = append(records, r...)
		}
	}
	return records, problems, nil
}

// writes says whether a pack is one that the holder of a lock is writing.
func (h Holder) writes(pack string) bool {
	return strings.HasPrefix(pack, h.ID[:min(len(h.ID), packIDLen)])
}

// refresh loads the index again when its files are others than those that were loaded, as after a capture or a giving
// back of space by somebody else.
func (x *index) refresh(ctx context.Context) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	names, err := x.b.List(ctx, indexFolder)
	if err != nil {
		return err
	}
	if slices.Equal(names, x.loaded) && x.loose == nil {
		if loose, _, err := x.looseRecords(ctx, coveredBy(x.segments)); err != nil || len(loose) == 0 {
			return err
		}
	}
	old := x.segments
	if err := x.load(ctx); err != nil {
		return err
	}
	var gone []*segment
	for _, seg := range old {
		if seg.pending { // of a session that is going on here
			x.segments = append(x.segments, seg)
		} else {
			gone = append(gone, seg)
		}
	}
	x.retire(gone)
	return nil
}

// hasLoaded takes note that a file of the index is among the segments. mu is held.
func (x *index) hasLoaded(file string) {
	name := strings.TrimPrefix(file, indexFolder+"/")
	if at, known := slices.BinarySearch(x.loaded, name); !known {
		x.loaded = slices.Insert(x.loaded, at, name)
	}
}

// coveredBy are the packs that segments name.
func coveredBy(segments []*segment) map[string]bool {
	covered := map[string]bool{}
	for _, seg := range segments {
		for _, p := range seg.packs {
			covered[p] = true
		}
	}
	return covered
}

// adopt writes the segment for packs that had none.
func (x *index) adopt(ctx context.Context, l *Lock) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.loose == nil {
		return nil
	}
	seg, err := x.add(ctx, l, x.loose)
	if err != nil {
		return err
	}
	x.segments[slices.Index(x.segments, x.looseAt)] = seg
	x.retire([]*segment{x.looseAt})
	x.loose, x.looseAt = nil, nil
	return nil
}

// shorten makes one segment of the smaller ones when there are many: the large ones, which everybody has copies of, are
// written anew rarely. It streams: memory is one bucket for each segment and the buffer.
func (x *index) shorten(ctx context.Context, l *Lock) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.segments) <= maxSegments || !backend.MayDelete(ctx, x.b) { // who may only add leaves it to others
		return nil
	}
	small, large := tiers(x.segments)
	everything := func(*segment, int, indexRecord) bool { return true }
	merged, err := x.merge(ctx, l, small, packsOf(small, nil), everything)
	if err != nil {
		return err
	}
	var old []string
	for _, seg := range small {
		if seg != x.looseAt {
			old = append(old, strings.TrimPrefix(seg.file, indexFolder+"/"))
		}
	}
	return x.replaceBy(ctx, l, append(large, merged), old)
}

// grows is by how much a segment is larger at the least than all smaller ones together that are left beside it.
const grows = 2

// tiers parts segments into the smaller ones, which are merged, and the larger ones, each of which is as large as all
// before it together, and more. One that lies in no file is always merged.
func tiers(segments []*segment) (small, large []*segment) {
	sorted := slices.Clone(segments)
	slices.SortStableFunc(sorted, func(a, b *segment) int { return cmp.Compare(a.count, b.count) })
	sum, n := 0, 0
	for i, seg := range sorted {
		if i <= len(segments)-maxSegments || seg.count < grows*sum || !strings.HasPrefix(seg.file, indexFolder+"/") {
			n = i + 1
		}
		sum += seg.count
	}
	return sorted[:n], slices.Clone(sorted[n:])
}

// replaceBy makes fresh segments all of the index, and removes its old files. mu is held.
func (x *index) replaceBy(ctx context.Context, l *Lock, fresh []*segment, old []string) error {
	var names []string
	for _, seg := range fresh {
		names = append(names, strings.TrimPrefix(seg.file, indexFolder+"/"))
	}
	slices.Sort(names)
	for _, n := range old {
		if slices.Contains(names, n) {
			continue
		}
		if err := l.Held(ctx); err != nil {
			return err
		}
		if err := x.b.Delete(ctx, indexFolder+"/"+n); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := x.b.Settle(ctx, indexFolder); err != nil {
		return err
	}
	x.retire(slices.DeleteFunc(x.segments, func(seg *segment) bool { return slices.Contains(fresh, seg) }))
	x.segments, x.loaded, x.loose, x.looseAt = fresh, names, nil, nil
	return nil
}

// replaceAll is replaceBy for work that is alone: whatever else lies in the index goes.
func (x *index) replaceAll(ctx context.Context, l *Lock, fresh []*segment) error {
	old, err := x.b.List(ctx, indexFolder)
	if err != nil {
		return err
	}
	return x.replaceBy(ctx, l, fresh, old)
}

// packsOf are the packs that segments name, but for the unwanted ones, ascending.
func packsOf(segments []*segment, unwanted map[string]bool) []string {
	var packs []string
	for _, seg := range segments {
		for _, p := range seg.packs {
			if !unwanted[p] {
				packs = append(packs, p)
			}
		}
	}
	slices.Sort(packs)
	return slices.Compact(packs)
}

// keeper says whether a merged segment gets an entry: that of a number in a segment.
type keeper func(seg *segment, number int, r indexRecord) bool

// merge writes the merged segment of those entries that keep wants, in two passes: the directory needs the counts and
// checksums of all buckets.
func (x *index) merge(ctx context.Context, l *Lock, from []*segment, packs []string,
	keep keeper) (merged *segment, err error) {
	err = x.files.withRoom(ctx, func() (err error) {
		merged, err = x.tryMerge(ctx, l, merging{from, packs, keep})
		return err
	})
	return merged, err
}

// merging is what a merged segment is made of.
type merging struct {
	from  []*segment
	packs []string
	keep  keeper
}

// bucket gives the entries of a bucket of the merged segment.
func (m merging) bucket(ctx context.Context, b int) (entries []byte, count int, err error) {
	var records []indexRecord
	for _, seg := range m.from {
		p, err := seg.bucket(ctx, b)
		if err != nil {
			return nil, 0, err
		}
		for n := seg.first(b); len(p) > 0; n, p = n+1, p[indexEntry:] {
			if r := seg.record(p); m.keep(seg, n, r) {
				records = append(records, r)
			}
		}
	}
	records = sortRecords(records)
	for _, r := range records {
		entries = appendRecord(entries, r, m.packs)
	}
	return entries, len(records), nil
}

func (x *index) tryMerge(ctx context.Context, l *Lock, m merging) (*segment, error) {
	nonce := x.ring.freshNonce()
	d := directory{packs: m.packs}
	for b := range buckets {
		p, n, err := m.bucket(ctx, b)
		if err != nil {
			return nil, err
		}
		d.add(d.total+n, x.ring.bucketCheck(nonce, b, p))
	}
	head, dir := x.ring.frameIndex(nonce, d.encode(), d.total*indexEntry)
	file := indexFolder + "/" + newID() + ".index"
	u, err := x.b.Create(ctx, file, backend.Options{Owner: l.owner()})
	if err != nil {
		return nil, err
	}
	defer u.Abort()
	w := bufio.NewWriterSize(u, 1<<20) // remembers the first error
	_, _ = w.Write(head)
	_, _ = w.Write(dir)
	for b := range buckets {
		p, _, err := m.bucket(ctx, b)
		if err != nil {
			return nil, err
		}
		x.ring.bucketCheck(nonce, b, p) // seals it as in the first pass
		_, _ = w.Write(p)
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	if err := commit(ctx, l, u); err != nil {
		return nil, err
	}
	return x.openFile(ctx, file)
}

// commit makes an upload visible while a lock is held.
func commit(ctx context.Context, l *Lock, u backend.Upload) error {
	if err := u.Sync(ctx); err != nil {
		return err
	}
	if err := l.Held(ctx); err != nil {
		return err
	}
	return u.Commit(ctx)
}

// without writes one segment of everything but what is unwanted.
func (x *index) without(ctx context.Context, l *Lock, unwanted func(Name) bool) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	merged, err := x.merge(ctx, l, x.segments, packsOf(x.segments, nil), func(_ *segment, _ int, r indexRecord) bool {
		return !unwanted(r.name)
	})
	if err != nil {
		return err
	}
	return x.replaceAll(ctx, l, []*segment{merged})
}
