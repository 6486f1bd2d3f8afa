package shelf

import (
	"bytes"
	"context"
	"iter"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
)

func TestShare(t *testing.T) {
	for _, c := range []struct {
		part, whole int64
		words       string
	}{{0, 0, "100 %"}, {5, 5, "100 %"}, {9_999_999, 10_000_000, "99.99 %"}, {1<<60 - 1, 1 << 60, "99.99 %"}, {0, 9,
		"0.00 %"},
		{1, 3, "33.33 %"}, {-4, 9, "0.00 %"}} {
		if got := Share(c.part, c.whole); got != c.words {
			t.Errorf("%d of %d: %s, want %s", c.part, c.whole, got, c.words)
		}
	}
}

func TestRescueWords(t *testing.T) {
	r := &Rescue{Sittings: make([]Sitting, 3), Wanted: 10_000}
	twin := &Twin{Rescue: r, Disks: []TwinDisk{{Missing: span.Of(span.At(0, 2))}}}
	if got := twin.RescueWords(); got != "rescue, 3 sittings, 99.98 % of what is used" {
		t.Error(got)
	}
	r.Hit.Add(Hit{Files: 41, Rest: 3})
	r.Filled = []Filled{{"the twin of yesterday", 1000}, {"a drive", 500}}
	if got := twin.RescueWords(); !strings.HasSuffix(got, "1.50 kB of it from elsewhere, 41 files hit") {
		t.Error(got)
	}
	r.Hit.Add(Hit{Files: 1, More: true})
	if got := twin.RescueWords(); !strings.HasSuffix(got, "more than 42 files hit") || (&Twin{}).RescueWords() != "" {
		t.Error(got)
	}
}

// TestTries: the pieces of what was tried come back for their disk and twin, pieces that are too many go, and so do all
// with the twin.
func TestTries(t *testing.T) {
	s, err := Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	c, err := s.Begin(t.Context(), "Crane")
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	twin := &Twin{ID: NewTwinID(at), Machine: "Crane", Taken: at, Disks: []TwinDisk{{Identity: disk.Identity{Size: 4096,
		Sector: 512}, Regions: []Region{{Span: span.At(0, 4096), Nodes: []string{""}}}, Missing: span.Of(span.At(512,
		1024))}}}
	if err := c.Checkpoint(t.Context(), twin); err != nil {
		t.Fatal(err)
	}
	pieces := func(all ...string) iter.Seq2[int, []byte] {
		return func(yield func(int, []byte) bool) {
			for i, p := range all {
				if !yield(i*7, []byte(p)) {
					return
				}
			}
		}
	}
	for _, all := range [][]string{{"one", "two", "three"}, {"uno", "due"}} {
		if err := c.PutTried(t.Context(), twin.ID, 0, pieces(all...)); err != nil {
			t.Fatal(err)
		}
	}
	if err := c.PutTried(t.Context(), twin.ID, 1, pieces("another disk")); err != nil {
		t.Fatal(err)
	}
	c.Abort(context.Background())
	var got []string
	for from, b := range TriesOn(s).Of(t.Context(), twin.ID, 0) {
		if from != len(got)*7 {
			t.Errorf("piece %d begins at chunk %d", len(got), from)
		}
		got = append(got, string(b))
	}
	if strings.Join(got, " ") != "uno due" {
		t.Errorf("%q", got)
	}
	for range TriesOn(s).Of(t.Context(), "../"+twin.ID, 0) {
		t.Error("a name that is no twin's has tries")
	}
	missingIsZero(t, s, twin)
	if err := s.Discard(t.Context(), twin, "test"); err != nil {
		t.Fatal(err)
	}
	for i := range 2 {
		for range TriesOn(s).Of(t.Context(), twin.ID, i) {
			t.Errorf("tries of disk %d are left", i)
		}
	}
}

// missingIsZero: what is missing is zeros also where no block is kept, and the rest stays undefined.
func missingIsZero(t *testing.T, s *Shelf, twin *Twin) {
	t.Helper()
	d, err := s.OpenDisk(t.Context(), twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	var kinds []disk.PieceKind
	var ends []int64
	for p, err := range d.Pieces() {
		if err != nil {
			t.Fatal(err)
		}
		kinds, ends = append(kinds, p.Kind), append(ends, p.End)
	}
	if len(kinds) != 3 || kinds[0] != disk.Undefined || kinds[1] != disk.Zero || kinds[2] != disk.Undefined ||
		ends[0] != 512 || ends[1] != 1536 || ends[2] != 4096 {
		t.Errorf("%v up to %v", kinds, ends)
	}
	b := bytes.Repeat([]byte{9}, 4096)
	if err := disk.ReadFull(d, b, 0); err != nil || !disk.IsZero(b) {
		t.Errorf("it doesn't read as zeros (%v)", err)
	}
}
