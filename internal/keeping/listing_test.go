package keeping

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

// listed commits a listing of n blocks for a twin, and gives the names of its blocks.
func listed(t testing.TB, s *shelf.Shelf, tw *shelf.Twin, n int, seed byte) []string {
	t.Helper()
	c, err := s.Begin(t.Context(), tw.Machine)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for i := range n {
		name, _, err := c.Put(t.Context(), append([]byte{seed, byte(i), byte(i >> 8)}, "a chunk of names"...))
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, name.String())
	}
	lists, err := c.PutList(t.Context(), names)
	if err != nil {
		t.Fatal(err)
	}
	c.Attach(&shelf.Listing{Twin: tw.ID, Tool: "test",
		Parts: []shelf.ListedPart{{Part: 1, Lists: lists, Items: int64(n)}, {Part: 2, Why: "unknown"}}})
	if err := c.Finish(t.Context()); err != nil {
		t.Fatal(err)
	}
	return names
}

// readListing reads a listing through, and says how many blocks could be had.
func readListing(t testing.TB, s *shelf.Shelf, tw *shelf.Twin, want []string) int {
	t.Helper()
	l, err := s.Listing(t.Context(), tw.ID)
	if err != nil || l == nil {
		return 0
	}
	names, err := s.Listed(t.Context(), l.Parts[0])
	if err != nil {
		return 0
	}
	if want != nil && !slices.Equal(names, want) {
		t.Errorf("%d names, want %d", len(names), len(want))
	}
	n := 0
	for _, text := range names {
		name, err := store.ParseName(text)
		if err != nil {
			t.Fatal(err)
		}
		if b, err := s.Block(t.Context(), name, nil); err == nil && bytes.HasSuffix(b, []byte("a chunk of names")) {
			n++
		}
	}
	return n
}

func TestListingsLiveWithTheirTwins(t *testing.T) {
	s := shelftest.New(t)
	blocks, others := shelftest.Content(40, 1), shelftest.Content(40, 2)
	a, b := shelftest.Commit(t, s, "Ticket desk", blocks), shelftest.Commit(t, s, "Harbour kiosk", others)
	many := s.BlockSize()/32 + 7 // more than one block of names holds
	want := listed(t, s, a, many, 'a')
	listed(t, s, b, 20, 'b')
	s = shelftest.Reopen(t, s)
	if n := readListing(t, s, a, want); n != many {
		t.Errorf("%d of %d blocks", n, many)
	}
	if f := gaveBack(t, s, false); f.Removed > 0 {
		t.Errorf("giving back took %+v", f)
	}
	if n := readListing(t, s, a, want); n != many {
		t.Errorf("after giving back space %d of %d blocks", n, many)
	}
	if err := s.Discard(t.Context(), b, "test"); err != nil {
		t.Fatal(err)
	}
	gaveBack(t, s, false)
	if l, err := s.Listing(t.Context(), b.ID); l != nil || err != nil {
		t.Errorf("the listing of a discarded twin: %+v, %v", l, err)
	}
	if n := readListing(t, s, a, want); n != many {
		t.Errorf("of the other one %d of %d blocks are left", n, many)
	}
	shelftest.Holds(t, s, a, blocks)
	if _, err := s.Listing(t.Context(), "../x"); err == nil {
		t.Error("a listing of nonsense")
	}
}

