package apfs_test

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/container/fusion"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/apfs"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
)

// half is a device as a member of a container.
func half(t testing.TB, path string) families.Member {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return families.Member{R: d, Size: d.Size()}
}

// examined is a half among others.
func examined(t testing.TB, m families.Member, others ...families.Member) fsys.Content {
	t.Helper()
	c, err := families.Examine(t.Context(), m.R, m.Size, 512, others...)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// keptHalf is a half of which only what is kept is there, between noise.
func keptHalf(t testing.TB, c fsys.Content, path string) families.Member {
	t.Helper()
	const step = 64 << 10
	was, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer was.Close()
	st, err := was.Stat()
	if err != nil {
		t.Fatal(err)
	}
	out := testkit.Image(t, "kept", st.Size())
	f, err := os.OpenFile(out, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	noise, at := testkit.Noise(7, step), int64(0)
	gap := func(end int64) {
		for _, from := range []int64{at, max(at, end-step)} {
			if _, err := f.WriteAt(noise[:min(step, end-from)], from); err != nil {
				t.Fatal(err)
			}
		}
	}
	for sp, err := range c.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		gap(sp.Start)
		if _, err := io.Copy(io.NewOffsetWriter(f, sp.Start), io.NewSectionReader(was, sp.Start,
			sp.Len())); err != nil {
			t.Fatal(err)
		}
		at = sp.End
	}
	gap(st.Size())
	return half(t, out)
}

// TestTwoDevices: of a container on two devices both together tell what of each is used, and have all files; whatever
// superblocks count.
func TestTwoDevices(t *testing.T) {
	for _, both := range []bool{false, true} {
		t.Run(fmt.Sprint(both), func(t *testing.T) {
			a, b := apfs.Fused(t, "ferry", both, false)
			_, all := container(t, "ferry")
			quick, large := half(t, a), half(t, b)
			onQuick, onLarge := examined(t, quick, large), examined(t, large, quick)
			for _, c := range []fsys.Content{onQuick, onLarge} {
				if !c.Maps || !c.Sound || c.Used > quick.Size/4 || c.Info.Kind != "APFS on two disks" {
					t.Fatalf("%+v: %d bytes, %s", c.Info, c.Used, c.Why)
				}
			}
			again := keptHalf(t, onLarge, b)
			c := examined(t, again, keptHalf(t, onQuick, a))
			tree, err := fsys.TreeOf(c.Volume)
			if err != nil {
				t.Fatal(err)
			}
			sameIn(t, tree, all, nil)
			r, ok := c.Volume.(fsys.Resizer)
			if !ok {
				t.Fatal("it can't be asked")
			}
			if change, err := r.Resize(fsys.Bounds{Size: 2 * again.Size, Sector: 512}); err != nil ||
				change.Size != again.Size || len(change.Patches) > 0 || len(change.Notes) == 0 {
				t.Errorf("on a larger part: %+v, %v", change, err)
			}
		})
	}
}

// TestHalves: a half without the other one, or with several that could be it, is kept whole and says so.
func TestHalves(t *testing.T) {
	a, b := apfs.Fused(t, "ferry", false, false)
	quick, large := half(t, a), half(t, b)
	other, _ := container(t, "ferry")
	for _, c := range []struct {
		m      families.Member
		others []families.Member
		why    string
	}{{quick, nil, "other half isn't on this disk"}, {large, nil, "other half isn't on this disk"},
		{quick, []families.Member{half(t, other)}, "other half isn't on this disk"},
		{quick, []families.Member{large, large}, "several disks"}, {large, []families.Member{large}, "several disks"}} {
		if got := examined(t, c.m, c.others...); got.Maps || got.Used != c.m.Size || got.Info.Kind != fusion.Kind ||
			!strings.Contains(got.Why, c.why) {
			t.Errorf("%+v, %d bytes: %s", got.Info, got.Used, got.Why)
		}
	}
}

// TestWaiting: files of which something waits on the quick half aren't read, and the others are.
func TestWaiting(t *testing.T) {
	a, b := apfs.Fused(t, "ferry", false, true)
	c := examined(t, half(t, a), half(t, b))
	if !c.Maps {
		t.Fatal(c.Why)
	}
	tree, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	waits, reads := 0, 0
	look := func(_ string, _ fsys.Item, entries []fsys.Entry, err error) error {
		for _, e := range entries {
			var why *fsys.Unreadable
			if !e.Mode.IsRegular() || e.Size == 0 {
				continue
			}
			if _, err := tree.Open(e.Item, ""); errors.As(err, &why) {
				waits++
			} else if err == nil {
				reads++
			}
		}
		return err
	}
	if err := fsys.Walk(tree, root, "", look); err != nil {
		t.Fatal(err)
	}
	if waits != 1 || reads < 100 {
		t.Errorf("%d files wait, %d can be read", waits, reads)
	}
}
