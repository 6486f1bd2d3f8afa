package identity_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/identity"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

const (
	miB      = 1 << 20
	rootUUID = "5d1c7a10-0000-4000-8000-00000000f001"
	guid     = "7A5E0F10-3B1C-4D5A-9C00-00000000F1"
)

// TestFreshInAVolumeGroup: file systems on logical volumes get identities of their own, what names them follows, and
// the group stays as it is and says so.
func TestFreshInAVolumeGroup(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "e2fsck", "debugfs", "blkid")
	pv := testkit.Image(t, "pv", 120*miB)
	testkit.Group(t, "desk", []string{pv}, []testkit.Logical{{Name: "root", Extents: 10}, {Name: "home", Extents: 8},
		{Name: "root", Extents: 4}})
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "etc"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "etc/fstab"),
		[]byte("UUID="+rootUUID+" / ext4 defaults 0 1\n/dev/mapper/desk-home /home ext4 defaults 0 2\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	root := testkit.Image(t, "root", 56*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-O", "metadata_csum_seed", "-U", rootUUID, "-d", dir, root)
	testkit.FillLogical(t, "desk/root", []string{pv}, root)
	img := testkit.Image(t, "disk", 128*miB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "00", Parts: []table.Part{
		{Number: 1, Span: span.At(miB, 120*miB), Type: table.TypeLinuxLVM, GUID: guid + "01"}}}, 128*miB)
	testkit.Place(t, pv, img, miB)
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	r, err := identity.Renew(t.Context(), d, identity.Options{Seed: "a copy"})
	if err != nil {
		t.Fatal(err)
	}
	testkit.Write(t, img, r.Patches)
	now := []string{testkit.Extract(t, img, miB, 120*miB)}
	testkit.LVM(t, now, "vgck", "desk")
	after := filepath.Join(t.TempDir(), "after")
	if err := os.WriteFile(after, testkit.LogicalBytes(t, "desk/root", now), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "e2fsck", "-fn", after)
	id := r.IDs[rootUUID]
	if out := testkit.Do(t, "blkid", "-p", "-o", "value", "-s", "UUID", after); id == "" || id == rootUUID ||
		strings.TrimSpace(out) != id {
		t.Errorf("the root has the identity %s, and %s was planned", out, id)
	}
	if text := testkit.Do(t, "debugfs", "-R", "cat /etc/fstab", after); !strings.Contains(text, "UUID="+id+" / ") {
		t.Errorf("fstab is\n%s", text)
	}
	stays := strings.Join(r.Stays, "\n")
	for _, want := range []string{"desk on part 1 keeps its name", "desk/home keeps whatever identity"} {
		if !strings.Contains(stays, want) {
			t.Errorf("%q isn't said:\n%s", want, stays)
		}
	}
}
