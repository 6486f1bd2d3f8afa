package restore_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// TestVolumeThatContradictsItself: a block of a file that the bitmap calls free is kept; the volume keeps its size on a
// larger disk, the plan says why, and the proof of the true copy holds.
func TestVolumeThatContradictsItself(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	dir := t.TempDir()
	letter := bytes.Repeat([]byte("the crossing of the fourteenth was delayed by fog\n"), 2000)
	if err := os.WriteFile(filepath.Join(dir, "letter"), letter, 0o644); err != nil {
		t.Fatal(err)
	}
	fs := testkit.Image(t, "fs", 40*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-b", "4096", "-d", dir, fs)
	b, err := os.ReadFile(fs)
	if err != nil {
		t.Fatal(err)
	}
	le := binary.LittleEndian
	block := bytes.Index(b, letter[:4096]) / 4096
	bitmap := b[int(le.Uint32(b[4096:]))*4096:]
	bitmap[block/8] &^= 1 << (block % 8)
	le.PutUint16(b[4096+0x0C:], le.Uint16(b[4096+0x0C:])+1)
	if err := os.WriteFile(fs, b, 0o600); err != nil {
		t.Fatal(err)
	}
	img := testkit.Image(t, "desk.img", 50*miB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000D001",
		Parts: []table.Part{
			{Number: 1, Span: span.At(miB, 40*miB), Type: table.TypeLinuxData,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D101"},
		}}, 50*miB)
	testkit.Place(t, fs, img, miB)
	s := newShelf(t)
	twin, err := take(t, s, opened(t, img))
	if err != nil {
		t.Fatal(err)
	}
	if part := twin.Disks[0].Parts()[0]; !strings.Contains(part.Whole, "contradict") ||
		!strings.Contains(part.Whole, "inode") || part.Accounted {
		t.Errorf("the twin says %q", part.Whole)
	}
	target := testkit.Image(t, "larger.img", 100*miB)
	proof, made, err := putBackAs(t, s, twin, target, plan.Wish{})
	if err != nil {
		t.Fatal(err)
	}
	if why := strings.Join(made.Notes(), "\n"); !strings.Contains(why, "part 1 keeps its size") ||
		made.Layout.Parts[0].Grown() > 0 {
		t.Errorf("the plan: %s", why)
	}
	wantHolds(t, proof)
	got, err := os.ReadFile(testkit.Extract(t, target, miB, 40*miB))
	if err != nil || !bytes.Equal(got[block*4096:][:4096], letter[:4096]) {
		t.Error("the block that was called free is lost")
	}
}

func wantHolds(t *testing.T, p *shelf.Proof) {
	t.Helper()
	for _, c := range p.Claims {
		if !c.Holds {
			t.Errorf("%s: %s: %s", c.About, c.Says, c.Evidence)
		}
	}
}

// TestTwinThatLacksBytes: a twin that was captured by a map that lies, as earlier versions did, fails its proof.
func TestTwinThatLacksBytes(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "letter"), bytes.Repeat([]byte("tide table\n"), 400_000),
		0o644); err != nil {
		t.Fatal(err)
	}
	img := testkit.Image(t, "desk.img", 40*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-b", "4096", "-d", dir, img)
	s := newShelf(t)
	twin, err := take(t, s, opened(t, img))
	if err != nil {
		t.Fatal(err)
	}
	wantHolds(t, proven(t, s, twin))
	// The twin of a disk whose bitmap is another: the same blocks, with a block of the bitmap that calls the file free.
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	le := binary.LittleEndian
	at := int64(bytes.Index(b, []byte("tide table"))) / 4096
	bitmap := int64(le.Uint32(b[4096:])) * 4096
	b[bitmap+at/8] &^= 1 << (at % 8)
	le.PutUint16(b[4096+0x0C:], le.Uint16(b[4096+0x0C:])+1)
	if err := os.WriteFile(img, b, 0o600); err != nil {
		t.Fatal(err)
	}
	lying, err := take(t, s, opened(t, img))
	if err != nil {
		t.Fatal(err)
	}
	lying.Disks[0].Regions[0].Whole = "" // what an earlier version wrote
	p := proven(t, s, lying)
	for _, c := range p.Claims {
		if !c.Holds && strings.Contains(c.Says, "everything is kept") && strings.Contains(c.Evidence, "inode") {
			return
		}
	}
	t.Errorf("the proof holds: %+v", p.Claims)
}

func proven(t *testing.T, s *shelf.Shelf, twin *shelf.Twin) (p *shelf.Proof) {
	t.Helper()
	err := testkit.Run(t, func(rc *run.Context) (err error) {
		p, err = prove.Twin(rc, s, twin, "test")
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return p
}
