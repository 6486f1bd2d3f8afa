package keeping

import (
	"bytes"
	"errors"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
)

// files are the paths of all files of a shelf.
func files(t testing.TB, s *shelf.Shelf) []string {
	t.Helper()
	var out []string
	if err := filepath.WalkDir(s.Place(), func(p string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			out = append(out, p)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

func TestSealedShelf(t *testing.T) {
	s := shelftest.NewSealed(t)
	secret := bytes.Repeat([]byte("the fares of the winter season. "), 2048)
	blocks := append(shelftest.Content(20, 1), secret)
	tw := shelftest.Commit(t, s, "Ticket desk", blocks)
	if err := s.SaveProof(t.Context(),
		&shelf.Proof{Twin: tw.ID, When: time.Now(), Of: "Ticket desk",
			Claims: []shelf.Claim{{About: "Ticket desk", Holds: true}}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Keep(t.Context(), tw.ID, "before the winter season"); err != nil {
		t.Fatal(err)
	}
	again := shelftest.Reopen(t, s)
	shelftest.Holds(t, again, tw, blocks)
	if p, problems := again.Proofs(t.Context(), tw.ID); len(p) != 1 || len(problems) != 0 || !again.Sealed() ||
		again.Key() != "first" {
		t.Errorf("%v %v", p, problems)
	}
	plain := store.Checksum(secret)
	for _, f := range files(t, s) {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, word := range [][]byte{[]byte("winter season"), []byte("Ticket desk"), plain[:],
			[]byte(shelftest.Phrase)} {
			if bytes.Contains(b, word) || strings.Contains(strings.ToLower(f), "ticket") {
				t.Errorf("%s tells %q", f, word)
			}
		}
	}
	if _, err := shelf.Open(t.Context(), s.Place(), nil); !errors.Is(err, store.ErrSealed) {
		t.Errorf("without a passphrase: %v", err)
	}
	if _, err := shelf.Open(t.Context(), s.Place(), shelftest.Give("salt on the rail")); !errors.Is(err,
		store.ErrPassphrase) {
		t.Errorf("with a wrong one: %v", err)
	}
	if sealed, err := shelf.IsSealed(t.Context(), s.Place()); !sealed || err != nil {
		t.Errorf("%v %v", sealed, err)
	}
	other, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "elm"),
		store.New{Name: "Elm", BlockSize: 64 << 10, Passphrase: []byte(shelftest.Phrase), Cost: shelftest.Cheap})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if other.NameOf(secret) == s.NameOf(secret) || s.NameOf(secret) == plain {
		t.Error("equal contents have equal names in two shelves")
	}
}

// A head that was made to name another suite, the checksum with it, opens nothing.
func TestSuiteIsBound(t *testing.T) {
	s := shelftest.NewSealed(t)
	shelftest.Commit(t, s, "Kiosk", shelftest.Content(3, 1))
	head := s.Head()
	for _, c := range []struct {
		suite uint16
		want  string
	}{{store.SuiteOpen, "suite"}, {store.SuiteChaCha, "changed by somebody"}, {store.SuiteAES, "changed by somebody"},
		{9, "suite 9"}} {
		if c.suite == head.Suite {
			continue
		}
		other := head
		other.Suite = c.suite
		shelftest.WriteHead(t, s, other)
		again, err := shelf.Open(t.Context(), s.Place(), shelftest.Give(shelftest.Phrase))
		if err == nil { // an open head: what it leads to is sealed all the same
			_, problems := again.Twins(t.Context())
			err = errors.Join(problems...)
			again.Close()
		}
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("suite %d: %v", c.suite, err)
		}
	}
	shelftest.WriteHead(t, s, head)
}

func TestPassphrases(t *testing.T) {
	s := shelftest.NewSealed(t)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(10, 1))
	before := files(t, s)
	steps := []struct {
		what string
		do   func() error
		want string
	}{
		{"add", func() error {
			return s.AddKey(t.Context(), []byte(shelftest.Phrase), []byte("gulls at seven"), "purser", shelftest.Cheap)
		}, ""},
		{"add with a wrong one", func() error {
			return s.AddKey(t.Context(), []byte("gulls at ten"), []byte("gulls at nine"), "x", shelftest.Cheap)
		}, "not one of this shelf's"},
		{"add one that is short", func() error {
			return s.AddKey(t.Context(), []byte(shelftest.Phrase), []byte("gulls"), "x", shelftest.Cheap)
		}, "at least 8"},
		{"add a second of the name", func() error {
			return s.AddKey(t.Context(), []byte(shelftest.Phrase), []byte("gulls at nine"), "purser", shelftest.Cheap)
		}, "name of its own"},
		{"change", func() error {
			return s.ChangeKey(t.Context(), []byte("gulls at seven"), []byte("gulls at eight"), "purser",
				shelftest.Cheap)
		}, ""},
		{"change another", func() error {
			return s.ChangeKey(t.Context(), []byte(shelftest.Phrase), []byte("gulls at eight"), "mate", shelftest.Cheap)
		}, "no passphrase called"},
		{"withdraw", func() error { return s.WithdrawKey(t.Context(), []byte("gulls at eight"), "first") }, ""},
		{"withdraw by a withdrawn one",
			func() error { return s.WithdrawKey(t.Context(), []byte(shelftest.Phrase), "purser") },
			"not one of this shelf's"},
		{"withdraw the last", func() error { return s.WithdrawKey(t.Context(), []byte("gulls at eight"), "purser") },
			"only passphrase"},
	}
	for _, c := range steps {
		err := c.do()
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", c.what, err)
		}
	}
	shelftest.Holds(t, shelftest.ReopenBy(t, s, "gulls at eight"), tw, shelftest.Content(10, 1))
	for _, gone := range []string{shelftest.Phrase, "gulls at seven"} {
		if _, err := shelf.Open(t.Context(), s.Place(), shelftest.Give(gone)); !errors.Is(err, store.ErrPassphrase) {
			t.Errorf("%q still opens it: %v", gone, err)
		}
	}
	if after := files(t, s); len(after) != len(before) {
		t.Errorf("%d files before, %d after", len(before), len(after))
	}
	if err := shelftest.New(t).AddKey(t.Context(), []byte(shelftest.Phrase), []byte("gulls at seven"), "x",
		shelftest.Cheap); err == nil {
		t.Error("an open shelf got a passphrase")
	}
	if _, err := shelf.Create(t.Context(), t.TempDir(),
		store.New{Name: "Elm", BlockSize: 0, Passphrase: []byte("short"), Cost: shelftest.Cheap}); err == nil {
		t.Error("a short passphrase")
	}
}

