package plan

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"iter"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/hive/hivetest"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

const miB = 1 << 20

// mapped is a memory disk as pieces of data of 1 MiB.
type mapped struct{ *disk.Memory }

func (m mapped) Pieces() iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		for sp := range disk.Chunks(span.Span{End: m.Size()}, miB) {
			if !yield(disk.Piece{Span: sp, Kind: disk.Data}, nil) {
				return
			}
		}
	}
}

func order(t *testing.T, w Wish) Order {
	return Order{Source: mapped{fsystest.Kiosk(t)}, Target: disk.Identity{Size: 44 * miB, Sector: 512}, Wish: w,
		Seed: "harbour"}
}

// wishes are wishes that between them have every pass do something.
func wishes() map[string]Wish {
	return map[string]Wish{
		"nothing":      {},
		"fresh":        {Fresh: true},
		"a new part":   {Wish: fit.Wish{Keep: true}, NewPart: NewPart{"ext4", "SPARE"}},
		"all of it":    {Wish: fit.Wish{Parts: map[int]fit.PartWish{1: {Leave: true}}}, Fresh: true, AsItStarts: true},
		"as small as.": {Wish: fit.Wish{Parts: map[int]fit.PartWish{2: {Least: true}}}},
	}
}

// TestPassesLeaveTheirPlan: a pass gives another plan, and the one that it was given is what it was, down to the bytes
// of its disk; the same order makes the same plan.
func TestPassesLeaveTheirPlan(t *testing.T) {
	for name, w := range wishes() {
		t.Run(name, func(t *testing.T) {
			p := Plan{Order: order(t, w)}
			for _, x := range append(passes(), pass{"", check}) {
				before, bytesBefore := p, contents(t, p.Disk)
				next, err := x.run(t.Context(), p)
				if err != nil {
					t.Fatal(err)
				}
				if !reflect.DeepEqual(summary(p), summary(before)) || !bytes.Equal(contents(t, p.Disk), bytesBefore) {
					t.Errorf("%q changed the plan that it was given", x.doing)
				}
				p = next
			}
			again, err := Make(t.Context(), p.Order)
			if err != nil {
				t.Fatal(err)
			}
			if !bytes.Equal(contents(t, again.Disk), contents(t, p.Disk)) {
				t.Error("the same order makes another disk")
			}
		})
	}
}

// TestLikePlans: what a plan has in common with others isn't worked out again and not kept twice, and makes the same
// disk; where anything of it could differ it is worked out.
func TestLikePlans(t *testing.T) {
	base := order(t, Wish{})
	base.Origin = "twin kiosk 0"
	first, err := Make(t.Context(), base)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		change func(*Order)
		shared bool
	}{
		"the same":             {func(*Order) {}, true},
		"identities":           {func(o *Order) { o.Wish.Fresh, o.Seed = true, "till 2" }, true},
		"another size":         {func(o *Order) { o.Target.Size += 4 * miB }, false},
		"another source":       {func(o *Order) { o.Origin = "twin kiosk 1" }, false},
		"a source without one": {func(o *Order) { o.Origin = "" }, false},
		"a part left out":      {func(o *Order) { o.Wish.Parts = map[int]fit.PartWish{1: {Leave: true}} }, false},
		"a new part":           {func(o *Order) { o.Wish.NewPart = NewPart{"ext4", "SPARE"} }, false},
	} {
		t.Run(name, func(t *testing.T) {
			o := base
			c.change(&o)
			alone, err := Make(t.Context(), o)
			if err != nil {
				t.Fatal(err)
			}
			o.Like = []*Plan{first}
			p, err := Make(t.Context(), o)
			if err != nil {
				t.Fatal(err)
			}
			if (p.Layout == first.Layout) != c.shared || len(p.Order.Like) > 0 {
				t.Errorf("shared is %v, and it keeps %d others", p.Layout == first.Layout, len(p.Order.Like))
			}
			if c.shared && (&p.Disk.Moves()[0] != &first.Disk.Moves()[0] ||
				!o.Wish.Fresh && &p.Disk.Patches()[0] != &first.Disk.Patches()[0]) {
				t.Error("it has moves or patches of its own")
			}
			if !slices.Equal(p.Notes(), alone.Notes()) || !bytes.Equal(contents(t, p.Disk), contents(t, alone.Disk)) {
				t.Error("it isn't the plan that is made alone")
			}
		})
	}
}

func contents(t *testing.T, d disk.Device) []byte {
	t.Helper()
	if d == nil || reflect.ValueOf(d).IsNil() {
		return nil
	}
	b := make([]byte, d.Size())
	if err := disk.ReadFull(d, b, 0); err != nil {
		t.Fatal(err)
	}
	return b
}

// summary is everything of a plan that can be printed.
func summary(p Plan) string {
	text := fmt.Sprintf("%v %v %+v %v", p.Repaired, p.Elsewhere, p.Added, p.Repairs)
	if p.Layout != nil {
		l := *p.Layout
		for _, q := range l.Patches {
			text += fmt.Sprintf(" %v %x", q.Span(), sha256.Sum256(q.Bytes()))
		}
		l.Patches = nil
		text += fmt.Sprintf(" %+v", l)
	}
	if p.Startup != nil {
		text += fmt.Sprintf(" %+v", *p.Startup)
	}
	if p.Fresh != nil {
		text += fmt.Sprintf(" %+v", *p.Fresh)
	}
	return text
}

