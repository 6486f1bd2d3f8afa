package prove_test

import (
	"bytes"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

// cached is a disk of which a machine keeps in memory what was written to it and what was read from it.
type cached struct {
	*disk.Memory // the medium
	mu           sync.Mutex
	held         []byte
	holds        span.Set // where held counts
	dirty        span.Set // where the medium hasn't got it yet
	read         int64    // bytes, from the medium
}

func newCached(size int64) *cached {
	return &cached{Memory: disk.NewMemory(size, 512), held: make([]byte, size)}
}

func (c *cached) WriteAt(p []byte, off int64) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.holds.Add(span.At(off, int64(len(p))))
	c.dirty.Add(span.At(off, int64(len(p))))
	return copy(c.held[off:], p), nil
}

func (c *cached) ReadAt(p []byte, off int64) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	sp := span.At(off, int64(len(p)))
	for miss := range c.holds.Clip(sp).Complement(sp).All() {
		c.read += miss.Len()
		copy(c.held[miss.Start:miss.End], c.Bytes[miss.Start:])
	}
	c.holds.Add(sp)
	return copy(p, c.held[off:]), nil
}

func (c *cached) Sync() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for sp := range c.dirty.All() {
		copy(c.Bytes[sp.Start:sp.End], c.held[sp.Start:])
	}
	c.dirty = span.Set{}
	return nil
}

func (c *cached) ForgetIn(sp span.Span) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.holds = c.holds.Subtract(span.Of(sp).Subtract(c.dirty))
}

func (c *cached) taken() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.read
}

// lose changes a byte of the medium, as the machine doesn't notice.
func (c *cached) lose(at int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Bytes[at] ^= 0x20
}

// followed writes what was planned while it is read back, runs then, and proves it. It gives how much the proof had to
// compare at the end, in bytes.
func followed(t *testing.T, s *survey.Survey, p *plan.Plan, want *disk.Memory,
	then func(*cached)) (*shelf.Proof, int64) {
	t.Helper()
	const step = 6 << 20
	c := newCached(want.Size())
	e := prove.BeginBy(t.Context(), capture.Describe(s), p, c, step)
	defer e.Stop()
	for piece, err := range p.Disk.Pieces() {
		if err != nil {
			t.Fatal(err)
		}
		if piece.Kind != disk.Undefined && piece.Start >= miB {
			_, _ = c.WriteAt(want.Bytes[piece.Start:piece.End], piece.Start)
		}
		e.Wrote(span.Span{Start: miB, End: piece.End})
	}
	for last := int64(-1); last != c.taken() || last == 0; time.Sleep(300 * time.Millisecond) {
		last = c.taken()
	}
	_, _ = c.WriteAt(want.Bytes[:miB], 0)
	_ = c.Sync()
	if then != nil {
		then(c)
	}
	var proof *shelf.Proof
	moved := int64(0)
	if err := testkit.Run(t, func(rc *run.Context) (err error) {
		proof, err = e.Target(rc, "test")
		moved = rc.Snapshot().All
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return proof, moved
}

// TestReadBackMeanwhile: what was read back while the rest was written isn't read again but for samples, and the claims
// are the same as those of a proof that reads everything; what the medium loses afterwards is found out.
func TestReadBackMeanwhile(t *testing.T) {
	s := kiosk(t)
	p, want := made(t, s, plan.Wish{})
	whole := proven(t, s, p, want)
	proof, read := followed(t, s, p, want, nil)
	if read > whole.Read*3/4 {
		t.Errorf("%d of %d bytes were compared at the end", read, whole.Read)
	}
	if !proof.Holds() || len(proof.Claims) != len(whole.Claims) || proof.Read != whole.Read || proof.Meanwhile == 0 {
		t.Errorf("%d of %d bytes: %+v", proof.Read, whole.Read, proof.Claims)
	}
	for i, c := range whole.Claims {
		if proof.Claims[i].Says != c.Says || proof.Claims[i].About != c.About {
			t.Errorf("%+v, want %+v", proof.Claims[i], c)
		}
	}
	doubted := newCached(want.Size())
	e := prove.BeginBy(t.Context(), capture.Describe(s), p, doubted, miB)
	_, _ = doubted.WriteAt(want.Bytes, 0)
	e.Wrote(span.Span{Start: miB, End: want.Size()})
	for doubted.taken() == 0 {
		time.Sleep(time.Millisecond)
	}
	e.Doubt()
	if err := testkit.Run(t, func(rc *run.Context) (err error) {
		proof, err = e.Target(rc, "test")
		return err
	}); err != nil || !proof.Holds() || proof.Meanwhile > 0 {
		t.Errorf("of a target that failed at something: %v, %d bytes meanwhile", err, proof.Meanwhile)
	}
	planned, _ := places(t, p)
	r := rand.New(rand.NewPCG(5, 23))
	for range 6 {
		at := pick(r, planned)
		proof, _ := followed(t, s, p, want, func(c *cached) { c.lose(at) })
		if proof.Holds() {
			t.Errorf("byte %d was lost at the end, and the proof says %s", at, proof.Words())
		}
	}
}

// TestNotThereYet: a piece that isn't as planned while the rest is written, and is in the end, is no fault; one that
// the machine has in its memory alone is.
func TestNotThereYet(t *testing.T) {
	s := kiosk(t)
	p, want := made(t, s, plan.Wish{})
	late := bytes.Clone(want.Bytes)
	planned, _ := places(t, p)
	at := pick(rand.New(rand.NewPCG(1, 2)), planned)
	late[at] ^= 1
	early := *want
	early.Bytes = late
	proof, _ := followed(t, s, p, &early, func(c *cached) {
		_, _ = c.WriteAt(want.Bytes[at:at+1], at)
		_ = c.Sync()
	})
	if !proof.Holds() {
		t.Errorf("what was mended in time fails the proof: %+v", proof.Claims)
	}
	proof, _ = followed(t, s, p, &early, func(c *cached) {
		_, _ = c.WriteAt(want.Bytes[at:at+1], at)
		_ = c.Sync()
		c.lose(at)
	})
	if proof.Holds() {
		t.Error("what the medium hasn't got is proven")
	}
}
