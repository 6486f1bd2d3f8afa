package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"twinshelf/internal/store/backend"
)

func newStore(t testing.TB) *Store {
	t.Helper()
	s, err := Create(t.Context(), filepath.Join(t.TempDir(), "oak"), New{Name: "Oak", BlockSize: 64 << 10})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func reopen(t testing.TB, s *Store) *Store {
	t.Helper()
	again, err := Open(t.Context(), s.b, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	return again
}

// blocks gives n different blocks of 1000 bytes.
func blocks(n int, what string) [][]byte {
	out := make([][]byte, n)
	for i := range out {
		out[i] = fmt.Appendf(nil, "%s %0990d", what, i)[:1000]
	}
	return out
}

// stored puts blocks in a session of its own, and gives their names.
func stored(t testing.TB, s *Store, blocks [][]byte) []Name {
	t.Helper()
	c, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	names := put(t, c, blocks)
	if err := c.Finish(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	return names
}

func put(t testing.TB, c *Session, blocks [][]byte) (names []Name) {
	t.Helper()
	for _, b := range blocks {
		n, _, err := c.Put(t.Context(), b)
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, n)
	}
	return names
}

// has fails the test when blocks can't be had.
func has(t testing.TB, s *Store, names []Name, blocks [][]byte) {
	t.Helper()
	for i, n := range names {
		b, err := s.Block(t.Context(), n, nil)
		if err != nil || string(b) != string(blocks[i]) {
			t.Fatalf("block %d: %v", i, err)
		}
	}
}

func TestManySessionsShortenTheIndex(t *testing.T) {
	s := newStore(t)
	var names []Name
	var all [][]byte
	for i := range 2*maxSegments + 1 {
		b := blocks(4, fmt.Sprint("session ", i))
		c, err := s.Begin(t.Context(), "kiosk")
		if err != nil {
			t.Fatal(err)
		}
		names, all = append(names, put(t, c, b)...), append(all, b...)
		nothing := func(context.Context) error { return nil }
		if err := c.Commit(t.Context(), func(context.Context, *Lock) error { return nil }, nothing); err != nil {
			t.Fatal(err)
		}
	}
	files, err := s.b.List(t.Context(), indexFolder)
	if err != nil || len(files) > maxSegments {
		t.Errorf("%d files in the index (%v)", len(files), err)
	}
	has(t, s, names, all)
	has(t, reopen(t, s), names, all)
}

// BenchmarkLookup finds blocks in an index of 2 million blocks: 2 TB.
func BenchmarkLookup(b *testing.B) {
	s := newStore(b)
	records := make([]indexRecord, 2<<20)
	for i := range records {
		records[i] = indexRecord{Checksum(fmt.Append(nil, i)), place{"0011223344556677", int64(i) * 500_000, 499_000}}
	}
	seg, err := s.index.add(b.Context(), nil, s.ring.encodeSegment(sortRecords(records)))
	if err != nil {
		b.Fatal(err)
	}
	// An index entry counts only where its pack is there.
	err = backend.Put(b.Context(), s.b, packPath("0011223344556677"), header{kind: kindPack}.encode(),
		backend.Options{}, nil)
	if err != nil {
		b.Fatal(err)
	}
	st, err := os.Stat(filepath.Join(s.Place(), seg.file))
	if err != nil {
		b.Fatal(err)
	}
	again := reopen(b, s)
	start, n := time.Now(), 0
	for b.Loop() {
		n++
		if !again.Knows(b.Context(), records[n*7919%len(records)].name) {
			b.Fatal("not found")
		}
	}
	b.ReportMetric(float64(time.Since(start).Microseconds())/float64(n), "µs-lookup")
	b.ReportMetric(float64(st.Size())/2/1e6, "MB-index/TB")
}

// TestTiers: over a thousand captures the index stays short, and what is written anew is little beside writing all of
// it again and again.
func TestTiers(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	var segments []*segment
	written, total, everything := 0, 0, 0
	for i := range 1000 {
		n := 1 + r.IntN(600)
		segments = append(segments, &segment{file: indexFolder + "/" + newID() + ".index", count: n})
		total += n
		if len(segments) <= maxSegments {
			continue
		}
		small, large := tiers(segments)
		sum := 0
		for _, seg := range small {
			sum += seg.count
		}
		if len(small)+len(large) != len(segments) || len(large)+1 > maxSegments {
			t.Fatalf("capture %d: %d are merged, %d left, of %d", i, len(small), len(large), len(segments))
		}
		segments = append(large, &segment{file: indexFolder + "/" + newID() + ".index", count: sum})
		written, everything = written+sum, everything+total
	}
	left := 0
	for _, seg := range segments {
		left += seg.count
	}
	if left != total || written > 8*total || everything < 10*written {
		t.Errorf("%d of %d entries are left; %d were written anew, all each time would be %d", left, total, written,
			everything)
	}
	local := &segment{file: "packs that no file of the index covers", count: 1 << 20}
	small, _ := tiers(append(slices.Clone(segments), local))
	if !slices.Contains(small, local) {
		t.Error("what lies in no file isn't merged")
	}
}
