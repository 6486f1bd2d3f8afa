package startup_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// bootTree is what a machine starts with whose root lies on a logical volume: the kernel, and a first file system in
// memory that brings the volume group up by the system's own tools.
func bootTree(t *testing.T, root string) string {
	t.Helper()
	testkit.Need(t, "lvm", "ldd")
	modules, _ := filepath.Glob("/lib/modules/*-cloud-amd64/kernel/drivers/md/dm-mod.ko")
	if len(modules) == 0 {
		testkit.Lacks(t, "the modules of linux-image-cloud-amd64")
	}
	lvm, err := testkit.Path("lvm")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	script := `#!/bin/busybox sh
b=/bin/busybox
$b mkdir -p /proc /dev /sys /root /run/lock/lvm /etc/lvm
$b mount -t proc proc /proc
$b mount -t sysfs sys /sys
$b mount -t devtmpfs dev /dev
$b insmod /dm-mod.ko
export DM_DISABLE_UDEV=1
for i in 1 2 3 4 5 6 7 8 9 10; do
  /bin/lvm vgchange -ay --config 'activation{udev_sync=0 udev_rules=0 monitoring=0}
    devices{use_devicesfile=0 obtain_device_list_from_udev=0 external_device_info_source="none"}' && break
  $b sleep 1
done
/bin/lvm lvs >/dev/console 2>&1
$b mount -t ext4 $($b sed 's/.*root=\([^ ]*\).*/\1/' /proc/cmdline) /root || exec $b sh
exec $b switch_root /root /sbin/init
`
	for name, text := range map[string]string{"initrd/init": script, "tree/boot/grub/grub.cfg": "linux /boot/vmlinuz " +
		"root=/dev/mapper/desk-root console=ttyS0 quiet panic=5\ninitrd /boot/initrd\nboot\n"} {
		p := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(p), 0o755)
		if err := os.WriteFile(p, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Do(t, "sh", "-c", fmt.Sprintf(`set -e
cd %s
mkdir -p initrd/bin
cp %s/bin/busybox initrd/bin/busybox
cp %s initrd/bin/lvm
cp %s initrd/dm-mod.ko
for l in $(ldd %s | grep -o '/[^ ]*'); do mkdir -p initrd$(dirname $l); cp -L $l initrd$l; done
cp %s/boot/vmlinuz tree/boot/vmlinuz
(cd initrd; find . | cpio -o -H newc --quiet | gzip -1 >../tree/boot/initrd)`, dir, root, lvm, modules[0], lvm, root))
	return filepath.Join(dir, "tree")
}

// TestItStartsFromAVolumeGroup captures a machine whose root lies on a logical volume, restores it to a disk three
// times as large with the root grown, and starts that.
func TestItStartsFromAVolumeGroup(t *testing.T) {
	root := testkit.SmallSystem(t)
	boot := testkit.Image(t, "boot", 60*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-U", rootUUID, "-d", bootTree(t, root), boot)
	testkit.Do(t, "rm", "-r", filepath.Join(root, "boot"))
	pv := testkit.Image(t, "pv", 300*units.MiB)
	images := []string{pv}
	testkit.Group(t, "desk", images, []testkit.Logical{{Name: "root", Extents: 30}, {Name: "home", Extents: 10},
		{Name: "root", Extents: 5}})
	fs := testkit.Image(t, "root", 140*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-L", "desk", "-d", root, fs)
	testkit.FillLogical(t, "desk/root", images, fs)

	const guid = "7A5E0F10-3B1C-4D5A-9C00-00000000E2"
	img := disked(t, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "00", Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 2*units.MiB), Type: table.TypeBIOSBoot, GUID: guid + "01"},
		{Number: 2, Span: span.At(3*units.MiB, 60*units.MiB), Type: table.TypeLinuxData, GUID: guid + "02"},
		{Number: 3, Span: span.At(64*units.MiB, 300*units.MiB), Type: table.TypeLinuxLVM, GUID: guid + "03"},
	}}, map[int]string{2: boot, 3: pv})
	first, second := core(t, units.MiB)
	testkit.Write(t, img, []disk.Patch{{Off: 0, Data: first}, {Off: units.MiB, Data: second}})
	target := testkit.Image(t, "target.img", 3*size)
	p := moved(t, img, target, plan.Wish{})
	x := p.Layout.Parts[2]
	if x.Grown() < 700*units.MiB || x.Becomes != x.To.Len() ||
		!strings.Contains(strings.Join(p.Notes(), "\n"), "desk/root") {
		t.Errorf("%+v %q", x, p.Notes())
	}
	if len(p.Startup.May()) == 0 || !strings.Contains(told(p.Startup), "the root is desk/root in part 3") {
		t.Errorf("%s\n%s", p.Startup.Words(), told(p.Startup))
	}
	out := starts(t, target, false)
	if !strings.Contains(out, started) {
		t.Errorf("it didn't start:\n%s", out)
	}
	t.Log(p.Startup.Words(), strings.TrimSpace(out[max(0, len(out)-600):]))
	grown := []string{testkit.Extract(t, target, x.To.Start, x.To.Len())}
	testkit.LVM(t, grown, "vgck", "desk")
	after := filepath.Join(t.TempDir(), "after")
	if err := os.WriteFile(after, testkit.LogicalBytes(t, "desk/root", grown), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "e2fsck", "-fn", after)
}
