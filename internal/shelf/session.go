package shelf

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"
	"golang.org/x/sys/unix"
)

// flushAt is how many new blocks a session remembers before it writes a
// segment of them: about 20 MB of memory.
const flushAt = 200_000

// Session is the right to add to a shelf. Put may be called from many
// goroutines; then exactly one of Commit and Abort.
type Session struct {
	s        *Shelf
	lock     *lock
	squeezer // empty in a session that copies blocks as they stand

	mu    sync.Mutex // guards fresh and failed
	fresh map[Name]struct{}
	err   error

	packMu  sync.Mutex // guards the pack being written
	id      string
	w       Writer
	at      int64
	entries []packEntry

	closing  sync.WaitGroup
	slots    chan struct{} // packs being synced at once
	doneMu   sync.Mutex
	done     []indexRecord // in finished packs, not yet in a segment
	packs    []string      // finished in this session
	segments []*segment    // written in this session
	added    int64
	listing  *Listing // to be kept at the end; nil for none
}

// Begin takes the lock for the capture of a machine and starts adding. Packs that a
// killed writer finished are kept: their blocks needn't be written again.
func (s *Shelf) Begin(machine string) (*Session, error) {
	fail := func(err error) (*Session, error) {
		return nil, fmt.Errorf("the shelf in %s can't be written: %w", s.b.Place(), err)
	}
	if note, retired := s.Retired(); retired {
		return fail(fmt.Errorf("it is retired: %s", note))
	}
	l, err := s.acquire(Holder{What: "a capture", Machine: s.ring.slug(machine)})
	if err != nil {
		return fail(err)
	}
	if err = s.refresh(); err == nil {
		err = s.adoptLoose()
	}
	if err != nil {
		l.release()
		return fail(err)
	}
	s.keepReserve()
	sq, err := newSqueezer()
	if err != nil {
		l.release()
		return fail(err)
	}
	return &Session{s: s, lock: l, squeezer: sq, fresh: map[Name]struct{}{}, slots: make(chan struct{}, 2)}, nil
}

// adoptLoose writes the segment for packs that had none.
func (s *Shelf) adoptLoose() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.looseSegment == nil {
		return nil
	}
	seg, err := s.writeSegment(s.looseSegment)
	if err != nil {
		return err
	}
	s.segments[slices.Index(s.segments, s.looseAt)] = seg
	s.looseSegment, s.looseAt = nil, nil
	return nil
}

// Put stores a block unless the shelf has it, and returns its name and the
// bytes it added to the shelf (0 when it was there).
func (c *Session) Put(plain []byte) (Name, int64, error) {
	n := c.s.ring.nameOf(plain)
	if known, err := c.known(n); known || err != nil {
		return n, 0, err
	}
	if _, ok, err := c.s.lookup(n); ok {
		c.forget(n)
		return n, 0, nil
	} else if err != nil {
		// A damaged index costs room, never data: store the block again.
		ok = false
	}
	buf := getBuffer(s2.MaxEncodedLen(len(plain)) + tagRoom)
	defer putBuffer(buf)
	codec, stored := c.squeeze(plain, buf)
	if codec == codecRaw && c.s.ring.sealed() { // sealing works in place, and the caller's bytes are the caller's
		buf.b = append(buf.b[:0], plain...)
		stored = buf.b
	}
	head := c.s.ring.encodeEntry(n, codec, stored, len(plain))
	if err := c.append(n, head, stored, len(plain)); err != nil {
		return n, 0, c.fail(err)
	}
	return n, int64(entryLen + len(stored)), nil
}

// Has says whether the shelf has a block with these bytes; zeros need none.
func (s *Shelf) Has(plain []byte) bool {
	if len(bytes.TrimLeft(plain, "\x00")) == 0 {
		return true
	}
	_, ok, _ := s.lookup(s.ring.nameOf(plain))
	return ok
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

// forget takes back the claim on a block that turned out to be on the shelf.
func (c *Session) forget(n Name) {
	c.mu.Lock()
	delete(c.fresh, n)
	c.mu.Unlock()
}

func (c *Session) fail(err error) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err == nil {
		c.err = fmt.Errorf("the shelf in %s can't be written: %w", c.s.b.Place(), err)
	}
	return c.err
}

