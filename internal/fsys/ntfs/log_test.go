package ntfs

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/testkit"
)

// TestNewerRestartPageDecides: the log's two restart pages are written in turns; only the later one tells whether it is
// in use.
func TestNewerRestartPageDecides(t *testing.T) {
	img := filepath.Join(t.TempDir(), "n.img")
	f, err := os.Create(img)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Truncate(32 << 20); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "mkntfs", "-F", "-q", "-s", "512", img)
	vv, err := Probe(f, 32<<20, 512)
	if err != nil {
		t.Fatal(err)
	}
	v := vv.(*Volume)
	rec, err := v.readRecord(recLog)
	if err != nil {
		t.Fatal(err)
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		t.Fatal(err)
	}
	page := func(n int64, lsn uint64, inUse, flags uint16) {
		b := make([]byte, restartLen)
		copy(b, "RSTR")
		le := binary.LittleEndian
		le.PutUint16(b[recUSAOffset:], 30)
		le.PutUint16(b[recUSACount:], 9)
		le.PutUint32(b[16:], 4096) // system page size
		le.PutUint32(b[20:], 4096)
		le.PutUint16(b[24:], 48) // restart area
		le.PutUint64(b[48:], lsn)
		le.PutUint16(b[48+12:], inUse)
		le.PutUint16(b[48+14:], flags)
		fixUp(b, 30, 1)
		if _, err := f.WriteAt(b, s.runs[0].lcn*v.cluster+n*restartLen); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Need(t, "mkntfs")
	for _, c := range []struct {
		name  string
		first uint64
		want  bool
	}{{"page 0 is the newer one and clean", 300, true}, {"page 1 is the newer one and in use", 100, false}} {
		page(0, c.first, noClient, 0)
		page(1, 200, 0, 0)
		got, err := v.logClean()
		if err != nil || got != c.want {
			t.Errorf("%s: clean=%v (%v), want %v", c.name, got, err, c.want)
		}
	}
}
