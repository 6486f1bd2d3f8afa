package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"

	"twinshelf/internal/store/backend"
)

// flushAt is how many new blocks a session remembers before it writes a segment of them: about 20 MB of memory.
const flushAt = 200_000

// DefaultPack is about how large a pack becomes, in bytes.
const DefaultPack = 256 << 20

// closingPacks is how many packs are synced at once.
const closingPacks = 2

// Session is the right to add to a store. Put may be called from many goroutines; then exactly one of Commit, Finish
// and Abort.
type Session struct {
	s          *Store
	lock       *Lock
	compressor *compressor // nil in a session that copies blocks as they stand

	mu    sync.Mutex // guards fresh and err
	fresh map[Name]struct{}
	err   error

	packMu  sync.Mutex // guards the pack being written
	id      string
	w       backend.Upload
	at      int64
	entries []packEntry

	closing  sync.WaitGroup
	slots    chan struct{} // packs being synced at once
	doneMu   sync.Mutex    // guards what follows
	done     []indexRecord // in finished packs, not yet in a segment
	packs    []string      // finished in this session
	segments []*sessionSegment
}

// sessionSegment is a segment that a session has written and that isn't in the index yet.
type sessionSegment struct {
	*segment
	file string // where it will lie
	u    backend.Upload
}

// Begin takes the lock for the capture of a machine and starts adding. Packs that a killed writer finished are kept:
// their blocks needn't be written again.
func (s *Store) Begin(ctx context.Context, machine string) (*Session, error) {
	l, err := s.Acquire(ctx, Holder{What: "a capture", Machine: machine})
	if err != nil {
		return nil, s.cantWrite(err)
	}
	c, err := s.begin(ctx, l)
	if err != nil {
		l.Release()
		return nil, s.cantWrite(err)
	}
	return c, nil
}

func (s *Store) cantWrite(err error) error {
	return fmt.Errorf("the shelf in %s can't be written: %w", s.b.Place(), err)
}

func (s *Store) begin(ctx context.Context, l *Lock) (*Session, error) {
	if err := s.index.refresh(ctx); err != nil {
		return nil, err
	}
	if err := s.index.adopt(ctx, l); err != nil {
		return nil, err
	}
	l.aside.Go(func() { s.KeepReserve(ctx) })
	c := s.copying(l)
	c.compressor = &compressor{}
	return c, nil
}

// copying is a session that copies blocks as they stand.
func (s *Store) copying(l *Lock) *Session {
	return &Session{s: s, lock: l, fresh: map[Name]struct{}{}, slots: make(chan struct{}, closingPacks)}
}

// Put stores a block unless the store has it, and returns its name and the bytes it added to the store (0 when it was
// there).
func (c *Session) Put(ctx context.Context, plain []byte) (Name, int64, error) {
	n, stored, err := c.PutBy(ctx, plain, Usual)
	return n, stored.Bytes, err
}

// PutBy is Put with an effort for packing.
func (c *Session) PutBy(ctx context.Context, plain []byte, e Effort) (Name, Stored, error) {
	n := c.s.ring.nameOf(plain)
	if known, err := c.known(n); known || err != nil {
		return n, Stored{}, err
	}
	// A damaged index costs room, never data: the block is stored again then.
	if ok, _ := c.s.index.knows(ctx, n); ok {
		c.forget(n)
		return n, Stored{}, nil
	}
	if err := ctx.Err(); err != nil {
		return n, Stored{}, err
	}
	buf := getBuffer(s2.MaxEncodedLen(len(plain)) + tagRoom)
	defer putBuffer(buf)
	codec, stored, err := c.compressor.compress(plain, buf, e)
	if err != nil {
		return n, Stored{}, c.fail(err)
	}
	if codec == codecRaw && c.s.ring.sealed() { // sealing works in place, and the caller's bytes are the caller's
		buf.b = append(buf.b[:0], plain...)
		stored = buf.b
	}
	head := c.s.ring.encodeEntry(n, codec, stored, len(plain))
	begun := time.Now()
	if err := c.append(ctx, n, head, stored, len(plain)); err != nil {
		return n, Stored{}, c.fail(err)
	}
	return n, Stored{Bytes: int64(entryLen + len(stored)), Waited: time.Since(begun)}, nil
}

