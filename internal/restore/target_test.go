package restore_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/testkit"
)

// TestProofAgainstTheSource: the disk that a twin was taken from equals it, whatever nobody uses on it; where a file
// has changed since, that one alone is named; and another disk is said to be none of it.
func TestProofAgainstTheSource(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	dir := t.TempDir()
	letter := bytes.Repeat([]byte("the ferry sails at seven\n"), 300)
	for _, name := range []string{"letter", "other", "third"} {
		if err := os.WriteFile(filepath.Join(dir, name), append([]byte(name), letter...), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	img := filepath.Join(t.TempDir(), "desk.img")
	// free blocks full of what was there before
	if err := os.WriteFile(img, testkit.Noise(3, 40*miB), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-E", "nodiscard", "-b", "4096", "-d", dir, img)
	s := newShelf(t)
	twin, err := take(t, s, opened(t, img))
	if err != nil {
		t.Fatal(err)
	}
	against := func(path string) (*shelf.Proof, error) {
		src, err := s.OpenDisk(t.Context(), twin, 0)
		if err != nil {
			t.Fatal(err)
		}
		target := opened(t, path)
		planned := rehearsed(t, src, target, kept())
		if err := prove.Resembles(t.Context(), planned.Disk, target); err != nil {
			return nil, err
		}
		var p *shelf.Proof
		err = testkit.Run(t, func(rc *run.Context) (err error) {
			p, err = prove.Target(rc, &twin.Disks[0], planned, target, "test")
			return err
		})
		return p, err
	}
	p, err := against(img)
	if err != nil {
		t.Fatal(err)
	}
	wantHolds(t, p)
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	b[bytes.Index(b, append([]byte("other"), letter[:100]...))+2000] ^= 1
	if err := os.WriteFile(img, b, 0o600); err != nil {
		t.Fatal(err)
	}
	if p, err = against(img); err != nil {
		t.Fatal(err)
	}
	evidence := p.Claims[0].Evidence
	if p.Claims[0].Holds || !strings.Contains(evidence, "1:other") || strings.Contains(evidence, "letter") ||
		strings.Contains(evidence, "third") {
		t.Errorf("%+v", p.Claims[0])
	}
	another := testkit.Image(t, "another.img", 40*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", another)
	if _, err := against(another); !errors.Is(err, prove.ErrNotARestore) {
		t.Errorf("another disk: %v", err)
	}
}
