package families_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/container"
	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/container/bitlocker/bitlockertest"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/lock"
	"twinshelf/internal/testkit"
)

// unlocked is a context with the key of a volume.
func unlocked(t *testing.T, img string) context.Context {
	t.Helper()
	d := opened(t, img)
	v, err := bitlocker.Read(container.Member{R: d, Size: d.Size()})
	if err != nil {
		t.Fatal(err)
	}
	k, err := v.UnlockRecovery(t.Context(), bitlockertest.Recovery)
	if err != nil {
		t.Fatal(err)
	}
	ring := &lock.Keyring{}
	t.Cleanup(ring.Wipe)
	ring.Add(k)
	return lock.With(t.Context(), ring)
}

// TestLockedVolume: locked, it is named with the ID of its recovery key and all of it is kept; unlocked, only what is
// used, its files are read, and what is kept is a volume that opens as before.
func TestLockedVolume(t *testing.T) {
	for _, cipher := range []bitlocker.Cipher{bitlocker.XTS128, bitlocker.CBC256Diffuser} {
		img, bek, sums := bitlockertest.Office(t, cipher)
		d := opened(t, img)
		c, err := families.Examine(t.Context(), d, d.Size(), 512)
		if err != nil || c.Maps || c.Used != d.Size() || !strings.Contains(c.Why, "recovery key has the ID") ||
			c.Info.Label != "OFFICE-PC C:" || c.Info.Kind != "BitLocker (encrypted)" {
			t.Errorf("%v %+v %s", err, c.Info, c.Why)
		}
		ctx := unlocked(t, img)
		open, err := families.Examine(ctx, d, d.Size(), 512)
		if err != nil || !open.Maps || open.Used > 20*miB || open.Info.ID != c.Info.ID ||
			open.Info.Kind != c.Info.Kind {
			t.Fatalf("%v %+v %s: %d used", err, open.Info, open.Why, open.Used)
		}
		inner := open.Volume.(fsys.Layered).Inner()
		if len(inner) != 1 || inner[0].Fixed == "" || inner[0].Content.Info.Kind != "NTFS" {
			t.Errorf("%+v", inner)
		}
		if _, err := open.Volume.(fsys.Layered).Outward(0, []disk.Patch{{Off: 9, Data: []byte("x")}}); err == nil {
			t.Error("plain bytes would be written between enciphered ones")
		}
		tree, err := fsys.TreeOf(open.Volume)
		if err != nil {
			t.Fatal(err)
		}
		for name, want := range sums {
			it, err := fsys.Find(tree, name)
			if err != nil {
				t.Fatal(err)
			}
			if got := sumOf(t, tree, it); got != want {
				t.Errorf("%s differs", name)
			}
		}
		again := kept(t, img, &open)
		plain := filepath.Join(t.TempDir(), "plain")
		testkit.Do(t, "dislocker-file", "-q", "-V", again, "-f", bek, "--", plain)
		testkit.Do(t, "ntfsfix", "-n", plain)
		for name, want := range sums {
			if got := sha256.Sum256([]byte(testkit.Do(t, "ntfscat", plain, name))); got != want {
				t.Errorf("%s differs in what is kept", name)
			}
		}
	}
}

func sumOf(t *testing.T, tree fsys.Tree, it fsys.Item) [32]byte {
	t.Helper()
	c, err := tree.Open(it, "")
	if err != nil {
		t.Fatal(err)
	}
	b := make([]byte, it.Size)
	if err := disk.ReadFull(c, b, 0); err != nil {
		t.Fatal(err)
	}
	return sha256.Sum256(bytes.Clone(b))
}