// TestHeadThatSomebodyChanged: the sealed head can't be given another block size or identity.
func TestHeadThatSomebodyChanged(t *testing.T) {
	for what, change := range map[string]func(h *store.Head){
		"block size":  func(h *store.Head) { h.BlockSize *= 2 },
		"identity":    func(h *store.Head) { h.ID = strings.Repeat("0", 32) },
		"huge cost":   func(h *store.Head) { h.Keys[0].Cost.Memory = 1 << 31 },
		"no passes":   func(h *store.Head) { h.Keys[0].Cost.Passes = 0 },
		"short nonce": func(h *store.Head) { h.Keys[0].Nonce = h.Keys[0].Nonce[:5] },
		"other kdf":   func(h *store.Head) { h.Keys[0].KDF = "rot13" },
		"many keys": func(h *store.Head) {
			for range 100 {
				h.Keys = append(h.Keys, h.Keys[0])
			}
		},
		"made open": func(h *store.Head) { h.Suite = 0 },
	} {
		s := shelftest.NewSealed(t)
		tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(3, 1))
		h := s.Head()
		h.Keys = slices.Clone(h.Keys)
		change(&h)
		shelftest.WriteHead(t, s, h)
		again, err := shelf.Open(t.Context(), s.Place(), shelftest.Give(shelftest.Phrase))
		if err != nil {
			continue
		}
		if twins, problems := again.Twins(t.Context()); len(twins) > 0 || len(problems) == 0 {
			t.Errorf("%s: %d twins of %s can be read", what, len(twins), tw.Machine)
		}
		again.Close()
	}
}

