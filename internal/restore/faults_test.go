package restore

import (
	"context"
	"encoding/json"
	"errors"
	"iter"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
)

// planned is a plan that copies a memory disk onto one of the same size.
func planned(t *testing.T, src *disk.Memory) *Restore {
	t.Helper()
	return plannedFrom(t, src, mapped{src})
}

func plannedFrom(t *testing.T, src *disk.Memory, from disk.Mapped) *Restore {
	t.Helper()
	p, err := plan.Rehearse(t.Context(), plan.Order{Source: from, Target: src.Identity()})
	if err != nil {
		t.Fatal(err)
	}
	return &Restore{Plan: p, toWrite: src.Size(), every: checkpoint}
}

// mapped is a memory disk as one piece of data per MiB.
type mapped struct{ *disk.Memory }

func (m mapped) Pieces() iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		for at := int64(0); at < m.Size(); at += 1 << 20 {
			if !yield(disk.Piece{Span: span.At(at, 1<<20), Kind: disk.Data}, nil) {
				return
			}
		}
	}
}

// noise is a memory disk full of bytes that differ from place to place.
func noise(size int64) *disk.Memory {
	src := disk.NewMemory(size, 512)
	for i := range src.Bytes {
		src.Bytes[i] = byte(i>>9) | 1
	}
	src.Bytes[510], src.Bytes[511] = 0, 0
	return src
}

func write(p *Restore, target disk.Writable) (notes []string, err error) {
	r := run.Start(context.Background(), "t", Phases, nil, func(rc *run.Context) error { return p.writeTo(rc, target) })
	err = r.Wait()
	return r.Snapshot().Notes, err
}

// TestTargetThatFails: a place that fails is named and the rest written; when the target can't be of use the work ends
// and its start stays cleared.
func TestTargetThatFails(t *testing.T) {
	src := noise(40 << 20)
	for _, c := range []struct {
		name   string
		target *disk.Faulty
		want   error
		bad    span.Set
	}{
		{"a place that can't be written", &disk.Faulty{BadWrite: span.Of(span.At(7<<20+5000, 512))}, nil,
			span.Of(span.At(7<<20+4096, 4096))},
		{"two places, one across a step",
			&disk.Faulty{BadWrite: span.Of(span.At(9<<20+4000, 200), span.At(30<<20, 4096))}, nil,
			span.Of(span.At(9<<20, 8192), span.At(30<<20, 4096))},
		{"the start", &disk.Faulty{BadWrite: span.Of(span.At(4096, 512))}, disk.ErrMedium, span.Set{}},
		{"too much of it", &disk.Faulty{BadWrite: span.Of(span.At(8<<20, 20<<20))}, errors.New("choose another target"),
			span.Set{}},
		{"pulled out", &disk.Faulty{GoneAfter: 9 << 20}, disk.ErrGone, span.Set{}},
	} {
		m := disk.NewMemory(src.Size(), 512)
		copy(m.Bytes, "an old table")
		c.target.Writable = m
		p := planned(t, src)
		notes, err := write(p, c.target)
		if c.want != nil {
			if err == nil || !errors.Is(err, c.want) && !strings.Contains(err.Error(), c.want.Error()) {
				t.Errorf("%s: %v", c.name, err)
			}
			if c.name != "the start" && strings.Trim(string(m.Bytes[:head]), "\x00") != "" {
				t.Errorf("%s: the start of the target isn't empty", c.name)
			}
			continue
		}
		if err != nil || !p.Bad().Equal(c.bad) || len(notes) == 0 || !p.TargetFailed() {
			t.Errorf("%s: %v, bad %v, %q", c.name, err, p.Bad(), notes)
		}
		for sp := range p.Bad().Complement(span.Span{End: src.Size()}).All() {
			if string(m.Bytes[sp.Start:sp.End]) != string(src.Bytes[sp.Start:sp.End]) {
				t.Errorf("%s: %s differs", c.name, sp)
			}
		}
	}
	m := disk.NewMemory(src.Size(), 512)
	p := planned(t, src)
	if _, err := write(p, m); err != nil || string(m.Bytes) != string(src.Bytes) || p.TargetFailed() {
		t.Errorf("a sound target: %v, failed %v", err, p.TargetFailed())
	}
}

