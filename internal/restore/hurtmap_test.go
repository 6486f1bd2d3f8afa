package restore_test

import (
	"bytes"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/plan"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// hurtBlock changes a byte of a block wherever it stands in the packs, and takes their parity away.
func hurtBlock(t *testing.T, s *shelf.Shelf, name string) {
	t.Helper()
	want, err := hex.DecodeString(name)
	if err != nil {
		t.Fatal(err)
	}
	hits := 0
	err = filepath.WalkDir(s.Place(), func(path string, e os.DirEntry, err error) error {
		switch {
		case err != nil || e.IsDir():
			return err
		case strings.Contains(path, "parity"):
			return os.Remove(path)
		case !strings.HasSuffix(path, ".pack"):
			return nil
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		at := bytes.Index(b, want)
		if at < 0 {
			return nil
		}
		hits++
		b[at+200] ^= 0xFF // after the block's head
		return os.WriteFile(path, b, 0o600)
	})
	if err != nil || hits == 0 {
		t.Fatalf("block %s isn't found (%v)", name, err)
	}
}

// TestHurtBlockMap: where a piece of a part's block map is hurt, everything else is restored, and the proof names the
// part.
func TestHurtBlockMap(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	img := testkit.Image(t, "kiosk.img", 140*miB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: guidN(1), Parts: []table.Part{
		{Number: 1, Span: span.At(miB, 60*miB), Type: table.TypeLinuxData, GUID: guidN(2)},
		{Number: 2, Span: span.At(61*miB, 60*miB), Type: table.TypeLinuxData, GUID: guidN(3)}}}, 140*miB)
	for i, at := range []int64{miB, 61 * miB} {
		dir := t.TempDir()
		fill(t, dir, uint64(i+1))
		fs := testkit.Image(t, "fs", 60*miB)
		testkit.Do(t, "mkfs.ext4", "-q", "-d", dir, fs)
		testkit.Place(t, fs, img, at)
	}
	s := newShelf(t)
	twin, err := take(t, s, opened(t, img))
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range twin.Disks[0].Regions {
		if r.Part == 1 {
			hurtBlock(t, s, r.Nodes[0])
		}
	}
	again, err := shelf.Open(t.Context(), s.Place(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	for _, size := range []int64{140 * miB, 300 * miB} {
		target := testkit.Image(t, "target.img", size)
		proof, f, err := putBackAs(t, again, twin, target, plan.Wish{})
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range f.Layout.Parts {
			if x.Part.Number == 2 {
				testkit.Do(t, "e2fsck", "-fn", testkit.Extract(t, target, x.To.Start, x.To.Len()))
			}
		}
		named := ""
		for _, c := range proof.Claims {
			if !c.Holds {
				named += c.About + "\n"
			}
		}
		if proof.Holds() || !strings.Contains(named, "part 1") || strings.Contains(named, "part 2") {
			t.Errorf("%d bytes: these don't hold: %s", size, named)
		}
	}
}
