package table_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestAPMByOthers: the system's own tools see the same Apple partition map, before and after it was moved.
func TestAPMByOthers(t *testing.T) {
	testkit.Need(t, "blkid", "partx")
	m := table.Mapped(t, 512, table.OldMac(512))
	tab, err := table.Read(m, m.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	patches, err := tab.Rearrange(m, map[int]span.Span{2: span.At(units.MiB, 28*units.KiB), 3: span.At(2*units.MiB,
		16*units.MiB), 5: span.At(20*units.MiB, 4*units.MiB)}, 40*units.MiB)
	if err != nil {
		t.Fatal(err)
	}
	larger := disk.NewMemory(40*units.MiB, 512)
	copy(larger.Bytes, m.Bytes)
	for _, p := range patches {
		copy(larger.Bytes[p.Off:], p.Data)
	}
	for _, c := range []struct {
		m    *disk.Memory
		want []string
	}{
		{m, []string{"mac\n", "1 1 63 Apple", "2 64 56 Macintosh", "3 2048 16384 Weighbridge", "5 24576 8192 Archive"}},
		{larger, []string{"mac\n", "1 1 63 Apple", "2 2048 56 Macintosh", "3 4096 32768 Weighbridge",
			"5 40960 8192 Archive",
			"36864 4096 Extra", "49152 32768 Extra"}},
	} {
		img := filepath.Join(t.TempDir(), "mac.img")
		if err := os.WriteFile(img, c.m.Bytes, 0o600); err != nil {
			t.Fatal(err)
		}
		said := testkit.Do(t, "blkid", "-p", "-o", "value", "-s", "PTTYPE", img) +
			testkit.Do(t, "partx", "--raw", "--noheadings", "--output", "NR,START,SECTORS,NAME,TYPE", img)
		for _, line := range c.want {
			if !strings.Contains(said, line) {
				t.Errorf("%q isn't in %q", line, said)
			}
		}
	}
}
