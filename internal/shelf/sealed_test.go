package shelf

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

var cheap = Cost{Passes: 1, Memory: 64, Threads: 1}

const phrase = "salt on the railing"

func give(p string) func() ([]byte, error) {
	return func() ([]byte, error) { return []byte(p), nil }
}

func newSealed(t testing.TB) *Shelf {
	t.Helper()
	s, err := CreateSealed(filepath.Join(t.TempDir(), "oak"), "Oak", 64<<10, []byte(phrase), cheap)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func unsealed(t testing.TB, s *Shelf, p string) *Shelf {
	t.Helper()
	again, err := OpenWith(s.Place(), give(p))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	return again
}

// files are the paths of all files of a shelf.
func files(t testing.TB, s *Shelf) []string {
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
	for name, suite := range map[string]uint16{"XChaCha20-Poly1305": SuiteChaCha, "XAES-256-GCM": SuiteAES} {
		t.Run(name, func(t *testing.T) {
			s, err := create(filepath.Join(t.TempDir(), "oak"), "Oak", 64<<10, suite, []byte(phrase), cheap)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(s.Close)
			sealedShelf(t, s)
		})
	}
}

func sealedShelf(t *testing.T, s *Shelf) {
	secret := bytes.Repeat([]byte("the fares of the winter season. "), 2048)
	blocks := append(content(20, 1), secret)
	tw := commit(t, s, "Ticket desk", blocks)
	if err := s.SaveProof(&Proof{Twin: tw.ID, When: time.Now(), Of: "Ticket desk", Claims: []Claim{{About: "Ticket desk", Holds: true}}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Keep(tw.ID, "before the winter season"); err != nil {
		t.Fatal(err)
	}
	again := unsealed(t, s, phrase)
	holds(t, again, tw, blocks)
	if p, problems := again.Proofs(tw.ID); len(p) != 1 || len(problems) != 0 || !again.Sealed() || again.Key() != "first" {
		t.Errorf("%v %v", p, problems)
	}
	plain := checksum(secret)
	for _, f := range files(t, s) {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, word := range [][]byte{[]byte("winter season"), []byte("Ticket desk"), plain[:], []byte(phrase)} {
			if bytes.Contains(b, word) || strings.Contains(strings.ToLower(f), "ticket") {
				t.Errorf("%s tells %q", f, word)
			}
		}
	}
	if _, err := Open(s.Place()); !errors.Is(err, ErrSealed) {
		t.Errorf("without a passphrase: %v", err)
	}
	if _, err := OpenWith(s.Place(), give("salt on the rail")); !errors.Is(err, ErrPassphrase) {
		t.Errorf("with a wrong one: %v", err)
	}
	if sealed, err := IsSealed(s.Place()); !sealed || err != nil {
		t.Errorf("%v %v", sealed, err)
	}
	other, err := CreateSealed(filepath.Join(t.TempDir(), "elm"), "Elm", 64<<10, []byte(phrase), cheap)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if other.NameOf(secret) == s.NameOf(secret) || s.NameOf(secret) == plain.String() {
		t.Error("equal contents have equal names in two shelves")
	}
	var sealed []string
	if err := s.checkSuite(func(file string, suite uint16) {
		if suite != s.head.Suite {
			sealed = append(sealed, file)
		}
	}); err != nil || len(sealed) > 0 {
		t.Errorf("files of another suite: %v %v", sealed, err)
	}
}

// checkSuite tells the suite that each file's header names.
func (s *Shelf) checkSuite(tell func(file string, suite uint16)) error {
	return filepath.WalkDir(s.Place(), func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || strings.HasSuffix(p, ".lock") {
			return err
		}
		b, err := os.ReadFile(p)
		if err == nil {
			tell(p, binary.LittleEndian.Uint16(b[offSuite:]))
		}
		return err
	})
}

// A head that was made to name another suite, the checksum with it, opens nothing.
func TestSuiteIsBound(t *testing.T) {
	s := newSealed(t)
	commit(t, s, "Kiosk", content(3, 1))
	head := s.head
	for _, c := range []struct {
		suite uint16
		want  string
	}{{SuiteOpen, "suite"}, {SuiteChaCha, "changed by somebody"}, {SuiteAES, "changed by somebody"}, {9, "suite 9"}} {
		if c.suite == head.Suite {
			continue
		}
		s.head.Suite = c.suite
		if err := s.writeHead(); err != nil {
			t.Fatal(err)
		}
		again, err := OpenWith(s.Place(), give(phrase))
		if err == nil { // an open head: what it leads to is sealed all the same
			_, problems := again.Twins()
			err = errors.Join(problems...)
			again.Close()
		}
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("suite %d: %v", c.suite, err)
		}
	}
	s.head = head
}

func TestPassphrases(t *testing.T) {
	s := newSealed(t)
	tw := commit(t, s, "Kiosk", content(10, 1))
	before := files(t, s)
	steps := []struct {
		what string
		do   func() error
		want string
	}{
		{"add", func() error { return s.AddKey([]byte(phrase), []byte("gulls at seven"), "purser", cheap) }, ""},
		{"add with a wrong one", func() error { return s.AddKey([]byte("gulls at ten"), []byte("gulls at nine"), "x", cheap) }, "not one of this shelf's"},
		{"add one that is short", func() error { return s.AddKey([]byte(phrase), []byte("gulls"), "x", cheap) }, "at least 8"},
		{"add a second of the name", func() error { return s.AddKey([]byte(phrase), []byte("gulls at nine"), "purser", cheap) }, "name of its own"},
		{"change", func() error { return s.ChangeKey([]byte("gulls at seven"), []byte("gulls at eight"), "purser", cheap) }, ""},
		{"change another", func() error { return s.ChangeKey([]byte(phrase), []byte("gulls at eight"), "mate", cheap) }, "no passphrase called"},
		{"withdraw", func() error { return s.WithdrawKey([]byte("gulls at eight"), "first") }, ""},
		{"withdraw by a withdrawn one", func() error { return s.WithdrawKey([]byte(phrase), "purser") }, "not one of this shelf's"},
		{"withdraw the last", func() error { return s.WithdrawKey([]byte("gulls at eight"), "purser") }, "only passphrase"},
	}
	for _, c := range steps {
		err := c.do()
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", c.what, err)
		}
	}
	holds(t, unsealed(t, s, "gulls at eight"), tw, content(10, 1))
	for _, gone := range []string{phrase, "gulls at seven"} {
		if _, err := OpenWith(s.Place(), give(gone)); !errors.Is(err, ErrPassphrase) {
			t.Errorf("%q still opens it: %v", gone, err)
		}
	}
	if after := files(t, s); len(after) != len(before) {
		t.Errorf("%d files before, %d after", len(before), len(after))
	}
	if err := newTest(t).AddKey([]byte(phrase), []byte("gulls at seven"), "x", cheap); err == nil {
		t.Error("an open shelf got a passphrase")
	}
	if _, err := CreateSealed(t.TempDir(), "Elm", 0, []byte("short"), cheap); err == nil {
		t.Error("a short passphrase")
	}
}

