package upcase_test

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/fsys/upcase"
	"twinshelf/internal/testkit"
)

// TestTableIsTheSystems compares with the table that the operating system's own
// tool puts on a new NTFS volume.
func TestTableIsTheSystems(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfscat")
	img := testkit.Image(t, "n.img", 16<<20)
	testkit.Do(t, "mkntfs", "-q", "-Q", "-F", img)
	raw := testkit.Do(t, "sh", "-c", "ntfscat -i 10 "+img+" > "+filepath.Dir(img)+"/upcase")
	b, err := os.ReadFile(filepath.Join(filepath.Dir(img), "upcase"))
	if err != nil || len(b) != 2<<16 {
		t.Fatalf("%d bytes, %v %s", len(b), err, raw)
	}
	for i, ours := range upcase.Table() {
		if theirs := binary.LittleEndian.Uint16(b[2*i:]); ours != theirs {
			t.Errorf("unit %04x: %04x instead of %04x", i, ours, theirs)
		}
	}
}