func (c *Session) append(n Name, head, stored []byte, plain int) error {
	c.packMu.Lock()
	defer c.packMu.Unlock()
	if c.w == nil {
		c.id = packOf(c.lock.holder.ID)
		w, err := c.s.b.Create(c.temp(c.id))
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
		c.rotate()
	}
	return nil
}

// temp is where a pack is written; its name tells whose it is.
func (c *Session) temp(id string) string { return "tmp/" + c.lock.holder.ID + "-" + id }

// packOf makes the ID of a pack that begins like its writer's lock: until that one
// is done, nobody else counts on the pack.
func packOf(lockID string) string { return lockID[:packIDLen] + newID()[:packIDLen] }

// rotate ends the present pack; syncing and renaming happen beside the work.
func (c *Session) rotate() {
	id, w, at, entries := c.id, c.w, c.at, c.entries
	c.w = nil
	c.slots <- struct{}{}
	c.closing.Go(func() {
		defer func() { <-c.slots }()
		_, err := w.Write(encodeTable(entries, at))
		if err == nil { // while the kernel still has the pack in memory
			err = c.s.protect(id, c.temp(id))
		}
		if err = errors.Join(err, w.Sync(), w.Close()); err == nil {
			err = c.s.b.Rename(c.temp(id), packPath(id))
		}
		if err != nil {
			_ = c.s.b.Remove(parityPath(id))
			c.fail(err)
			return
		}
		c.doneMu.Lock()
		defer c.doneMu.Unlock()
		c.packs = append(c.packs, id)
		for _, e := range entries {
			c.done = append(c.done, indexRecord{e.name, place{id, e.offset, e.stored}})
		}
		c.added += at
		if len(c.done) >= flushAt {
			if err := c.flush(); err != nil {
				c.fail(err)
			}
		}
	})
}

// flush writes the segment of the finished packs beside the index; doneMu is held. It moves into
// the index when the session is committed.
func (c *Session) flush() error {
	if len(c.done) == 0 {
		return nil
	}
	seg, err := c.s.writeSegmentTo(fmt.Sprintf("tmp/%s-%d.index", c.lock.holder.ID, len(c.segments)), c.s.ring.encodeSegment(sortRecords(c.done)))
	if err != nil {
		return err
	}
	c.segments = append(c.segments, seg)
	c.s.mu.Lock()
	c.s.segments = append(c.s.segments, seg)
	c.s.mu.Unlock()
	c.mu.Lock()
	for _, r := range c.done {
		delete(c.fresh, r.name)
	}
	c.mu.Unlock()
	c.done = nil
	return nil
}

// Commit makes everything durable, then lets the twin appear. When it fails
// the shelf is as it was before Begin.
func (c *Session) Commit(t *Twin) error {
	err := c.durable()
	if err == nil {
		err = c.s.writeTwin(t)
	}
	if err != nil {
		err = c.fail(err)
		_ = c.s.removeKept(c.s.twinPath(t.Machine, t.ID)) // its copy may be there already
		c.Abort()
		return err
	}
	c.end()
	_ = c.s.b.Remove(unfinishedPath(c.lock.holder.Machine))
	// A long index is slower, not wrong: failing to shorten it is no failure.
	if others, err := c.s.holders(c.lock.holder.ID); err == nil && len(others) == 0 {
		_ = c.s.mergeSegments()
	}
	c.lock.release()
	return nil
}

// Finish makes the blocks durable without a twin of their own.
func (c *Session) Finish() error {
	if err := c.durable(); err != nil {
		err = c.fail(err)
		c.Abort()
		return err
	}
	c.end()
	c.lock.release()
	return nil
}

// durable puts everything on the medium and into the index.
func (c *Session) durable() error {
	err := c.lock.held()
	if err == nil {
		err = c.settle()
	}
	if err == nil { // settling may have taken long
		err = c.lock.held()
	}
	if err == nil {
		err = c.publish()
	}
	if err == nil {
		err = c.keepListing()
	}
	if err == nil {
		err = c.lock.held()
	}
	return err
}