// TestPlanningEndsAtEveryStep: whatever the planning is busy with when it is cancelled, it ends there; and it says what
// it is busy with.
func TestPlanningEndsAtEveryStep(t *testing.T) {
	var heard []string
	o := order(t, Wish{Fresh: true})
	o.Doing = func(what string) { heard = append(heard, what) }
	if _, err := Make(t.Context(), o); err != nil {
		t.Fatal(err)
	}
	if len(heard) != len(passes())+1 {
		t.Fatalf("heard %q", heard)
	}
	for i := range heard {
		ctx, cancel := context.WithCancel(t.Context())
		n := 0
		o.Doing = func(string) {
			if n++; n == i+1 {
				cancel()
			}
		}
		if _, err := Make(ctx, o); !errors.Is(err, context.Canceled) || n != i+1 {
			t.Errorf("cancelled while %s: %v after %d passes", heard[i], err, n)
		}
	}
}

// ending cancels a context when a byte after the first MiB is read.
type ending struct {
	mapped
	cancel context.CancelFunc
	after  int
}

func (e *ending) ReadAt(p []byte, off int64) (int, error) {
	if e.after++; e.after > 20 {
		e.cancel()
	}
	return e.mapped.ReadAt(p, off)
}

// TestPlanningEndsWhileItReads: looking how small a file system can become takes reading, which ends too.
func TestPlanningEndsWhileItReads(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	o := order(t, Wish{Wish: fit.Wish{Parts: map[int]fit.PartWish{2: {Least: true}}}})
	src := &ending{mapped: mapped{fsystest.Kiosk(t)}, cancel: cancel}
	o.Source = src
	if _, err := Make(ctx, o); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if src.after > 25 {
		t.Errorf("read on %d times", src.after-20)
	}
}

// TestRetrace: a disk that was made by a plan shows by which one; what was laid out otherwise gets the plain one.
func TestRetrace(t *testing.T) {
	for name, w := range wishes() {
		o := order(t, w)
		p, err := Make(t.Context(), o)
		if err != nil {
			t.Fatal(err)
		}
		made := disk.NewMemory(p.Disk.Size(), 512)
		copy(made.Bytes, contents(t, p.Disk))
		o.Wish = Wish{}
		again, err := Retrace(t.Context(), o, made)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if !bytes.Equal(contents(t, again.Disk), made.Bytes) {
			t.Errorf("%s: the plan found is another: %+v", name, again.Order.Wish)
		}
	}
	o := order(t, Wish{})
	blank := disk.NewMemory(o.Target.Size, 512)
	p, err := Retrace(t.Context(), o, blank)
	if err != nil || !p.Order.Wish.Keep {
		t.Errorf("a blank disk: %v %+v", err, p)
	}
}

// TestRetraceWindows: the same of a Windows that was moved, told to start elsewhere, and given identities of its own:
// what is written for one of these is written over for another.
func TestRetraceWindows(t *testing.T) {
	b, err := os.ReadFile(hivetest.Till(t, table.MBR, nil))
	if err != nil {
		t.Fatal(err)
	}
	source := disk.NewMemory(int64(len(b)), 512)
	copy(source.Bytes, b)
	for _, hardware := range []bool{false, true} {
		for _, fresh := range []bool{false, true} {
			o := Order{Source: mapped{source}, Target: disk.Identity{Size: 150 * miB, Sector: 512}, Seed: "harbour",
				Wish: Wish{Wish: fit.Wish{Parts: map[int]fit.PartWish{1: {Share: 1}}}, OtherHardware: hardware,
					Fresh: fresh}}
			p, err := Make(t.Context(), o)
			if err != nil {
				t.Fatal(err)
			}
			if len(p.Repaired) == 0 || len(p.Startup.Starts()) != 1 {
				t.Fatalf("%q: %s", p.Repaired, p.Startup.Words())
			}
			made := disk.NewMemory(p.Disk.Size(), 512)
			copy(made.Bytes, contents(t, p.Disk))
			o.Wish = Wish{}
			again, err := Retrace(t.Context(), o, made)
			if err != nil {
				t.Fatal(err)
			}
			if w := again.Order.Wish; !bytes.Equal(contents(t, again.Disk), made.Bytes) ||
				w.OtherHardware != hardware ||
				w.Fresh != fresh || w.AsItStarts {
				t.Errorf("other hardware %v, fresh %v: the plan found is another: %+v", hardware, fresh, w)
			}
		}
	}
}

// TestPlanRefuses says what can't be done, and why.
func TestPlanRefuses(t *testing.T) {
	for says, w := range map[string]Wish{
		"no room left": {Wish: fit.Wish{Parts: map[int]fit.PartWish{2: {Share: 1}}}, NewPart: NewPart{Kind: "ext4"}},
		"XFS":          {Wish: fit.Wish{Keep: true}, NewPart: NewPart{Kind: "XFS"}},
		"no part 9":    {Wish: fit.Wish{Parts: map[int]fit.PartWish{9: {Leave: true}}}},
	} {
		if _, err := Make(t.Context(), order(t, w)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", says, err)
		}
	}
}