// known says whether this session already has the block and claims it otherwise.
func (c *Session) known(n Name) (bool, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err != nil {
		return false, c.err
	}
	_, ok := c.fresh[n]
	c.fresh[n] = struct{}{}
	return ok, nil
}

// forget takes back the claim on a block that turned out to be in the store.
func (c *Session) forget(n Name) {
	c.mu.Lock()
	delete(c.fresh, n)
	c.mu.Unlock()
}

func (c *Session) fail(err error) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err == nil {
		c.err = c.s.cantWrite(err)
	}
	return c.err
}

// failed is the first error that came.
func (c *Session) failed() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.err
}

func (c *Session) append(ctx context.Context, n Name, head, stored []byte, plain int) error {
	c.packMu.Lock()
	defer c.packMu.Unlock()
	if c.w == nil {
		c.id = packOf(c.lock.holder.ID)
		w, err := c.s.b.Create(ctx, packPath(c.id), backend.Options{Owner: c.lock.owner()})
		if err != nil {
			return err
		}
		c.w, c.at, c.entries = w, headerLen, nil
		if _, err := w.Write(header{kind: kindPack, suite: c.s.ring.suite()}.encode()); err != nil {
			return err
		}
	}
	if _, err := c.w.Write(head); err != nil {
		return err
	}
	if _, err := c.w.Write(stored); err != nil {
		return err
	}
	c.entries = append(c.entries, packEntry{n, c.at, uint32(len(stored)), uint32(plain)})
	c.at += entryLen + int64(len(stored))
	if c.at >= c.s.packLimit {
		c.rotate(ctx)
	}
	return nil
}

// packOf makes the ID of a pack that begins like its writer's lock: until that one is done, nobody else counts on the
// pack.
func packOf(lockID string) string { return lockID[:packIDLen] + newID()[:packIDLen] }

// rotate ends the present pack; syncing and committing happen beside the work, also when that is cancelled meanwhile:
// what arrived is of use to the next try.
func (c *Session) rotate(ctx context.Context) {
	ctx = context.WithoutCancel(ctx)
	p := closingPack{c.id, c.w, c.at, c.entries}
	c.w = nil
	c.slots <- struct{}{}
	c.closing.Go(func() {
		defer func() { <-c.slots }()
		if err := c.closePack(ctx, p); err != nil {
			_ = p.w.Abort()
			c.s.packs.remove(ctx, p.id) // its parity; and itself, where the commit happened all the same
			c.fail(err)
			return
		}
		if err := c.closed(ctx, p); err != nil {
			c.fail(err)
		}
	})
}

// closingPack is a pack to which nothing is added any more.
type closingPack struct {
	id      string
	w       backend.Upload
	at      int64 // where its table begins
	entries []packEntry
}

func (c *Session) closePack(ctx context.Context, p closingPack) error {
	table := encodeTable(p.entries, p.at)
	if _, err := p.w.Write(table); err != nil {
		return err
	}
	// While the kernel still has the pack in memory.
	if err := c.s.protect(ctx, c.lock, p.id, p.w, p.at+int64(len(table))); err != nil {
		return err
	}
	return commit(ctx, c.lock, p.w)
}

// closed takes note of a pack that is on the medium.
func (c *Session) closed(ctx context.Context, p closingPack) error {
	c.doneMu.Lock()
	defer c.doneMu.Unlock()
	c.packs = append(c.packs, p.id)
	for _, e := range p.entries {
		c.done = append(c.done, indexRecord{e.name, place{p.id, e.offset, e.stored}})
	}
	if len(c.done) < flushAt {
		return nil
	}
	return c.flush(ctx)
}

