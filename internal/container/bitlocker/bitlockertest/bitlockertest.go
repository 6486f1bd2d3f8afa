// Package bitlockertest makes locked volumes for tests.
package bitlockertest

import (
	"crypto/sha256"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// Recovery is the recovery key of the volumes that are made here.
const Recovery = "239987-140250-451055-702834-180939-598983-033132-009669"

const size = 64 << 20

// Office makes a locked NTFS of 64 MiB with files: its image, the sums of
// its files, and a key file that opens it.
func Office(t testing.TB, cipher bitlocker.Cipher) (img, bek string, sums map[string][32]byte) {
	t.Helper()
	plain, sums := Plain(t)
	img, bek = Locked(t, plain, cipher)
	return img, bek, sums
}

// Plain makes an NTFS of 64 MiB with files: its image, and the sums of its files.
func Plain(t testing.TB) (plain string, sums map[string][32]byte) {
	t.Helper()
	testkit.Need(t, "mkntfs", "ntfscp", "dislocker-file", "ntfsfix")
	plain = testkit.Image(t, "plain.img", size)
	testkit.Do(t, "mkntfs", "-q", "-F", "-L", "Office", plain)
	sums = map[string][32]byte{}
	for i, name := range []string{"letter.odt", "größer.ods", "small.txt"} {
		b := testkit.Noise(uint64(i+1), []int{3 << 20, 700_001, 9}[i])
		file := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "ntfscp", plain, file, name)
		sums[name] = sha256.Sum256(b)
	}
	return plain, sums
}

// Locked makes a locked volume of a plain one of 64 MiB.
func Locked(t testing.TB, plain string, cipher bitlocker.Cipher) (img, bek string) {
	t.Helper()
	in, err := os.Open(plain)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	img = testkit.Image(t, "sealed.img", size)
	out, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	made, err := bitlocker.Make(t.Context(), in, size, slices.Values([]span.Span{span.At(0, size)}), bitlocker.Making{
		Form: bitlocker.Fixed, Cipher: cipher, Sector: 512, Label: "OFFICE-PC C:", When: time.Unix(1.79e9, 0),
		Recovery: Recovery, Areas: [4]int64{40 << 20, 44 << 20, 48 << 20, 52 << 20},
		Random: rand.NewChaCha8([32]byte{1})}, out)
	if err != nil {
		t.Fatal(err)
	}
	bek = filepath.Join(t.TempDir(), "key.BEK")
	if err := os.WriteFile(bek, made.KeyFile, 0o600); err != nil {
		t.Fatal(err)
	}
	return img, bek
}
