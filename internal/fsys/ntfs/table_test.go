package ntfs

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// farTable puts the beginning of a volume's table of files far into it, as Windows does on large volumes.
func farTable(t *testing.T, img string) {
	t.Helper()
	v := openVolume(t, img)
	rec, err := v.readRecord(recMFT)
	if err != nil {
		t.Fatal(err)
	}
	to := v.clusters - v.clusters/8
	n := v.mft[0].n
	g := &growth{v: v, clusters: v.clusters}
	a, _ := single(rec, attrData, "")
	runs, err := v.decodeRuns(a)
	if err != nil {
		t.Fatal(err)
	}
	old := runs[0].lcn
	runs[0].lcn = to
	if !reroute(rec, a, runs) {
		t.Fatal("the table's record has no room")
	}
	b := make([]byte, n*v.cluster)
	if err := disk.ReadFull(v.r, b, old*v.cluster); err != nil {
		t.Fatal(err)
	}
	g.mft = append([]run{{vcn: 0, lcn: to, n: n}}, v.mft[1:]...)
	testkit.Write(t, img, []disk.Patch{{Off: to * v.cluster, Data: b}})
	if err := g.store([]*record{rec}); err != nil {
		t.Fatal(err)
	}
	_, bm, err := v.bitmapStream()
	if err != nil {
		t.Fatal(err)
	}
	bits := make([]byte, (v.clusters+7)/8)
	if _, err := v.readRuns(bm.runs, bits, 0); err != nil {
		t.Fatal(err)
	}
	for i := range n {
		if bits[(to+i)/8]>>((to+i)%8)&1 == 1 {
			t.Fatal("the place isn't free")
		}
		bits[(to+i)/8] |= 1 << ((to + i) % 8)
		bits[(old+i)/8] &^= 1 << ((old + i) % 8)
	}
	g.stream(bm.runs, 0, disk.Patch{Data: bits})
	boot := make([]byte, bootLen)
	if err := disk.ReadFull(v.r, boot, 0); err != nil {
		t.Fatal(err)
	}
	binary.LittleEndian.PutUint64(boot[bootMFT:], uint64(to))
	testkit.Write(t, img, append(g.patches, disk.Patch{Data: boot}, disk.Patch{Off: v.info.Size, Data: boot}))
}

// openVolume opens an image as a volume.
func openVolume(t *testing.T, img string) *Volume {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	v, err := Probe(d, d.Size(), 512)
	if err != nil || v == nil {
		t.Fatal(err)
	}
	return v.(*Volume)
}

// TestTableBeginsElsewhere: where the beginning of the table lies beyond the new end the boot sector says where it
// went, and another driver finds every file.
func TestTableBeginsElsewhere(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsfix", "ntfs-3g")
	img := testkit.Image(t, "far.img", 60*units.MiB)
	testkit.Do(t, "mkntfs", "-Q", "-q", "-F", "-p", "0", "-H", "255", "-S", "63", img)
	files := func(do func(path string, want string)) {
		testkit.Mounted(t, []string{"ntfs-3g", img}, func(point string) {
			for i := range 300 {
				do(filepath.Join(point, fmt.Sprint("crossing ", i)), fmt.Sprintf("%d passengers, %0*d", i, i*40, i))
			}
		})
	}
	files(func(path, want string) {
		if err := os.WriteFile(path, []byte(want), 0o600); err != nil {
			t.Fatal(err)
		}
	})
	farTable(t, img)
	testkit.Do(t, "ntfsfix", "-n", img)
	v := openVolume(t, img)
	if err := fsys.CheckKept(t.Context(), v, v.Used()); err != nil {
		t.Fatal(err)
	}
	least, why, err := v.Least()
	if err != nil || least > v.mft[0].lcn*v.cluster {
		t.Fatalf("least %d (%s): %v", least, why, err)
	}
	change, err := v.Resize(fsys.Bounds{Size: least, Sector: 512})
	if err != nil {
		t.Fatal(err)
	}
	moved := &disk.Memory{Bytes: make([]byte, least), Sector: 512, ID: disk.Identity{Size: least, Sector: 512}}
	for _, m := range change.Moves {
		if err := disk.ReadFull(v.r, moved.Bytes[m.To:m.To+m.From.Len()], m.From.Start); err != nil {
			t.Fatal(err)
		}
	}
	for _, p := range change.Patches {
		if p.Data == nil {
			clear(moved.Bytes[p.Span().Start:p.Span().End])
		} else {
			copy(moved.Bytes[p.Off:], p.Data)
		}
	}
	if err := os.WriteFile(img, moved.Bytes, 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "ntfsfix", "-n", img)
	now := openVolume(t, img)
	if now.mft[0].lcn == v.mft[0].lcn || !(span.Span{End: least}).Covers(now.clusterSpan(now.mft[0].lcn,
		now.mft[0].n)) {
		t.Errorf("the table begins at cluster %d of %d, after %d", now.mft[0].lcn, now.clusters, v.mft[0].lcn)
	}
	files(func(path, want string) {
		if got, err := os.ReadFile(path); err != nil || string(got) != want {
			t.Errorf("%s: %v", filepath.Base(path), err)
		}
	})
}
