package store

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
)

// onlyPack is the only pack of a store.
func onlyPack(t testing.TB, s *Store) (id, file string) {
	t.Helper()
	ids, err := s.index.packIDs(t.Context())
	if err != nil || len(ids) != 1 {
		t.Fatalf("%v %v", ids, err)
	}
	return ids[0], filepath.Join(s.Place(), packPath(ids[0]))
}

// TestReadPackWithoutIndex judges a pack by its own table, and by the index where that is gone.
func TestReadPackWithoutIndex(t *testing.T) {
	s := newStore(t)
	all := blocks(20, "a")
	names := stored(t, s, all)
	id, file := onlyPack(t, s)
	was, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	entries, ok := tableOf(bytes.NewReader(was), int64(len(was)))
	if !ok || len(entries) != 20 {
		t.Fatalf("%d entries", len(entries))
	}
	third := entries[2].offset
	flip := func(at int64) func([]byte) []byte {
		return func(b []byte) []byte {
			b[at] ^= 1
			return b
		}
	}
	end := int64(len(was))
	for _, c := range []struct {
		what  string
		spoil func(b []byte) []byte
		want  string
		hurt  int
	}{
		{"nothing", bytes.Clone, "", 0},
		{"a byte of a block", flip(third + entryLen), "isn't what was written", 1},
		{"a header", flip(third + 8), "the header of a block", 1},
		{"the table", flip(end - trailerLen - 5), "the table at its end", 0},
		{"the trailer", flip(end - 2), "the table at its end", 0},
		{"the table and a block", func(b []byte) []byte { return flip(end - 2)(flip(third + entryLen)(b)) },
			"isn't what", 1},
		{"the end", func(b []byte) []byte { return b[:entries[18].offset] }, "", 2},
	} {
		if err := os.WriteFile(file, c.spoil(bytes.Clone(was)), 0o600); err != nil {
			t.Fatal(err)
		}
		hurt, problem := s.readPack(t.Context(), id)
		if (problem != nil) != (c.what != "nothing") || len(hurt) != c.hurt ||
			problem != nil && !strings.Contains(problem.Error(), c.want) {
			t.Errorf("%s: %v, %d blocks", c.what, problem, len(hurt))
		}
	}
	if err := os.WriteFile(file, was, 0o600); err != nil {
		t.Fatal(err)
	}
	has(t, reopen(t, s), names, all)
}

func FuzzFiles(f *testing.F) {
	open := &keyring{}
	entry := append(header{kind: kindPack}.encode(), open.encodeEntry(Name{1}, codecRaw, []byte("abc"), 3)...)
	entry = append(entry, "abc"...)
	f.Add(entry)
	f.Add(append(entry, encodeTable([]packEntry{{Name{1}, headerLen, 3, 3}}, int64(len(entry)))...))
	f.Add(open.encodeSegment([]indexRecord{{Name{1}, place{"0011223344556677", 128, 3}}})[:4096])
	f.Add(open.document(KindTwin, []byte(`{"id":"a","disks":[{}]}`)))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := bytes.NewReader(b)
		_, _ = readTable(r, int64(len(b)), "pack")
		if s, err := open.openSegment(t.Context(), "index", local{r}, int64(len(b))); err == nil {
			_, _ = s.find(t.Context(), Name{1})
		}
		if p, err := open.payload("twin", b, KindTwin); err == nil && len(p) == 0 {
			t.Log("empty")
		}
	})
}

func FuzzParity(f *testing.F) {
	s := newStore(f)
	stored(f, s, blocks(3, "a"))
	id, _ := onlyPack(f, s)
	b, err := os.ReadFile(filepath.Join(s.Place(), parityPath(id)))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b[:headerLen+500])
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		medium := backendtest.NewStorm(rand.New(rand.NewPCG(1, 1))).Process()
		if err := backend.Put(t.Context(), medium, "parity", b, backend.Options{}, nil); err != nil {
			t.Fatal(err)
		}
		h, err := backend.Open(t.Context(), medium, "parity")
		if err != nil {
			t.Fatal(err)
		}
		if p, err := readParity(t.Context(), "parity", h); err == nil {
			p.hurt(nothing{})
			_ = p.mend(t.Context(), nothing{}, &bytes.Buffer{})
		}
	})
}

