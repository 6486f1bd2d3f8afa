package inside

import (
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
)

// TestKeptDespiteContradiction: a volume whose folders contradict each other before its map's lie is reached still
// gives no file whose bytes that map left out.
func TestKeptDespiteContradiction(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "letter"), bytes.Repeat([]byte("tide table\n"), 40_000),
		0o644); err != nil {
		t.Fatal(err)
	}
	img := testkit.Image(t, "desk.img", 40<<20)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-b", "4096", "-d", dir, img)
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	le := binary.LittleEndian
	opened := func() error {
		v, err := families.Identify(t.Context(), bytes.NewReader(b), int64(len(b)), 512)
		if err != nil {
			t.Fatal(err)
		}
		tree, err := fsys.TreeOf(v)
		if err == nil {
			tree, err = ofKept(t.Context(), tree, v)
		}
		if err != nil {
			t.Fatal(err)
		}
		root, err := tree.Root()
		if err != nil {
			t.Fatal(err)
		}
		it, err := tree.Lookup(root, "letter")
		if err != nil {
			t.Fatal(err)
		}
		_, err = tree.Open(it, "")
		return err
	}
	if err := opened(); err != nil {
		t.Errorf("a sound volume: %v", err)
	}
	name := bytes.Index(b, []byte("lost+found"))
	le.PutUint32(b[name-8:], 1<<30) // an inode that doesn't exist
	if err := opened(); err != nil {
		t.Errorf("all of it is kept: %v", err)
	}
	at := bytes.Index(b, []byte("tide table")) / 4096
	bitmap := int(le.Uint32(b[4096:])) * 4096
	b[bitmap+at/8] &^= 1 << (at % 8)
	le.PutUint16(b[4096+0x0C:], le.Uint16(b[4096+0x0C:])+1)
	var lost *NotKept
	if err := opened(); !errors.As(err, &lost) || lost.Bytes != 4096 {
		t.Errorf("a block that wasn't kept: %v", err)
	}
}
