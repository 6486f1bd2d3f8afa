package main

import (
	"crypto/sha256"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/container/bitlocker/bitlockertest"
	"twinshelf/internal/testkit"
)

// TestLockedMachine: a locked volume is named with the ID of its recovery key; with one of its keys only what is used
// is captured, as it lies, and looked into; what is restored opens as before. Its names don't lie on an open shelf.
func TestLockedMachine(t *testing.T) {
	img, bek, sums := bitlockertest.Office(t, bitlocker.XTS128)
	p := place{t: t, dir: t.TempDir()}
	p.shelf = filepath.Join(p.dir, "oak")
	if err := os.Mkdir(p.shelf, 0o700); err != nil {
		t.Fatal(err)
	}
	file := func(name, text string) string {
		f := filepath.Join(p.dir, name)
		if err := os.WriteFile(f, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return f
	}
	digits := file("recovery.txt",
		"\xFF\xFEK\x00e\x00y\x00:\x00 \x00"+strings.Join(strings.Split(bitlockertest.Recovery, ""),
			"\x00")+"\x00\r\x00\n\x00") // as Windows saves it
	target := filepath.Join(p.dir, "new.img")
	larger := filepath.Join(p.dir, "larger.img")
	for img, size := range map[string]int64{target: 64 << 20, larger: 100 << 20} {
		if err := errors.Join(os.WriteFile(img, nil, 0o600), os.Truncate(img, size)); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"bench", img}, 0, "its recovery key has the ID"},
		{[]string{"bench", img, "--key-file", file("wrong.txt", "gulls\n")}, 1, "stays locked"},
		{[]string{"bench", img, "--unlock"}, 1, "nobody to ask"},
		{[]string{"bench", img, "--key-file", digits}, 0, "NTFS Office"},
		{[]string{"shelf", "new", p.shelf, "--name", "Oak"}, 0, "is ready"},
		{[]string{"--shelf", p.shelf, "capture", img, "--machine", "Office", "--key-file", bek}, 0, "MB in use"},
		{[]string{"--shelf", p.shelf, "capture", img, "--machine", "Office", "--as-if-cut", "all"}, 2,
			"nothing here sleeps"},
		{[]string{"--shelf", p.shelf, "capture", img, "--machine", "Office", "--as-if-cut", "1", "--key-file", bek}, 1,
			"it was shut down"},
		{[]string{"--shelf", p.shelf, "list", "Office", "1:"}, 1, "unlock it first"},
		{[]string{"--shelf", p.shelf, "list", "Office", "1:", "--key-file", bek}, 0, "größer.ods"},
		{[]string{"--shelf", p.shelf, "find", "letter"}, 4, "it is encrypted"},
		{[]string{"--shelf", p.shelf, "find", "letter", "--key-file", bek}, 0, "1:letter.odt"},
		{[]string{"--shelf", p.shelf, "take", "Office", "1:letter.odt", "--to", filepath.Join(p.dir, "out"),
			"--key-file", bek},
			0, "read back and equal"},
		{[]string{"--shelf", p.shelf, "prove", "Office"}, 0, "hold"},
		{[]string{"--shelf", p.shelf, "restore", "Office", target, "--confirm", "67.1 MB"}, 0, "all"},
		{[]string{"--shelf", p.shelf, "restore", "Office", larger, "--unlocked", "--plan"}, 1, "unlock it first"},
		{[]string{"--shelf", p.shelf, "restore", "Office", larger, "--unlocked", "--key-file", bek, "--confirm",
			"105 MB"}, 3,
			"without its encryption"},
		{[]string{"--shelf", p.shelf, "restore", "Office", larger, "--unlocked", "--key-file", bek, "--yes-unencrypted",
			"--confirm", "105 MB"}, 0, "grown from 67.1 MB to 105 MB"},
		{[]string{"--shelf", p.shelf, "prove", "Office", "--target", larger, "--unlocked", "--key-file", bek}, 0,
			"hold"},
		{[]string{"job", "show", "Office", "--json"}, 0, "has the customer agreed"},
	} {
		if out, errs, code := p.run("", c.args...); code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%q: status %d, want %d and %q:\n%s%s", c.args, code, c.code, c.says, out, errs)
		}
	}
	taken, err := os.ReadFile(filepath.Join(p.dir, "out/letter.odt"))
	if err != nil || sha256.Sum256(taken) != sums["letter.odt"] {
		t.Errorf("what was taken out differs: %v", err)
	}
	plain := filepath.Join(p.dir, "plain.img")
	testkit.Do(t, "dislocker-file", "-q", "-V", target, "-f", bek, "--", plain)
	testkit.Do(t, "ntfsfix", "-n", plain)
	for name, want := range sums {
		if got := sha256.Sum256([]byte(testkit.Do(t, "ntfscat", plain, name))); got != want {
			t.Errorf("%s differs after the restore", name)
		}
	}
	testkit.Do(t, "ntfsfix", "-n", larger)
	for name, want := range sums {
		if got := sha256.Sum256([]byte(testkit.Do(t, "ntfscat", larger, name))); got != want {
			t.Errorf("%s differs after the restore without encryption", name)
		}
	}
	size := int64(0)
	err = filepath.WalkDir(p.shelf, func(_ string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			st, _ := e.Info()
			size += st.Size()
		}
		return err
	})
	if err != nil || size > 24<<20 {
		t.Errorf("%d bytes on the shelf: %v", size, err)
	}
}