// forgetful claims to be larger than it is: what is written beyond its end goes nowhere.
type forgetful struct {
	*disk.Memory
	real int64
}

func (f forgetful) WriteAt(p []byte, off int64) (int, error) {
	if off >= f.real {
		return len(p), nil
	}
	return f.Memory.WriteAt(p, off)
}

// TestTargetThatClaimsTooMuch is found out while writing, not at the end.
func TestTargetThatClaimsTooMuch(t *testing.T) {
	src := noise(60 << 20)
	p := planned(t, src)
	p.every = 0
	_, err := write(p, forgetful{disk.NewMemory(src.Size(), 512), 30 << 20})
	if err == nil || !strings.Contains(err.Error(), "doesn't keep what is written") || p.came.Upto > 50<<20 {
		t.Errorf("%v at %d", err, p.came.Upto)
	}
}

// TestSourceThatFails: what an attached source doesn't give becomes zeros and is named; a twin's has to be whole.
func TestSourceThatFails(t *testing.T) {
	src := noise(20 << 20)
	hurt := span.Of(span.At(100<<10, 512), span.At(5<<20+4096, 4096), span.At(12<<20+100, 10))
	f := &disk.Faulty{Writable: src, BadRead: hurt}
	for _, lenient := range []bool{true, false} {
		p := plannedFrom(t, src, faultyMapped{mapped{src}, f})
		p.Lenient = lenient
		m := disk.NewMemory(src.Size(), 512)
		notes, err := write(p, m)
		if !lenient {
			if !errors.Is(err, disk.ErrMedium) {
				t.Errorf("%v", err)
			}
			continue
		}
		want := span.Of(span.At(100<<10, 4096), span.At(5<<20+4096, 4096), span.At(12<<20, 4096))
		if err != nil || !p.Missing().Equal(want) || len(notes) != 2 {
			t.Errorf("%v, missing %v, %q", err, p.Missing(), notes)
		}
		for sp := range want.Complement(span.Span{End: src.Size()}).All() {
			if string(m.Bytes[sp.Start:sp.End]) != string(src.Bytes[sp.Start:sp.End]) {
				t.Errorf("%s differs", sp)
			}
		}
	}
}

// counting counts the reads that fail.
type counting struct {
	mapped
	f     *disk.Faulty
	fails *atomic.Int64
}

func (c counting) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.f.ReadAt(p, off)
	if err != nil {
		c.fails.Add(1)
	}
	return n, err
}

// TestCopyJumps: a long dead stretch of a copied disk costs few failing reads until everything else is written, and in
// the end just what is dead is missing.
func TestCopyJumps(t *testing.T) {
	src := noise(160 << 20)
	dead := span.Of(span.At(30<<20, 90<<20))
	c := counting{mapped{src}, &disk.Faulty{Writable: src, BadRead: dead}, new(atomic.Int64)}
	p := plannedFrom(t, src, c)
	p.Lenient = true
	m := disk.NewMemory(src.Size(), 512)
	var before int64
	_, err := write(p, watched{m, func(off int64) {
		if off >= 150<<20 && before == 0 {
			before = c.fails.Load()
		}
	}})
	if err != nil || !p.Missing().Equal(dead) {
		t.Errorf("%v, missing %v", err, p.Missing())
	}
	if before == 0 || before > 40 {
		t.Errorf("%d reads failed before the rest was written", before)
	}
	for sp := range dead.Complement(span.Span{End: src.Size()}).All() {
		if string(m.Bytes[sp.Start:sp.End]) != string(src.Bytes[sp.Start:sp.End]) {
			t.Errorf("%s differs", sp)
		}
	}
}

// watched tells of writes.
type watched struct {
	*disk.Memory
	tell func(off int64)
}

func (w watched) WriteAt(p []byte, off int64) (int, error) {
	w.tell(off)
	return w.Memory.WriteAt(p, off)
}

// faultyMapped reads through something that fails.
type faultyMapped struct {
	mapped
	f *disk.Faulty
}