// TestHurtListingsHarmNothing: what is derived may be lost; the twins stay.
func TestHurtListingsHarmNothing(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(40, 3)
	a := shelftest.Commit(t, s, "Ticket desk", blocks)
	listed(t, s, a, 20, 'c')
	file := filepath.Join(s.Place(), "names/"+a.ID+".note")
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	orphan := filepath.Join(s.Place(), "names/"+shelf.NewTwinID(a.Taken)+".note")
	if err := os.WriteFile(orphan, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	gone := shelftest.Commit(t, s, "Harbour kiosk", shelftest.Content(50, 4)) // something to give back
	if err := s.Discard(t.Context(), gone, "test"); err != nil {
		t.Fatal(err)
	}
	gaveBack(t, s, false)
	if _, err := os.Stat(orphan); err == nil {
		t.Error("the listing of a twin that was never there stays")
	}
	shelftest.Flip(t, file, int64(len(whole)/2))
	if _, err := s.Listing(t.Context(), a.ID); err == nil {
		t.Error("damage isn't noticed")
	}
	if f := gaveBack(t, s, false); f.Needed == 0 {
		t.Errorf("giving back with a hurt listing: %+v", f)
	}
	shelftest.Holds(t, s, a, blocks)
	listed(t, s, a, 20, 'd') // made again
	if n := readListing(t, s, a, nil); n != 20 {
		t.Errorf("made again it has %d of 20 blocks", n)
	}
	rep, err := Check(t.Context(), s, CheckKind{Share: 1}, nil)
	if err != nil || !rep.Sound() {
		t.Errorf("check: %+v, %v", rep, err)
	}
}

func TestListingsAreCarried(t *testing.T) {
	from := shelftest.New(t)
	blocks := shelftest.Content(40, 5)
	a := shelftest.Commit(t, from, "Ticket desk", blocks)
	listed(t, from, a, 30, 'e')
	to := shelftest.NewSealed(t)
	if _, err := Carry(t.Context(), from, to, []*shelf.Twin{a}, nil); err != nil {
		t.Fatal(err)
	}
	if n := readListing(t, to, a, nil); n != 30 {
		t.Errorf("%d of 30 blocks came along", n)
	}
	raw, err := os.ReadFile(filepath.Join(to.Place(), "names/"+a.ID+".note"))
	if err != nil || bytes.Contains(raw, []byte("lists")) {
		t.Errorf("the listing of a sealed shelf can be read from outside (%v)", err)
	}
	gaveBack(t, to, false)
	if n := readListing(t, to, a, nil); n != 30 {
		t.Errorf("there %d of 30 are left", n)
	}
}

// entryOf finds the entry of a block: its pack, and where its header begins.
func entryOf(t testing.TB, s *shelf.Shelf, n store.Name) (file string, at int64) {
	t.Helper()
	for _, p := range shelftest.List(t, s, "packs") {
		file := filepath.Join(s.Place(), "packs", p)
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if i := bytes.Index(b, n[:]); i >= 0 { // its table comes after
			return file, int64(i) - 16
		}
	}
	t.Fatalf("no pack has block %s", n)
	return "", 0
}

// TestHurtBlocksOfListingsAreLeftBehind: giving back space copies what twins need, and passes over what only a listing
// needs where that is damaged.
func TestHurtBlocksOfListingsAreLeftBehind(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(40, 3)
	a := shelftest.Commit(t, s, "Ticket desk", blocks)
	c, err := s.Begin(t.Context(), "names of Ticket desk")
	if err != nil {
		t.Fatal(err)
	}
	own := shelftest.Content(20, 8)
	var names []string
	for _, b := range own {
		n, _, err := c.Put(t.Context(), b)
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, n.String())
	}
	for _, b := range shelftest.Content(20, 9) { // of no use to anybody
		if _, _, err := c.Put(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	lists, err := c.PutList(t.Context(), names)
	if err != nil {
		t.Fatal(err)
	}
	c.Attach(&shelf.Listing{Twin: a.ID, Parts: []shelf.ListedPart{{Part: 1, Lists: lists, Items: 20}}})
	if err := c.Finish(t.Context()); err != nil {
		t.Fatal(err)
	}
	n, err := store.ParseName(names[3])
	if err != nil {
		t.Fatal(err)
	}
	file, at := entryOf(t, s, n)
	shelftest.Flip(t, file, at+96+9)
	if f := gaveBack(t, s, false); f.Rewritten != 1 || f.Bytes == 0 {
		t.Errorf("%+v", f)
	}
	shelftest.Holds(t, s, a, blocks)
	again := shelftest.Reopen(t, s)
	for i, text := range names {
		n, err := store.ParseName(text)
		if err != nil {
			t.Fatal(err)
		}
		b, err := again.Block(t.Context(), n, nil)
		if i == 3 && !errors.Is(err, store.ErrMissing) {
			t.Errorf("the damaged block: %v", err)
		} else if i != 3 && (err != nil || !bytes.Equal(b, own[i])) {
			t.Errorf("block %d: %v", i, err)
		}
	}
	if rep, err := Check(t.Context(), s, CheckKind{Share: 1}, nil); err != nil || !rep.Sound() {
		t.Errorf("check: %+v, %v", rep, err)
	}
}

// TestBrokenPackOfAListingGoes: a pack that only a listing needs, hurt beyond mending, is of no use, and goes when
// space is given back.
func TestBrokenPackOfAListingGoes(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(40, 3)
	a := shelftest.Commit(t, s, "Ticket desk", blocks)
	before := shelftest.List(t, s, "packs")
	listed(t, s, a, 20, 'c')
	after := shelftest.List(t, s, "packs")
	i := slices.IndexFunc(after, func(n string) bool { return !slices.Contains(before, n) })
	if i < 0 {
		t.Fatal("the listing has no pack of its own")
	}
	file := filepath.Join(s.Place(), "packs", after[i])
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	clear(raw[200:])
	if err := os.WriteFile(file, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	if f := gaveBack(t, s, true); f.Removed != 0 {
		t.Errorf("before anybody knows: %+v", f)
	}
	if err := os.Remove(filepath.Join(s.Place(),
		strings.Replace("parity/"+after[i], ".pack", ".parity", 1))); err != nil {
		t.Fatal(err)
	}
	rep, err := Check(t.Context(), s, CheckKind{Share: 1, Mend: true}, nil)
	if err != nil || len(rep.Idle) != 1 || !rep.Sound() || !strings.Contains(rep.Idle[0], after[i]) {
		t.Fatalf("%v %+v", err, rep)
	}
	if f := gaveBack(t, s, false); f.Removed != 1 {
		t.Errorf("%+v", f)
	}
	if rep, err = Check(t.Context(), s, CheckKind{Share: 1}, nil); err != nil || len(rep.Idle)+len(rep.Hurt) != 0 ||
		len(reads(t, s).Broken) != 0 {
		t.Errorf("%v %+v", err, rep)
	}
	shelftest.Holds(t, shelftest.Reopen(t, s), a, blocks)
	listed(t, s, a, 20, 'd') // made again
	if n := readListing(t, s, a, nil); n != 20 {
		t.Errorf("made again it has %d of 20 blocks", n)
	}
}

// TestHostileShelf: texts in a shelf that somebody else made don't reach a terminal with what moves its cursor.
func TestHostileShelf(t *testing.T) {
	const evil = "\x1b[2J\u009b31m\u202e"
	s := shelftest.New(t)
	c := shelftest.Begin(t, s, "Kiosk")
	tw := shelftest.TwinOf(t, c, "Kiosk", shelftest.Content(2, 1), time.Now())
	tw.Note = "a note" + evil
	tw.Disks[0].Identity.Model = "Kestrel" + evil
	if err := errors.Join(c.Commit(t.Context(), tw), s.Keep(t.Context(), tw.ID, "why"+evil)); err != nil {
		t.Fatal(err)
	}
	again := shelftest.Reopen(t, s)
	twins, problems := again.Twins(t.Context())
	pins, err := again.Pins(t.Context())
	if len(twins) != 1 || len(problems) > 0 || err != nil {
		t.Fatalf("%v %v %v", twins, problems, err)
	}
	for _, text := range []string{twins[0].Note, twins[0].Disks[0].Identity.Model, pins[tw.ID].Note} {
		if text == "" || units.Visible(text) != text {
			t.Errorf("%q", text)
		}
	}
	if _, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"),
		store.New{Name: "Oak" + evil}); err == nil {
		t.Error("a shelf can be called anything")
	}
}
