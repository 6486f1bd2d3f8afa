package careful

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"testing"

	"twinshelf/internal/span"
)

// TestStates: whatever is marked, in whatever order, is found again, also after packing.
func TestStates(t *testing.T) {
	const sectors = 3*chunkSectors + 777
	r := rand.New(rand.NewPCG(17, 3))
	s, model := NewStates(sectors*512, 512), make([]State, sectors)
	for range 400 {
		a := r.Int64N(sectors)
		n := min(sectors-a, 1+r.Int64N(1<<(1+r.IntN(18))))
		sp := span.At(a*512, n*512)
		how := []func(State) State{func(State) State { return Got }, State.failedAgain,
			func(w State) State { return max(w, Doubtful) }, func(State) State { return Untouched }}
		k := r.IntN(4)
		[]func(span.Span){s.MarkGot, s.MarkFailed, s.MarkDoubtful, s.Forget}[k](sp)
		for i := a; i < a+n; i++ {
			model[i] = how[k](model[i])
		}
	}
	compare(t, s, model)
	again := NewStates(sectors*512, 512)
	for from := 0; from < s.Chunks(); {
		b, next := s.Pack(from, 100)
		if got, err := again.Unpack(from, b); err != nil || got != next {
			t.Fatalf("chunk %d: %d, %v", from, got, err)
		}
		from = next
	}
	compare(t, again, model)
	if b, _ := s.Pack(0, 1<<20); len(b) > 0 {
		if _, err := NewStates(512, 512).Unpack(0, b); !errors.Is(err, ErrStates) {
			t.Errorf("the states of a larger disk: %v", err)
		}
	}
}

func compare(t *testing.T, s *States, model []State) {
	t.Helper()
	at, got := int64(0), int64(0)
	for run := range s.Runs(span.Span{End: s.size}) {
		if run.Start != at || run.Empty() {
			t.Fatalf("a run begins at %d, want %d", run.Start, at)
		}
		for i := run.Start / 512; i < run.End/512; i++ {
			if model[i] != run.State {
				t.Fatalf("sector %d: %d, want %d", i, run.State, model[i])
			}
			if run.State == Got {
				got += 512
			}
		}
		at = run.End
	}
	if at != s.size || got != s.Got() {
		t.Fatalf("runs end at %d of %d; got %d, counted %d", at, s.size, s.Got(), got)
	}
}

func FuzzUnpack(f *testing.F) {
	s := NewStates(1<<20, 512)
	s.MarkGot(span.At(512, 4096))
	s.MarkFailed(span.At(9000, 1))
	b, _ := s.Pack(0, 100)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		s := NewStates(200<<20, 512)
		if _, err := s.Unpack(0, b); err != nil && !errors.Is(err, ErrStates) {
			t.Fatal(err)
		}
		got := int64(0)
		for r := range s.Runs(span.Span{End: s.size}) {
			if r.State == Got {
				got += r.Len()
			}
		}
		if got != s.Got() {
			t.Fatalf("%d bytes counted, %d said", got, s.Got())
		}
	})
}

// drive is a made-up one whose bad sectors are known.
type drive struct {
	bad          span.Set
	reads, fails int
	most         int // reads before it dies; 0 for never
	partial      bool
	got          []span.Span
}

var errDead = errors.New("dead")

func (d *drive) Fetch(ctx context.Context, sp span.Span) (int64, error) {
	d.reads++
	if sp.Len() > large || sp.Empty() {
		return 0, fmt.Errorf("a read of %d bytes", sp.Len())
	}
	if d.most > 0 && d.reads > d.most {
		return 0, errDead
	}
	hit := d.bad.Clip(sp)
	if hit.Empty() {
		d.got = append(d.got, sp)
		return sp.Len(), ctx.Err()
	}
	d.fails++
	n := int64(0)
	if d.partial {
		n = (hit.Bounds().Start - sp.Start) / 512 * 512
		if n > 0 {
			d.got = append(d.got, span.At(sp.Start, n))
		}
	}
	return n, &Failed{hit.Bounds().Start, errors.New("bad")}
}

func only(s span.Set) func() iter.Seq[span.Span] {
	return func() iter.Seq[span.Span] { return s.All() }
}

// TestEverythingGoodIsGot: after all passes every good sector of what is wanted was got, no bad one, nothing else was
// read, and no good sector was read twice.
func TestEverythingGoodIsGot(t *testing.T) {
	const size = 300 << 20
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 5))
		d := &drive{partial: seed%2 == 0}
		for range 1 + r.IntN(20) {
			at := r.Int64N(size) / 4096 * 4096
			if seed%3 == 0 {
				at = r.Int64N(size) / 512 * 512
			}
			d.bad.Add(span.At(at, 512*(1+r.Int64N(1<<r.IntN(14)))).Intersect(span.Span{End: size}))
		}
		var wanted span.Set
		for range 1 + r.IntN(40) {
			wanted.Add(span.At(r.Int64N(size)/4096*4096, 4096*(1+r.Int64N(4000))).Intersect(span.Span{End: size}))
		}
		rd := &Reading{States: NewStates(size, 512), Source: d, Physical: 512}
		strideAndAll(t, rd, wanted, 1)
		for run := range rd.States.Runs(span.Span{End: size}) {
			want := wanted.Clip(run.Span).Subtract(d.bad)
			if run.State == Got && !want.Equal(span.Of(run.Span)) {
				t.Fatalf("seed %d: %v was got; good and wanted of it is %v", seed, run, want)
			}
			if run.State != Got && !want.Empty() {
				t.Fatalf("seed %d: %v wasn't got, %v of it is good", seed, run, want)
			}
			if bad := wanted.Intersect(d.bad).Clip(run.Span); run.State.Tries() == 0 && !bad.Empty() {
				t.Fatalf("seed %d: %v was never tried on its own", seed, run)
			}
		}
		var seen span.Set
		for _, sp := range d.got {
			if seen.Overlaps(sp) {
				t.Fatalf("seed %d: %v was read twice", seed, sp)
			}
			seen.Add(sp)
		}
	}
}

