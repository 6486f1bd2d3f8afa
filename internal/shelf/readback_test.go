package shelf

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// liar is a folder whose drive changes a byte of every file of some kind that is put in place.
type liar struct {
	folder
	kind string // folder of the files
	on   bool
}

func (l *liar) Rename(from, to string) error {
	err := l.folder.Rename(from, to)
	if err == nil && l.on && strings.HasPrefix(to, l.kind) {
		var b []byte
		if b, err = os.ReadFile(l.path(to)); err == nil {
			b[len(b)/2] ^= 0x10
			err = os.WriteFile(l.path(to), b, 0o600)
		}
	}
	return err
}

func lying(t *testing.T, s *Shelf, kind string) (*Shelf, *liar) {
	t.Helper()
	l := &liar{folder: folder{s.Place()}, kind: kind}
	again, err := OpenBackend(l, give(phrase))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	return again, l
}

// TestGiveBackReadsBack: a drive that changes what it is given doesn't cost the old packs.
func TestGiveBackReadsBack(t *testing.T) {
	for _, kind := range []string{"packs/", "parity/"} {
		for _, make := range []func(testing.TB) *Shelf{newTest, newSealed} {
			plain := make(t)
			first, second := content(60, 1), content(60, 2)
			both := append(append([][]byte{}, first[:30]...), second[:30]...)
			a, b := commit(t, plain, "Kiosk", first), commit(t, plain, "Kiosk", both)
			s, l := lying(t, plain, kind)
			if err := s.Discard(a, "tidying"); err != nil {
				t.Fatal(err)
			}
			before := files(t, s)
			l.on = true
			if f, err := s.GiveBack(context.Background(), false, nil); !errors.Is(err, ErrReadBack) || !strings.Contains(err.Error(), kind) || !strings.Contains(err.Error(), "nothing was removed") || f.Bytes != 0 {
				t.Errorf("%s: %+v %v", kind, f, err)
			}
			holds(t, unsealed(t, s, phrase), b, both)
			for _, f := range before {
				if _, err := os.Stat(f); err != nil && strings.Contains(f, "/packs/") {
					t.Errorf("%v", err)
				}
			}
			// On a drive that does what it is told the same goes well, and what was read is remembered.
			l.on = false
			if did := gaveBack(t, s, false); did.Rewritten != 1 || did.Bytes == 0 {
				t.Errorf("%+v", did)
			}
			holds(t, unsealed(t, s, phrase), b, both)
			packs, _ := s.b.List("packs")
			read := 0
			for _, p := range packs {
				if id, _ := packID(p); !s.lastReads().Read[id].IsZero() {
					read++
				}
			}
			if read != 1 {
				t.Errorf("%d of %d packs are remembered as read", read, len(packs))
			}
		}
	}
}

// TestCarriedTwinsAreReadBack: what arrived is read from the other shelf's medium, once.
func TestCarriedTwinsAreReadBack(t *testing.T) {
	from := newTest(t)
	blocks := content(60, 4)
	tw := commit(t, from, "Ticket desk", blocks)
	commit(t, from, "Kiosk", content(20, 5))
	sealed, err := CreateSealed(filepath.Join(t.TempDir(), "elm"), "Elm", 64<<10, []byte(phrase), cheap)
	if err != nil {
		t.Fatal(err)
	}
	sealed.Close()
	to, l := lying(t, sealed, "packs/")
	carry := func() []*Twin {
		t.Helper()
		twins, problems := from.Twins()
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		if _, err := Carry(context.Background(), from, to, twins, nil); err != nil {
			t.Fatal(err)
		}
		twins, _ = to.Twins()
		return twins
	}
	l.on = true
	arrived := carry()
	if _, err := to.ReadBack(context.Background(), arrived, nil); !errors.Is(err, ErrReadBack) || !strings.Contains(err.Error(), "packs/") {
		t.Errorf("%v", err)
	}
	// Mended, it reads back; the second time nothing is left to be read.
	l.on = false
	if rep, err := to.Check(context.Background(), CheckKind{Share: 1, Mend: true}, nil); err != nil || len(rep.Mended) == 0 {
		t.Errorf("%v %+v", err, rep)
	}
	if rep, err := to.Check(context.Background(), CheckKind{Share: 1, Mend: true}, nil); err != nil || !rep.Sound() {
		t.Errorf("%v %+v", err, rep)
	}
	if n, err := to.ReadBack(context.Background(), arrived, nil); n != 0 || err != nil {
		t.Errorf("%d bytes read again: %v", n, err)
	}
	holds(t, to, arrived[1], blocks)
	if arrived[1].ID != tw.ID {
		t.Errorf("%s arrived", arrived[1].ID)
	}
	// A pack that is missing altogether is told as such.
	names, _ := to.b.List("packs")
	for _, n := range names {
		if err := os.Remove(filepath.Join(to.Place(), "packs", n)); err != nil {
			t.Fatal(err)
		}
	}
	if err := to.writeNote(checkedFile, checked{}); err != nil {
		t.Fatal(err)
	}
	fresh := unsealed(t, to, phrase)
	if _, err := fresh.ReadBack(context.Background(), arrived, nil); err == nil {
		t.Error("nothing is missed")
	}
}

// TestReadPackWithoutIndex: a pack is judged by its own table, and by the index where that is gone.
func TestReadPackWithoutIndex(t *testing.T) {
	s := newTest(t)
	tw := commit(t, s, "Kiosk", content(20, 1))
	file := onlyPack(t, s)
	id, _ := packID(filepath.Base(file))
	was, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	entries, ok := tableOf(bytesReader{bytes.NewReader(was)})
	if !ok || len(entries) < 20 {
		t.Fatalf("%d entries", len(entries))
	}
	third := entries[2]
	for _, c := range []struct {
		what  string
		spoil func(b []byte) []byte
		want  string
		hurt  int
	}{
		{"nothing", func(b []byte) []byte { return b }, "", 0},
		{"a byte of a block", func(b []byte) []byte { b[third.offset+entryLen] ^= 1; return b }, "isn't what was written", 1},
		{"a header", func(b []byte) []byte { b[third.offset+8] ^= 1; return b }, "the header of a block", 1},
		{"the table", func(b []byte) []byte { b[len(b)-trailerLen-5] ^= 1; return b }, "the table at its end", 0},
		{"the trailer", func(b []byte) []byte { b[len(b)-2] ^= 1; return b }, "the table at its end", 0},
		{"the table and a block", func(b []byte) []byte { b[len(b)-2] ^= 1; b[third.offset+entryLen] ^= 1; return b }, "isn't what was written", 1},
		{"the end", func(b []byte) []byte { return b[:entries[len(entries)-2].offset] }, "", 2},
	} {
		if err := os.WriteFile(file, c.spoil(bytes.Clone(was)), 0o600); err != nil {
			t.Fatal(err)
		}
		hurt, problem := s.readPack(context.Background(), id)
		if (problem != nil) != (c.what != "nothing") || problem != nil && !strings.Contains(problem.Error(), c.want) || len(hurt) != c.hurt {
			t.Errorf("%s: %v, %d blocks", c.what, problem, len(hurt))
		}
	}
	if err := os.WriteFile(file, was, 0o600); err != nil {
		t.Fatal(err)
	}
	holds(t, unsealed(t, s, phrase), tw, content(20, 1))
}

type bytesReader struct{ *bytes.Reader }

func (bytesReader) Close() error { return nil }