// TestHeadThatSomebodyChanged: the sealed head can't be given another block size or identity.
func TestHeadThatSomebodyChanged(t *testing.T) {
	for what, change := range map[string]func(h *Head){
		"block size":  func(h *Head) { h.BlockSize *= 2 },
		"identity":    func(h *Head) { h.ID = strings.Repeat("0", 32) },
		"huge cost":   func(h *Head) { h.Keys[0].Cost.Memory = 1 << 31 },
		"no passes":   func(h *Head) { h.Keys[0].Cost.Passes = 0 },
		"short nonce": func(h *Head) { h.Keys[0].Nonce = h.Keys[0].Nonce[:5] },
		"other kdf":   func(h *Head) { h.Keys[0].KDF = "rot13" },
		"many keys": func(h *Head) {
			for range 100 {
				h.Keys = append(h.Keys, h.Keys[0])
			}
		},
		"made open": func(h *Head) { h.Suite = 0 },
	} {
		s := newSealed(t)
		tw := commit(t, s, "Kiosk", content(3, 1))
		change(&s.head)
		if err := s.writeHead(); err != nil {
			t.Fatal(err)
		}
		again, err := OpenWith(s.Place(), give(phrase))
		if err != nil {
			continue
		}
		if twins, problems := again.Twins(); len(twins) > 0 || len(problems) == 0 {
			t.Errorf("%s: %d twins of %s can be read", what, len(twins), tw.Machine)
		}
		again.Close()
	}
}