func strideAndAll(t *testing.T, rd *Reading, wanted span.Set, tries int) {
	t.Helper()
	ctx := t.Context()
	if err := errors.Join(rd.Stride(ctx, wanted.All()), rd.Narrow(ctx, only(wanted)), rd.Single(ctx, only(wanted),
		tries)); err != nil {
		t.Fatal(err)
	}
}

// TestLargeSectors: a drive whose physical sectors are larger than its logical ones is read by these, wherever what is
// wanted begins, and only what lies in a bad one is missing.
func TestLargeSectors(t *testing.T) {
	const size = 90 << 20
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 8))
		d := &drive{partial: seed%2 == 0}
		for range 1 + r.IntN(9) {
			d.bad.Add(span.At(r.Int64N(size)/512*512, 512*(1+r.Int64N(1<<r.IntN(14)))).Intersect(span.Span{End: size}))
		}
		wanted := span.Of(span.At(512*(1+r.Int64N(40_000)), 512*(20_000+r.Int64N(60_000))), span.At(70<<20+1536, 9<<20))
		rd := &Reading{States: NewStates(size, 512), Source: d, Physical: 4096}
		strideAndAll(t, rd, wanted, 1)
		for run := range rd.States.Runs(span.Span{End: size}) {
			if run.State == Got {
				continue
			}
			for sp := range wanted.Clip(run.Span).All() {
				for at := sp.Start / 4096 * 4096; at < sp.End; at += 4096 {
					if !d.bad.Overlaps(span.At(at, 4096)) {
						t.Fatalf("seed %d: the sector at %d is good and wasn't got", seed, at)
					}
				}
			}
		}
	}
}

// TestItGoesOn: work that ends at any moment goes on from its packed states, and reads nothing good twice.
func TestItGoesOn(t *testing.T) {
	const size = 80 << 20
	wanted := span.Of(span.At(0, 50<<20), span.At(60<<20, 10<<20))
	bad := span.Of(span.At(5<<20, 70_000/512*512), span.At(30<<20, 9<<20), span.At(63<<20, 512))
	for _, every := range []int{23, 60, 200} {
		states, all := NewStates(size, 512), &drive{bad: bad}
		for sitting := 0; ; sitting++ {
			if sitting > 2000 {
				t.Fatal("it doesn't come to an end")
			}
			all.most = all.reads + every
			rd := &Reading{States: states, Source: all, Physical: 4096}
			ctx := t.Context()
			err := rd.Stride(ctx, wanted.All())
			if err == nil {
				err = rd.Narrow(ctx, only(wanted))
			}
			if err == nil {
				err = rd.Single(ctx, only(wanted), 2)
			}
			if err == nil {
				break
			}
			if !errors.Is(err, errDead) {
				t.Fatal(err)
			}
			b, _ := states.Pack(0, 1<<30)
			states = NewStates(size, 512)
			if _, err := states.Unpack(0, b); err != nil {
				t.Fatal(err)
			}
			if again, _ := states.Pack(0, 1<<30); !bytes.Equal(b, again) {
				t.Fatal("the states pack to something else")
			}
		}
		// A bad sector takes its neighbours in the same 4 KiB along.
		if want := wanted.Total() - 70_000/512*512 - 9<<20 - 4096; states.Got() > want || states.Got() < want-2*4096 {
			t.Errorf("every %d: %d got, want about %d", every, states.Got(), want)
		}
		var seen span.Set
		for _, sp := range all.got {
			if seen.Overlaps(sp) {
				t.Fatalf("%v was read twice", sp)
			}
			seen.Add(sp)
		}
	}
}

// TestFewReadsFail: a long dead stretch costs few failing reads in the stride, and a single bad sector one.
func TestFewReadsFail(t *testing.T) {
	const size = 4 << 30
	for _, c := range []struct {
		bad  span.Span
		most int
	}{{span.At(1<<30, 512), 1}, {span.At(1<<30, 1<<30), 11}} {
		d := &drive{bad: span.Of(c.bad)}
		rd := &Reading{States: NewStates(size, 512), Source: d, Physical: 512}
		if err := rd.Stride(t.Context(), span.Of(span.Span{End: size}).All()); err != nil || d.fails > c.most {
			t.Errorf("%v: %d reads failed, want at the most %d (%v)", c.bad, d.fails, c.most, err)
		}
		if missed := size - c.bad.Len() - rd.States.Got(); missed > c.bad.Len()+firstJump {
			t.Errorf("%v: %d good bytes are left", c.bad, missed)
		}
	}
}
