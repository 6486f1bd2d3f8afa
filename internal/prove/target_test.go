package prove_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

const miB = 1 << 20

// kiosk is a small disk, looked at.
func kiosk(t *testing.T) *survey.Survey {
	t.Helper()
	s, err := survey.Of(t.Context(), fsystest.Kiosk(t), nil)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// made plans a kiosk onto a target of 64 MiB, and makes that target: what nobody uses holds whatever was there before.
func made(t *testing.T, s *survey.Survey, w plan.Wish) (*plan.Plan, *disk.Memory) {
	t.Helper()
	p, err := plan.Make(t.Context(), plan.Order{Source: s.Mapped(), Target: disk.Identity{Size: 64 * miB, Sector: 512},
		Wish: w, Seed: "harbour"})
	if err != nil {
		t.Fatal(err)
	}
	target := disk.NewMemory(p.Disk.Size(), 512)
	for i := range target.Bytes {
		target.Bytes[i] = 0xE5
	}
	for piece, err := range p.Disk.Pieces() {
		if err != nil {
			t.Fatal(err)
		}
		if piece.Kind == disk.Undefined {
			continue
		}
		if err := disk.ReadFull(p.Disk, target.Bytes[piece.Start:piece.End], piece.Start); err != nil {
			t.Fatal(err)
		}
	}
	return p, target
}

func proven(t *testing.T, s *survey.Survey, p *plan.Plan, target disk.Device) *shelf.Proof {
	t.Helper()
	var proof *shelf.Proof
	if err := testkit.Run(t, func(rc *run.Context) (err error) {
		proof, err = prove.Target(rc, capture.Describe(s), p, target, "test")
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return proof
}

func wishes() map[string]plan.Wish {
	return map[string]plan.Wish{"grown": {}, "kept": {Wish: fit.Wish{Keep: true}}, "fresh": {Fresh: true},
		"with a new part": {Wish: fit.Wish{Keep: true}, NewPart: plan.NewPart{Kind: "ext4", Label: "SPARE"}},
		"one left out":    {Wish: fit.Wish{Parts: map[int]fit.PartWish{1: {Leave: true}}}}}
}

// TestEveryByteCounts: the proof of a target as it was planned holds; one bit that differs where something was planned
// fails it, whatever was planned; one where nothing was doesn't.
func TestEveryByteCounts(t *testing.T) {
	s := kiosk(t)
	for name, w := range wishes() {
		t.Run(name, func(t *testing.T) {
			p, target := made(t, s, w)
			if proof := proven(t, s, p, target); !proof.Holds() {
				t.Fatalf("%s: %+v", proof.Words(), proof.Claims)
			}
			planned, free := places(t, p)
			r := rand.New(rand.NewPCG(13, 7))
			for range 12 {
				at := pick(r, planned)
				target.Bytes[at] ^= 1 << r.IntN(8)
				proof := proven(t, s, p, target)
				if proof.Holds() || !strings.Contains(fmt.Sprint(proof.Claims), "differ") &&
					!strings.Contains(fmt.Sprint(proof.Claims), "zeros") {
					t.Errorf("a bit of byte %d differs, and the proof says %s", at, proof.Words())
				}
				if err := disk.ReadFull(p.Disk, target.Bytes[at:at+1], at); err != nil {
					t.Fatal(err)
				}
				target.Bytes[pick(r, free)] ^= 1 << r.IntN(8)
			}
			if proof := proven(t, s, p, target); !proof.Holds() {
				t.Errorf("bytes that nobody uses differ, and the proof says %s", proof.Words())
			}
		})
	}
}

// places are the stretches that were planned, and those that nobody uses.
func places(t *testing.T, p *plan.Plan) (planned, free []span.Span) {
	t.Helper()
	for piece, err := range p.Disk.Pieces() {
		switch {
		case err != nil:
			t.Fatal(err)
		case piece.Kind == disk.Undefined:
			free = append(free, piece.Span)
		default:
			planned = append(planned, piece.Span)
		}
	}
	planned = inUse(t, p, planned)
	if len(planned) == 0 || len(free) == 0 {
		t.Fatalf("%d stretches are planned and %d free", len(planned), len(free))
	}
	return planned, free
}

// inUse are those of the stretches that the planned file systems use, or that lie in no part. What was the edge of a
// part that grew is written too, and nobody uses it any more.
func inUse(t *testing.T, p *plan.Plan, planned []span.Span) []span.Span {
	t.Helper()
	parts, used := span.Set{}, span.Set{}
	for _, x := range p.Layout.Parts {
		if x.To.Empty() {
			continue
		}
		parts.Add(x.To)
		c, err := families.Examine(t.Context(), disk.Section(p.Disk, x.To.Start, x.To.Len()), x.To.Len(), 512)
		if err != nil {
			t.Fatal(err)
		}
		for sp, err := range c.Spans() {
			if err != nil {
				t.Fatal(err)
			}
			used.Add(sp.Shift(x.To.Start))
		}
	}
	var out []span.Span
	for _, sp := range planned {
		for hit := range span.Of(sp).Subtract(parts).Union(used.Clip(sp)).All() {
			out = append(out, hit)
		}
	}
	return out
}

func pick(r *rand.Rand, spans []span.Span) int64 {
	sp := spans[r.IntN(len(spans))]
	return sp.Start + r.Int64N(sp.Len())
}

// TestOlderNames: a twin whose file system an older version knew by another name is proven all the same.
func TestOlderNames(t *testing.T) {
	s := kiosk(t)
	p, target := made(t, s, plan.Wish{})
	older := capture.Describe(s)
	for i := range older.Regions {
		if r := &older.Regions[i]; r.Part == 2 {
			r.Kind, r.ID = "a Linux file system", ""
		}
	}
	if err := testkit.Run(t, func(rc *run.Context) error {
		proof, err := prove.Target(rc, older, p, target, "test")
		if err == nil && !proof.Holds() {
			t.Errorf("%s: %+v", proof.Words(), proof.Claims)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
}

// TestTargetThatFails: places that can't be read are claims that don't hold, and name where; a target that is too small
// is refused.
func TestTargetThatFails(t *testing.T) {
	s := kiosk(t)
	p, target := made(t, s, plan.Wish{})
	planned, _ := places(t, p)
	hurt := span.At(planned[len(planned)/2].Start, 1)
	proof := proven(t, s, p, &disk.Faulty{Writable: target, BadRead: span.Of(hurt)})
	if proof.Holds() {
		t.Error("a target of which a place can't be read is proven")
	}
	small := disk.NewMemory(32*miB, 512)
	err := testkit.Run(t, func(rc *run.Context) error {
		_, err := prove.Target(rc, capture.Describe(s), p, small, "test")
		return err
	})
	if err == nil || !strings.Contains(err.Error(), "the plan is for") {
		t.Errorf("a target that is too small: %v", err)
	}
}

// TestResembles: what bears no identity of the plan isn't compared with it.
func TestResembles(t *testing.T) {
	s := kiosk(t)
	p, target := made(t, s, plan.Wish{})
	if err := prove.Resembles(t.Context(), p.Disk, target); err != nil {
		t.Error(err)
	}
	if err := prove.Resembles(t.Context(), p.Disk, disk.NewMemory(64*miB, 512)); err == nil ||
		!strings.Contains(err.Error(), "isn't a restore of it") {
		t.Errorf("a blank disk: %v", err)
	}
	fresh, other := made(t, s, plan.Wish{Fresh: true})
	if err := prove.Resembles(t.Context(), fresh.Disk, other); err != nil {
		t.Error(err)
	}
	if err := prove.Resembles(t.Context(), p.Disk, other); err == nil {
		t.Log("a copy with identities of its own bears none of the source's but what stays")
	}
}