// TestDamageIsAlwaysFound hurts every kind of file at random places: what is read is
// what was written, or an error says otherwise.
func TestDamageIsAlwaysFound(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 1))
	blocks := content(20, 1)
	for _, make := range []func(testing.TB) *Shelf{newTest, newSealed} {
		s := make(t)
		tw := commit(t, s, "Kiosk", blocks)
		if err := errors.Join(s.SaveProof(&Proof{Twin: tw.ID, When: time.Now(), Of: "it", Claims: []Claim{{About: "x", Holds: true}}}), s.Keep(tw.ID, "why"), s.journal(Event{What: "x"})); err != nil {
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
		holds(t, unsealed(t, s, phrase), tw, blocks)
		t.Logf("sealed %v: %d of %d damages were seen, none gave wrong data", s.Sealed(), found, trials)
	}
}

// sees opens a hurt shelf and reads everything; it fails the test when a byte comes
// back wrong without an error.
func sees(t *testing.T, s *Shelf, tw *Twin, blocks [][]byte) (damage bool) {
	t.Helper()
	again, err := OpenWith(s.Place(), give(phrase))
	if err != nil {
		return true
	}
	defer again.Close()
	damage = len(again.Notes()) > 0
	twins, problems := again.Twins()
	damage = damage || len(problems) > 0
	for _, have := range twins {
		if have.ID != tw.ID || have.Machine != tw.Machine {
			t.Errorf("another twin appears: %+v", have)
			continue
		}
		d, err := again.OpenDisk(have, 0)
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
	if rep, err := again.Check(context.Background(), CheckKind{Share: 1}, nil); err != nil || !rep.Sound() {
		return true
	}
	p, problems := again.Proofs(tw.ID)
	marks, err := again.Marks()
	events, more := again.Journal()
	return damage || len(problems)+len(more) > 0 || len(p) != 1 || err != nil || marks[tw.ID].Note != "why" || len(events) != 1 || len(twins) != 1
}

// TestMendedHeadHasTheLatestPassphrases: whoever opened the shelf before a passphrase was withdrawn doesn't bring it back by mending.
func TestMendedHeadHasTheLatestPassphrases(t *testing.T) {
	s := newSealed(t)
	if err := s.AddKey([]byte(phrase), []byte("gulls at seven"), "purser", cheap); err != nil {
		t.Fatal(err)
	}
	early := unsealed(t, s, phrase)
	if err := s.WithdrawKey([]byte(phrase), "purser"); err != nil {
		t.Fatal(err)
	}
	for _, file := range []string{"head.copy", "head"} {
		flip(t, filepath.Join(s.Place(), file), 200)
		rep, err := early.Check(context.Background(), CheckKind{Mend: true}, nil)
		if err != nil || len(rep.Mended) != 1 || !rep.Sound() {
			t.Errorf("%s: %v %+v", file, err, rep)
		}
		if again, err := OpenWith(s.Place(), give("gulls at seven")); !errors.Is(err, ErrPassphrase) {
			again.Close()
			t.Errorf("%s: the withdrawn passphrase opens it: %v", file, err)
		}
		unsealed(t, s, phrase)
	}
	// The share of parity that somebody chose meanwhile stays, too.
	if err := s.SetParity(9); err != nil {
		t.Fatal(err)
	}
	if err := early.AddKey([]byte(phrase), []byte("gulls at nine"), "mate", cheap); err != nil {
		t.Fatal(err)
	}
	if again := unsealed(t, s, "gulls at nine"); again.ParityShare() != 9 || early.ParityShare() != 9 {
		t.Errorf("parity %d and %d", again.ParityShare(), early.ParityShare())
	}
}