// TestUnlockingIsKept: by choice a sealed shelf keeps the unlocking with a twin, takes it away again, and gives it on
// to another sealed shelf only; an open one never has it.
func TestUnlockingIsKept(t *testing.T) {
	img, bek, _ := bitlockertest.Office(t, bitlocker.XTS128)
	p := place{t: t, dir: t.TempDir()}
	words := filepath.Join(p.dir, "words")
	if err := os.WriteFile(words, []byte("terns over the slipway\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	folder := func(name string) string {
		f := filepath.Join(p.dir, name)
		if err := os.Mkdir(f, 0o700); err != nil {
			t.Fatal(err)
		}
		return f
	}
	ash, elm, oak := folder("ash"), folder("elm"), folder("oak")
	on := func(shelf string, args ...string) []string {
		return append([]string{"--shelf", shelf, "--passphrase-file", words}, args...)
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{on(ash, "shelf", "new", ash, "--name", "Ash", "--sealed"), 0, "is ready"},
		{on(elm, "shelf", "new", elm, "--name", "Elm", "--sealed"), 0, "is ready"},
		{on(oak, "shelf", "new", oak, "--name", "Oak"), 0, "is ready"},
		{on(oak, "capture", img, "--machine", "Office", "--key-file", bek, "--keep-unlocking"), 1, "isn't sealed"},
		{on(ash, "capture", img, "--machine", "Office", "--keep-unlocking"), 1, "no volume of it is unlocked"},
		{on(ash, "capture", img, "--machine", "Office", "--key-file", bek, "--keep-unlocking"), 0, "MB in use"},
		{on(ash, "list", "Office", "1:"), 0, "größer.ods"},
		{on(ash, "shelf", "carry", elm, "Office"), 0, "1 twin"},
		{on(elm, "list", "Office", "1:"), 0, "größer.ods"},
		{on(ash, "shelf", "carry", oak, "Office"), 0, "stay behind"},
		{on(oak, "list", "Office", "1:"), 1, "unlock it first"},
		{on(oak, "shelf", "unlocking", "Office", "--key-file", bek), 1, "isn't sealed"},
		{on(ash, "shelf", "unlocking", "Office", "--off"), 0, "no keys are kept"},
		{on(ash, "list", "Office", "1:"), 1, "unlock it first"},
		{on(ash, "shelf", "unlocking", "Office"), 1, "unlock it first"},
		{on(ash, "shelf", "unlocking", "Office", "--key-file", bek), 0, "its keys are kept"},
		{on(ash, "list", "Office", "1:"), 0, "größer.ods"},
		{on(elm, "shelf", "discard", "Office", "--confirm", "Office"), 0, ""},
	} {
		if out, errs, code := p.run("", c.args...); code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%q: status %d, want %d and %q:\n%s%s", c.args, code, c.code, c.says, out, errs)
		}
	}
	for shelf, want := range map[string]int{ash: 1, elm: 0, oak: 0} {
		if kept, _ := filepath.Glob(filepath.Join(shelf, "unlocking", "*.note")); len(kept) != want {
			t.Errorf("%s keeps %q", shelf, kept)
		}
	}
}