// flush writes the segment of the finished packs; doneMu is held. It becomes a file of the index when the session ends
// well, and is known to this process at once.
func (c *Session) flush(ctx context.Context) error {
	if len(c.done) == 0 {
		return nil
	}
	seg, err := c.write(ctx, c.s.ring.encodeSegment(sortRecords(c.done)))
	if err != nil {
		return fmt.Errorf("the index can't be written: %w", err)
	}
	c.segments = append(c.segments, seg)
	c.s.index.mu.Lock()
	c.s.index.segments = append(c.s.index.segments, seg.segment)
	c.s.index.mu.Unlock()
	c.mu.Lock()
	for _, r := range c.done {
		delete(c.fresh, r.name)
	}
	c.mu.Unlock()
	c.done = nil
	return nil
}

func (c *Session) write(ctx context.Context, encoded []byte) (*sessionSegment, error) {
	file := indexFolder + "/" + newID() + ".index"
	u, err := c.s.b.Create(ctx, file, backend.Options{Owner: c.lock.owner()})
	if err != nil {
		return nil, err
	}
	seg, err := func() (*segment, error) {
		if _, err := u.Write(encoded); err != nil {
			return nil, err
		}
		return c.s.ring.openSegment(ctx, file, local{u}, int64(len(encoded)))
	}()
	if err != nil {
		_ = u.Abort()
		return nil, err
	}
	seg.pending = true
	return &sessionSegment{seg, file, u}, nil
}

// Commit makes everything durable, then has publish let appear what refers to it, under the session's lock. When it
// fails the store is as it was before Begin: undo takes back what publish may have done, and where it can't the blocks
// stay.
func (c *Session) Commit(ctx context.Context, publish func(context.Context, *Lock) error,
	undo func(context.Context) error) error {
	free := context.WithoutCancel(ctx)
	err := c.durable(ctx)
	if err == nil {
		err = publish(ctx, c.lock)
	}
	if err == nil { // what appeared while nobody counted on this lock may be without its blocks
		err = c.lock.Held(free)
	}
	if err != nil {
		err = c.fail(err)
		if undone := undo(free); undone != nil {
			c.end()
			return errors.Join(err, undone)
		}
		c.Abort(free)
		return err
	}
	_ = c.s.b.Delete(free, unfinishedPath(c.lock.holder.Machine))
	// A long index is slower, not wrong: failing to shorten it is no failure.
	if others, err := c.s.locks.holders(ctx, c.lock.holder.ID); err == nil && len(others) == 0 {
		_ = c.s.index.shorten(ctx, c.lock)
	}
	c.end()
	return nil
}

// Checkpoint makes everything durable that was put so far, then has publish let appear what refers to it; the session
// goes on. What was made durable stays, whatever becomes of the session.
func (c *Session) Checkpoint(ctx context.Context, publish func(context.Context, *Lock) error) error {
	if err := c.durable(ctx); err != nil {
		return c.fail(err)
	}
	c.doneMu.Lock()
	c.packs, c.segments = nil, nil
	c.doneMu.Unlock()
	if err := publish(ctx, c.lock); err != nil {
		return c.fail(err)
	}
	if others, err := c.s.locks.holders(ctx, c.lock.holder.ID); err == nil && len(others) == 0 {
		_ = c.s.index.shorten(ctx, c.lock) // see Commit
	}
	return c.lock.Held(context.WithoutCancel(ctx))
}

// Settle closes what was put so far, so that its blocks can be read by this process.
func (c *Session) Settle(ctx context.Context) error { return c.settle(ctx) }

// Finish makes the blocks durable without anything that appears with them; publish, which may be nil, puts what refers
// to them and may be lost.
func (c *Session) Finish(ctx context.Context, publish func(context.Context, *Lock) error) error {
	err := c.durable(ctx)
	if err == nil && publish != nil {
		err = publish(ctx, c.lock)
	}
	if err != nil {
		err = c.fail(err)
		c.Abort(context.WithoutCancel(ctx))
		return err
	}
	c.end()
	return nil
}

// durable puts everything on the medium and into the index.
func (c *Session) durable(ctx context.Context) error {
	if err := c.lock.Held(ctx); err != nil {
		return err
	}
	if err := c.settle(ctx); err != nil {
		return err
	}
	return c.publish(ctx)
}

