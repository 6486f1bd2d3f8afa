package keeping

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
)

// liar is a folder whose drive changes a byte of every object of some kind that is put in place.
type liar struct {
	backend.Backend
	kind string // folder of the objects
	on   bool
}

func (l *liar) Create(ctx context.Context, name string, o backend.Options) (backend.Upload, error) {
	u, err := l.Backend.Create(ctx, name, o)
	if err != nil || !l.on || !strings.HasPrefix(name, l.kind) {
		return u, err
	}
	return &lie{u, filepath.Join(l.Place(), name)}, nil
}

// lie is an upload that isn't what was written once it is there.
type lie struct {
	backend.Upload
	file string
}

func (l *lie) Commit(ctx context.Context) error {
	if err := l.Upload.Commit(ctx); err != nil {
		return err
	}
	b, err := os.ReadFile(l.file)
	if err != nil {
		return err
	}
	b[len(b)/2] ^= 0x10
	return os.WriteFile(l.file, b, 0o600)
}

func lying(t *testing.T, s *shelf.Shelf, kind string) (*shelf.Shelf, *liar) {
	t.Helper()
	l := &liar{Backend: backend.InFolder(s.Place()), kind: kind}
	again, err := shelf.OpenAt(t.Context(), l, shelftest.Give(shelftest.Phrase))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	return again, l
}

// unread has a shelf forget when its packs were read.
func unread(t *testing.T, s *shelf.Shelf) {
	t.Helper()
	if err := s.PutNote(t.Context(), nil, "checked.note", store.Reads{}); err != nil {
		t.Fatal(err)
	}
}

// reads is what a shelf remembers of reading its packs.
func reads(t testing.TB, s *shelf.Shelf) store.Reads {
	t.Helper()
	r, err := s.Reads(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestGiveBackReadsBack: a drive that changes what it is given doesn't cost the old packs.
func TestGiveBackReadsBack(t *testing.T) {
	for _, kind := range []string{"packs/", "parity/"} {
		for _, make := range []func(testing.TB) *shelf.Shelf{shelftest.New, shelftest.NewSealed} {
			plain := make(t)
			first, second := shelftest.Content(60, 1), shelftest.Content(60, 2)
			both := append(append([][]byte{}, first[:30]...), second[:30]...)
			a, b := shelftest.Commit(t, plain, "Kiosk", first), shelftest.Commit(t, plain, "Kiosk", both)
			s, l := lying(t, plain, kind)
			if err := s.Discard(t.Context(), a, "tidying"); err != nil {
				t.Fatal(err)
			}
			before := files(t, s)
			l.on = true
			if f, err := GiveBack(t.Context(), s, nil); !errors.Is(err, store.ErrReadBack) ||
				!strings.Contains(err.Error(), kind) || !strings.Contains(err.Error(), "nothing was removed") ||
				f.Bytes != 0 {
				t.Errorf("%s: %+v %v", kind, f, err)
			}
			shelftest.Holds(t, shelftest.Reopen(t, s), b, both)
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
			shelftest.Holds(t, shelftest.Reopen(t, s), b, both)
			packs := shelftest.List(t, s, "packs")
			if read := len(reads(t, s).Read); read != 1 {
				t.Errorf("%d of %d packs are remembered as read", read, len(packs))
			}
		}
	}
}

// TestCarriedTwinsAreReadBack: what arrived is read from the other shelf's medium, once.
func TestCarriedTwinsAreReadBack(t *testing.T) {
	from := shelftest.New(t)
	blocks := shelftest.Content(60, 4)
	tw := shelftest.Commit(t, from, "Ticket desk", blocks)
	shelftest.Commit(t, from, "Kiosk", shelftest.Content(20, 5))
	sealed, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "elm"),
		store.New{Name: "Elm", BlockSize: 64 << 10, Passphrase: []byte(shelftest.Phrase), Cost: shelftest.Cheap})
	if err != nil {
		t.Fatal(err)
	}
	sealed.Close()
	to, l := lying(t, sealed, "packs/")
	carry := func() []*shelf.Twin {
		t.Helper()
		twins, problems := from.Twins(t.Context())
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		if _, err := Carry(t.Context(), from, to, twins, nil); err != nil {
			t.Fatal(err)
		}
		twins, _ = to.Twins(t.Context())
		return twins
	}
	l.on = true
	arrived := carry()
	if _, err := ReadBack(t.Context(), to, arrived, nil); !errors.Is(err, store.ErrReadBack) ||
		!strings.Contains(err.Error(), "packs/") {
		t.Errorf("%v", err)
	}
	// Mended, it reads back; the second time nothing is left to be read.
	l.on = false
	if rep, err := Check(t.Context(), to, CheckKind{Share: 1, Mend: true}, nil); err != nil || len(rep.Mended) == 0 {
		t.Errorf("%v %+v", err, rep)
	}
	if rep, err := Check(t.Context(), to, CheckKind{Share: 1, Mend: true}, nil); err != nil || !rep.Sound() {
		t.Errorf("%v %+v", err, rep)
	}
	if n, err := ReadBack(t.Context(), to, arrived, nil); n != 0 || err != nil {
		t.Errorf("%d bytes read again: %v", n, err)
	}
	shelftest.Holds(t, to, arrived[1], blocks)
	if arrived[1].ID != tw.ID {
		t.Errorf("%s arrived", arrived[1].ID)
	}
	// A pack that is missing altogether is told as such.
	names := shelftest.List(t, to, "packs")
	for _, n := range names {
		if err := os.Remove(filepath.Join(to.Place(), "packs", n)); err != nil {
			t.Fatal(err)
		}
	}
	unread(t, to)
	fresh := shelftest.Reopen(t, to)
	if _, err := ReadBack(t.Context(), fresh, arrived, nil); err == nil {
		t.Error("nothing is missed")
	}
}