// TestSuites seals stores by every suite, whatever this machine would choose.
func TestSuites(t *testing.T) {
	for _, suite := range []uint16{SuiteChaCha, SuiteAES} {
		phrase := []byte("salt on the railing")
		medium := backendtest.NewStorm(rand.New(rand.NewPCG(2, 2)))
		n := New{Name: "Oak", BlockSize: 64 << 10, Passphrase: phrase, Cost: Cost{Passes: 1, Memory: 64, Threads: 1},
			suite: suite}
		s, err := CreateAt(t.Context(), medium.Process(), n)
		if err != nil {
			t.Fatal(err)
		}
		all := blocks(20, "a")
		names := stored(t, s, all)
		if err := s.PutNote(t.Context(), nil, RulesFile, map[string]int{"floor": 3}); err != nil {
			t.Fatal(err)
		}
		again, err := Open(t.Context(), medium.Process(), func() ([]byte, error) { return phrase, nil })
		if err != nil {
			t.Fatal(err)
		}
		has(t, again, names, all)
		if again.Head().Suite != suite || names[0] == Checksum(all[0]) {
			t.Errorf("suite %d: the head says %d, or a name is that of an open store", suite, again.Head().Suite)
		}
		checkSuites(t, medium.Process(), suite)
	}
}

// checkSuites looks whether every file but locks names a suite, and tells nothing of the blocks.
func checkSuites(t *testing.T, b backend.Backend, suite uint16) {
	t.Helper()
	for _, folder := range []string{"", packFolder, parityFolder, indexFolder} {
		names, err := b.List(t.Context(), folder)
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range names {
			file := strings.TrimPrefix(folder+"/"+n, "/")
			raw, err := backend.Get(t.Context(), b, file, 1<<30)
			if err != nil { // a folder
				continue
			}
			if got, ok := suiteOf(t.Context(), b, file); !ok || got != suite {
				t.Errorf("%s has suite %d, not %d", file, got, suite)
			}
			if bytes.Contains(raw, []byte("0000000000")) || bytes.Contains(raw, []byte("floor")) {
				t.Errorf("%s tells what is in it", file)
			}
		}
	}
}

// TestCommitThatHappened has the last step of every put report a failure though it happened: nothing is lost, and a
// session that fails leaves nothing that names packs which are gone.
func TestCommitThatHappened(t *testing.T) {
	for at := 1; at < 14; at++ {
		medium := backendtest.NewStorm(rand.New(rand.NewPCG(3, uint64(at))))
		s, err := CreateAt(t.Context(), medium.Process(), New{Name: "Oak", BlockSize: 64 << 10})
		if err != nil {
			t.Fatal(err)
		}
		s.LimitPacks(6000)
		all := blocks(20, "a")
		names := stored(t, s, all)
		medium.Set(backendtest.Weather{HappenAt: at})
		more := blocks(20, "b")
		c, err := s.Begin(t.Context(), "kiosk")
		if err != nil {
			t.Fatalf("put %d: %v", at, err) // a lock that reports a failure and is there counts
		}
		var twice []Name
		for _, b := range more {
			n, _, err := c.Put(t.Context(), b)
			if err != nil {
				break
			}
			twice = append(twice, n)
		}
		err = c.Finish(t.Context(), nil)
		medium.Set(backendtest.Weather{})
		again, openErr := Open(t.Context(), medium.Process(), nil)
		if openErr != nil {
			t.Fatalf("put %d: %v", at, openErr)
		}
		has(t, again, names, all)
		if err == nil {
			has(t, again, twice, more)
		}
		for _, problem := range again.CheckIndex(t.Context()) {
			t.Errorf("put %d: %v", at, problem)
		}
		segments, done := again.index.snapshot()
		defer done()
		for _, seg := range segments {
			if len(seg.gone) > 0 {
				t.Errorf("put %d: the index names packs that are gone: %v", at, seg.gone)
			}
		}
	}
}

// TestUndoThatFails keeps the blocks of what may have been published.
func TestUndoThatFails(t *testing.T) {
	s := newStore(t)
	c, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	all := blocks(5, "a")
	names := put(t, c, all)
	unreachable := os.ErrDeadlineExceeded
	fail := func(context.Context, *Lock) error { return unreachable }
	err = c.Commit(t.Context(), fail, func(context.Context) error { return unreachable })
	if err == nil || !strings.Contains(err.Error(), "can't be written") {
		t.Errorf("commit: %v", err)
	}
	has(t, reopen(t, s), names, all)
}