// publish moves the session's segments into the index.
func (c *Session) publish(ctx context.Context) error {
	for _, seg := range c.segments {
		if err := commit(ctx, c.lock, seg.u); err != nil {
			return err
		}
		r, err := backend.Open(ctx, c.s.b, seg.file)
		if err != nil {
			return err
		}
		c.s.index.mu.Lock()
		seg.r, seg.pending = r, false // what it was read from until now is closed
		c.s.index.hasLoaded(seg.file)
		c.s.index.mu.Unlock()
	}
	return nil
}

// settle closes the last pack and waits for the others.
func (c *Session) settle(ctx context.Context) error {
	c.packMu.Lock()
	if c.w != nil {
		c.rotate(ctx)
	}
	c.packMu.Unlock()
	c.closing.Wait()
	if err := c.failed(); err != nil {
		return err
	}
	c.doneMu.Lock()
	defer c.doneMu.Unlock()
	return c.flush(ctx)
}

// end lets go of what a session holds.
func (c *Session) end() {
	c.compressor.close()
	c.lock.Release()
}

// Abort gives back all room that the session took. Only when the room itself ran out are finished packs kept, so that
// the next try needn't write them again; giving back space clears them.
func (c *Session) Abort(ctx context.Context) {
	c.drop(context.WithoutCancel(ctx))
	c.end()
}

// drop removes what the session has written.
func (c *Session) drop(ctx context.Context) {
	c.packMu.Lock()
	if c.w != nil {
		_ = c.w.Abort()
		c.w = nil
	}
	c.packMu.Unlock()
	c.closing.Wait()
	c.doneMu.Lock()
	defer c.doneMu.Unlock()
	// Segments first: no index may name a pack that is gone.
	switch {
	case !c.dropSegments(ctx), c.lock.Held(ctx) != nil: // giving back space clears the packs later
	case backend.IsFull(c.failed()) && len(c.packs) > 0 && c.lock.holder.Machine != "":
		_ = c.s.PutNote(ctx, c.lock, unfinishedPath(c.lock.holder.Machine), unfinished{c.packs, time.Now()})
	default:
		for _, id := range c.packs {
			c.s.packs.remove(ctx, id)
		}
	}
}

// dropSegments takes the session's segments out of the index, and says whether none can come back after a loss of power
// and name packs that are gone.
func (c *Session) dropSegments(ctx context.Context) bool {
	x := c.s.index
	x.mu.Lock()
	x.segments = slices.DeleteFunc(x.segments, func(seg *segment) bool {
		return slices.ContainsFunc(c.segments, func(own *sessionSegment) bool { return own.segment == seg })
	})
	x.mu.Unlock()
	for _, seg := range c.segments {
		_ = seg.u.Abort()
		_ = c.s.b.Delete(ctx, seg.file) // also where a commit that failed happened all the same
	}
	return len(c.segments) == 0 || c.s.b.Settle(ctx, indexFolder) == nil
}

// unfinished are the packs of a capture for which there was no room. They are spared for a while, so that the next try
// goes on from them.
type unfinished struct {
	Packs []string  `json:"packs"`
	When  time.Time `json:"when"`
}

// spareFor is how long they are spared.
const spareFor = 14 * 24 * time.Hour

func unfinishedPath(machine string) string { return "unfinished/" + machine + ".note" }

// Spared are the packs that wait for a capture to go on. A note of them that is hurt spares nothing: then the next try
// stores those blocks again.
func (s *Store) Spared(ctx context.Context) (map[string]bool, error) {
	names, err := s.b.List(ctx, "unfinished")
	if err != nil {
		return nil, fmt.Errorf("the captures that wait to go on can't be listed: %w", err)
	}
	out := map[string]bool{}
	for _, n := range names {
		var u unfinished
		ok, err := s.GetNote(ctx, "unfinished/"+n, &u)
		if err != nil && !IsHurt(err) {
			return nil, fmt.Errorf("a capture that waits to go on: %w", err)
		}
		if ok && err == nil && time.Since(u.When) < spareFor {
			for _, p := range u.Packs {
				out[p] = true
			}
		}
	}
	return out, nil
}