// TestDamageIsAlwaysFound hurts every kind of file at random places: what is read is
// what was written, or an error says otherwise.
func TestDamageIsAlwaysFound(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 1))
	blocks := shelftest.Content(20, 1)
	for _, make := range []func(testing.TB) *shelf.Shelf{shelftest.New, shelftest.NewSealed} {
		s := make(t)
		tw := shelftest.Commit(t, s, "Kiosk", blocks)
		if err := errors.Join(s.SaveProof(t.Context(),
			&shelf.Proof{Twin: tw.ID, When: time.Now(), Of: "it", Claims: []shelf.Claim{{About: "x", Holds: true}}}),
			s.Keep(t.Context(), tw.ID, "why"), s.Record(t.Context(), shelf.Event{What: "x"})); err != nil {
			t.Fatal(err)
		}
		found, trials := 0, 0
		for _, f := range files(t, s) {
			whole, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			for range 12 {
				trials++
				b := bytes.Clone(whole)
				switch r.IntN(4) {
				case 0:
					b = b[:r.IntN(len(b))]
				case 1:
					b = append(b, byte(r.Uint32()))
				default:
					for range 1 + r.IntN(4) {
						b[r.IntN(len(b))] ^= byte(1 + r.IntN(255))
					}
				}
				if err := os.WriteFile(f, b, 0o600); err != nil {
					t.Fatal(err)
				}
				if sees(t, s, tw, blocks) {
					found++
				} else {
					t.Errorf("%s: damage wasn't seen", filepath.Base(f))
				}
			}
			if err := os.WriteFile(f, whole, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		shelftest.Holds(t, shelftest.Reopen(t, s), tw, blocks)
		t.Logf("sealed %v: %d of %d damages were seen, none gave wrong data", s.Sealed(), found, trials)
	}
}

// sees opens a hurt shelf and reads everything; it fails the test when a byte comes
// back wrong without an error.
func sees(t *testing.T, s *shelf.Shelf, tw *shelf.Twin, blocks [][]byte) (damage bool) {
	t.Helper()
	again, err := shelf.Open(t.Context(), s.Place(), shelftest.Give(shelftest.Phrase))
	if err != nil {
		return true
	}
	defer again.Close()
	damage = len(again.Notes()) > 0
	twins, problems := again.Twins(t.Context())
	damage = damage || len(problems) > 0
	for _, have := range twins {
		if have.ID != tw.ID || have.Machine != tw.Machine {
			t.Errorf("another twin appears: %+v", have)
			continue
		}
		d, err := again.OpenDisk(t.Context(), have, 0)
		if err != nil {
			damage = true
			continue
		}
		for i, b := range blocks {
			got := make([]byte, len(b))
			if _, err := d.ReadAt(got, int64(i)*int64(len(b))); err != nil {
				damage = true
			} else if !bytes.Equal(got, b) {
				t.Fatalf("block %d comes back wrong", i)
			}
		}
	}
	if rep, err := Check(t.Context(), again, CheckKind{Share: 1}, nil); err != nil || !rep.Sound() {
		return true
	}
	p, problems := again.Proofs(t.Context(), tw.ID)
	pins, err := again.Pins(t.Context())
	events, more := again.Journal(t.Context())
	return damage || len(problems)+len(more) > 0 || len(p) != 1 || err != nil || pins[tw.ID].Note != "why" ||
		len(events) != 1 || len(twins) != 1
}

// TestMendedHeadHasTheLatestPassphrases: whoever opened the shelf before a passphrase was withdrawn doesn't bring it
// back by mending.
func TestMendedHeadHasTheLatestPassphrases(t *testing.T) {
	s := shelftest.NewSealed(t)
	if err := s.AddKey(t.Context(), []byte(shelftest.Phrase), []byte("gulls at seven"), "purser",
		shelftest.Cheap); err != nil {
		t.Fatal(err)
	}
	early := shelftest.Reopen(t, s)
	if err := s.WithdrawKey(t.Context(), []byte(shelftest.Phrase), "purser"); err != nil {
		t.Fatal(err)
	}
	for _, file := range []string{"head.copy", "head"} {
		shelftest.Flip(t, filepath.Join(s.Place(), file), 200)
		rep, err := Check(t.Context(), early, CheckKind{Mend: true}, nil)
		if err != nil || len(rep.Mended) != 1 || !rep.Sound() {
			t.Errorf("%s: %v %+v", file, err, rep)
		}
		if again, err := shelf.Open(t.Context(), s.Place(), shelftest.Give("gulls at seven")); !errors.Is(err,
			store.ErrPassphrase) {
			again.Close()
			t.Errorf("%s: the withdrawn passphrase opens it: %v", file, err)
		}
		shelftest.Reopen(t, s)
	}
	// The share of parity that somebody chose meanwhile stays, too.
	if err := s.SetParity(t.Context(), 9); err != nil {
		t.Fatal(err)
	}
	if err := early.AddKey(t.Context(), []byte(shelftest.Phrase), []byte("gulls at nine"), "mate",
		shelftest.Cheap); err != nil {
		t.Fatal(err)
	}
	if again := shelftest.ReopenBy(t, s, "gulls at nine"); again.ParityShare() != 9 || early.ParityShare() != 9 {
		t.Errorf("parity %d and %d", again.ParityShare(), early.ParityShare())
	}
}