func (m faultyMapped) ReadAt(p []byte, off int64) (int, error) { return m.f.ReadAt(p, off) }

// notebook keeps a note in memory.
type notebook struct{ b []byte }

func (n *notebook) Load() ([]byte, error) { return n.b, nil }
func (n *notebook) Save(b []byte) error   { n.b = b; return nil }
func (n *notebook) Clear() error          { n.b = nil; return nil }

// TestGoesOn: a restore cut off at any place goes on from its last flush, and the result is what an uninterrupted one
// gives.
func TestGoesOn(t *testing.T) {
	src := noise(24 << 20)
	for seed := range uint64(25) {
		r := rand.New(rand.NewPCG(11, seed))
		n := &notebook{}
		m := disk.NewMemory(src.Size(), 512)
		r1 := r.Int64N(26 << 20)
		for life := 0; ; life++ {
			p := planned(t, src)
			p.every, p.notes, p.key = 0, n, "a copy"
			if n.b != nil {
				if err := json.Unmarshal(n.b, &p.came); err != nil {
					t.Fatal(err)
				}
				p.found = p.headAsLeft(m)
			}
			from := p.came.Upto
			var target disk.Writable = &disk.Faulty{Writable: m, GoneAfter: max(2<<20, r1)}
			if life > 0 {
				target = &disk.Faulty{Writable: m, GoneAfter: max(2<<20, r.Int64N(80<<20))}
			}
			_, err := write(p, target)
			if err == nil {
				break
			}
			if !errors.Is(err, disk.ErrGone) || p.came.Upto < from {
				t.Fatalf("seed %d: %v, from %d to %d", seed, err, from, p.came.Upto)
			}
			if life > 60 {
				t.Fatalf("seed %d doesn't come to an end", seed)
			}
		}
		if string(m.Bytes) != string(src.Bytes) {
			t.Errorf("seed %d: the target differs", seed)
		}
	}
}

// TestDoesNotGoOn where what was written before isn't there any more.
func TestDoesNotGoOn(t *testing.T) {
	src := noise(24 << 20)
	for what, change := range map[string]func(m *disk.Memory){
		"nothing":           func(*disk.Memory) {},
		"used since":        func(m *disk.Memory) { m.Bytes[600] = 7 },
		"another disk":      func(m *disk.Memory) { clear(m.Bytes) },
		"written elsewhere": func(m *disk.Memory) { m.Bytes[1<<20+77] ^= 1 },
	} {
		m := disk.NewMemory(src.Size(), 512)
		n := &notebook{}
		p := planned(t, src)
		p.every, p.notes = 0, n
		if _, err := write(p, &disk.Faulty{Writable: m, GoneAfter: 30 << 20}); err == nil || p.came.Upto < 4<<20 {
			t.Fatalf("%v at %d", err, p.came.Upto)
		}
		change(m)
		q := planned(t, src)
		q.every, q.notes, q.came = 0, n, p.came
		q.found = q.headAsLeft(m)
		r := run.Start(context.Background(), "t", Phases, nil, func(rc *run.Context) error { return q.writeTo(rc, m) })
		if err := r.Wait(); err != nil || string(m.Bytes) != string(src.Bytes) {
			t.Errorf("%s: %v", what, err)
		}
		if went := r.Snapshot().Skipped > 0; went != (what == "nothing") {
			t.Errorf("%s: it went on: %v; %q", what, went, r.Snapshot().Notes)
		}
	}
}

// TestCancelledRestore stops within a block and leaves no table.
func TestCancelledRestore(t *testing.T) {
	src := disk.NewMemory(16<<20, 512)
	src.Bytes[5<<20] = 1
	p := planned(t, src)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	m := disk.NewMemory(src.Size(), 512)
	copy(m.Bytes, "an old table")
	err := run.Start(ctx, "t", Phases, nil, func(rc *run.Context) error { return p.writeTo(rc, m) }).Wait()
	if !errors.Is(err, context.Canceled) || m.Bytes[0] != 0 {
		t.Errorf("%v, first byte %d", err, m.Bytes[0])
	}
}
