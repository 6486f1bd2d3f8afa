package families_test

import (
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/container/bitlocker/bitlockertest"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/ntfs"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// TestSleeperInAGroup: an NTFS whose system sleeps on a logical volume, beside an ext4. The group is told as asleep;
// captured as if the power had been cut it keeps what both use, with zeros where the hibernation file begins, on the
// part where that lies.
func TestSleeperInAGroup(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "ntfscp")
	pv := testkit.Image(t, "pv", 200*miB)
	images := []string{pv}
	testkit.Group(t, "desk", images, []testkit.Logical{{Name: "data", Extents: 10}, {Name: "win", Extents: 8},
		{Name: "data", Extents: 12}, {Name: "win", Extents: 8}})
	ext, _ := filled(t, "ext4", 48*miB, "data")
	testkit.FillLogical(t, "desk/data", images, ext)
	win, _ := bitlockertest.Plain(t)
	hiber := t.TempDir() + "/h"
	if err := os.WriteFile(hiber, testkit.Noise(3, 4*miB), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "ntfscp", win, hiber, "hiberfil.sys")
	v, err := families.Identify(t.Context(), opened(t, win), 64*miB, 512)
	if err != nil {
		t.Fatal(err)
	}
	log, err := ntfs.NewLog(256<<10, 2, 9)
	if err != nil {
		t.Fatal(err)
	}
	log.Work(14_000, 5)
	patches, err := ntfs.PutToSleep(v, time.Date(2026, 11, 20, 17, 2, 0, 0, time.UTC), false, log)
	if err != nil {
		t.Fatal(err)
	}
	written(t, win, patches)
	testkit.FillLogical(t, "desk/win", images, win)

	d := opened(t, pv)
	c, err := families.Examine(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	r, ok := c.Rest()
	if !ok || r.State != fsys.Hibernated || !strings.Contains(c.Info.Unclean,
		"desk/win: it holds a hibernated system") ||
		c.Used < 64*miB {
		t.Errorf("%+v %q, %d bytes used", r, c.Info.Unclean, c.Used)
	}
	cut := c
	if err := cut.AsCut(t.Context()); err != nil {
		t.Fatal(err)
	}
	if cut.Used > c.Used-40*miB || !cut.Maps || len(cut.Omit) != 1 || !strings.Contains(cut.Omit[0].What, "desk/win") ||
		cut.Omit[0].Bytes != 4*miB-4096 || len(cut.Cut().Patches) != 1 {
		t.Errorf("%d of %d bytes used, %+v", cut.Used, c.Used, cut.Omit)
	}
	copied := kept(t, pv, &cut)
	written(t, copied, cut.Cut().Patches)
	again := testkit.Image(t, "win", 64*miB)
	if err := os.WriteFile(again, testkit.LogicalBytes(t, "desk/win", []string{copied}), 0o600); err != nil {
		t.Fatal(err)
	}
	head := testkit.Do(t, "ntfscat", "-f", again, "hiberfil.sys")[:4096]
	if strings.Trim(head, "\x00") != "" {
		t.Errorf("a system wakes up from the copy: %q", head[:8])
	}
	if got := testkit.Do(t, "ntfscat", "-f", again, "small.txt"); len(got) != 9 {
		t.Errorf("small.txt has %d bytes", len(got))
	}
	var all span.Set
	for sp, err := range cut.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		all.Add(sp)
	}
	if p := cut.Cut().Patches[0]; !all.Covers(p.Span()) {
		t.Errorf("what keeps it from waking up isn't kept: %v", p.Span())
	}
}

// written writes patches into an image.
func written(t *testing.T, img string, patches []disk.Patch) {
	t.Helper()
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, p := range patches {
		b := p.Data
		if b == nil {
			b = make([]byte, p.Zeros)
		}
		if _, err := f.WriteAt(b, p.Off); err != nil {
			t.Fatal(err)
		}
	}
}

// TestOnlyWhatWasHalted: what was shut down, and what tells nothing, isn't captured as if the power had been cut.
func TestOnlyWhatWasHalted(t *testing.T) {
	plain, _ := bitlockertest.Plain(t)
	ext, _ := filled(t, "ext4", 48*miB, "data")
	for name, img := range map[string]string{"shut down": plain, "ext4": ext} {
		d := opened(t, img)
		c, err := families.Examine(t.Context(), d, d.Size(), 512)
		if err != nil || !c.Maps {
			t.Fatalf("%s: %v %s", name, err, c.Why)
		}
		used := c.Used
		if err := c.AsCut(t.Context()); !errors.Is(err, fsys.ErrNotAsCut) || c.Used != used || c.Cut() != nil {
			t.Errorf("%s: %v, %d of %d", name, err, c.Used, used)
		}
		if r, told := c.Rest(); told != (name == "shut down") || !r.Quiet() {
			t.Errorf("%s: %+v", name, r)
		}
	}
}