// publish moves the session's segments into the index.
func (c *Session) publish() error {
	for _, seg := range c.segments {
		file := "index/" + newID() + ".index"
		if err := c.s.b.Rename(seg.file, file); err != nil {
			return err
		}
		seg.file = file
	}
	return nil
}

func (c *Session) settle() error {
	c.packMu.Lock()
	if c.w != nil {
		c.rotate()
	}
	c.packMu.Unlock()
	c.closing.Wait()
	c.mu.Lock()
	err := c.err
	c.mu.Unlock()
	if err != nil {
		return err
	}
	c.doneMu.Lock()
	defer c.doneMu.Unlock()
	return c.flush()
}

func (c *Session) end() { c.squeezer.close() }

// Abort gives back all room that the session took. Only when the room itself ran out are
// finished packs kept, so that the next try needn't write them again; giving back space clears them.
func (c *Session) Abort() {
	c.dropFiles()
	c.end()
	c.lock.release()
}

// dropFiles removes what the session has written.
func (c *Session) dropFiles() {
	c.packMu.Lock()
	if c.w != nil {
		c.w.Close()
		_ = c.s.b.Remove(c.temp(c.id))
		c.w = nil
	}
	c.packMu.Unlock()
	c.closing.Wait()
	c.doneMu.Lock()
	defer c.doneMu.Unlock()
	// Segments first: no index may name a pack that is gone.
	c.s.mu.Lock()
	c.s.segments = slices.DeleteFunc(c.s.segments, func(seg *segment) bool {
		if !slices.Contains(c.segments, seg) {
			return false
		}
		seg.close()
		_ = c.s.b.Remove(seg.file)
		return true
	})
	c.s.mu.Unlock()
	// An index file must not come back after a loss of power and name packs that are gone.
	synced := len(c.segments) == 0 || c.s.b.SyncDir("index") == nil
	switch {
	case !synced, c.lock.held() != nil: // giving back space clears them later
	case errors.Is(c.err, unix.ENOSPC) && len(c.packs) > 0 && c.lock.holder.Machine != "":
		_ = c.s.writeNote(unfinishedPath(c.lock.holder.Machine), unfinished{c.packs, time.Now()})
	default:
		for _, id := range c.packs {
			c.s.removePack(id)
		}
	}
	if left, err := c.s.b.List("tmp"); err == nil {
		for _, n := range left {
			if strings.HasPrefix(n, c.lock.holder.ID) {
				_ = c.s.b.Remove("tmp/" + n)
			}
		}
	}
}

// Reindex makes the index anew from the packs and returns how many blocks it names.
func (s *Shelf) Reindex() (int, error) {
	release, err := s.exclusive("making the index anew")
	if err != nil {
		return 0, err
	}
	defer release()
	s.mu.Lock()
	defer s.mu.Unlock()
	packs, err := s.b.List("packs")
	if err != nil {
		return 0, err
	}
	old := s.segments
	s.segments = nil
	var batch []indexRecord
	count := 0
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		seg, err := s.writeSegment(s.ring.encodeSegment(sortRecords(batch)))
		if err == nil {
			s.segments = append(s.segments, seg)
			count += seg.count
			batch = nil
		}
		return err
	}
	for _, n := range packs {
		id, ok := packID(n)
		if !ok {
			continue
		}
		records, err := s.packRecords(id)
		if err != nil {
			s.notes = append(s.notes, err.Error())
			continue
		}
		if batch = append(batch, records...); len(batch) >= flushAt {
			if err := flush(); err != nil {
				return count, err
			}
		}
	}
	if err := flush(); err != nil {
		return count, err
	}
	fresh := map[string]bool{}
	for _, seg := range s.segments {
		fresh[seg.file] = true
	}
	for _, seg := range old {
		seg.close()
	}
	names, err := s.b.List("index")
	for _, n := range names {
		if !fresh["index/"+n] {
			err = errors.Join(err, s.b.Remove("index/"+n))
		}
	}
	s.looseSegment, s.looseAt = nil, nil
	return count, err
}
