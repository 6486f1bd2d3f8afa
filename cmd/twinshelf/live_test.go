package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// lvmFiles are LVM's own program and what it needs, for an emulated machine.
func lvmFiles(t *testing.T) map[string]string {
	t.Helper()
	program, err := testkit.Path("lvm")
	if err != nil {
		testkit.Lacks(t, "lvm2")
	}
	out := map[string]string{"bin/lvm": program}
	for _, line := range strings.Split(testkit.Do(t, "ldd", program), "\n") {
		for _, w := range strings.Fields(line) {
			if strings.HasPrefix(w, "/") {
				out[w[1:]] = w
			}
		}
	}
	conf := filepath.Join(t.TempDir(), "lvm.conf")
	if err := os.WriteFile(conf, []byte("activation { udev_sync=0 udev_rules=0 verify_udev_operations=0 monitoring=0 "+
		"}\n"+
		"backup { backup=0 archive=0 }\ndevices { obtain_device_list_from_udev=0 external_device_info_source=\"none\" "+
		"use_devicesfile=0 hints=\"none\" scan=\"/dev\" }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	out["etc/lvm/lvm.conf"] = conf
	return out
}

// liveDisk is a disk whose start-up part is plain, and whose system lies on LVM, with room in the group.
func liveDisk(t *testing.T, steady []byte) (img string) {
	t.Helper()
	const mib = units.MiB
	tree := t.TempDir()
	if err := os.WriteFile(filepath.Join(tree, "steady.dat"), steady, 0o600); err != nil {
		t.Fatal(err)
	}
	boot, root, pv := testkit.Image(t, "boot", 32*mib), testkit.Image(t, "root", 80*mib), testkit.Image(t, "pv",
		200*mib)
	testkit.Do(t, "mkfs.ext4", "-q", "-L", "boot", boot)
	testkit.Do(t, "mkfs.ext4", "-q", "-L", "root", "-d", tree, root)
	testkit.Group(t, "desk", []string{pv}, []testkit.Logical{{Name: "root", Extents: 20}, {Name: "rest", Extents: 4}})
	testkit.FillLogical(t, "desk/root", []string{pv}, root)
	img = filepath.Join(t.TempDir(), "desk.img")
	testkit.Sparse(t, img, 256*mib)
	testkit.WriteTable(t, img, table.Layout{Kind: table.MBR, Sector: 512, ID: "0c4a9e77", Parts: []table.Part{
		{Number: 1, Span: span.At(mib, 32*mib), Type: "0x83"},
		{Number: 2, Span: span.At(40*mib, 200*mib), Type: "0x8e"}}}, 256*mib)
	testkit.Place(t, boot, img, mib)
	testkit.Place(t, pv, img, 40*mib)
	return img
}

// TestLiveDisk captures a disk by a routine while the machine writes to it without a pause: without leave it is refused
// with the ways out; through snapshots of LVM the twin is quiet and whole, has no trace of them, and neither has the
// machine afterwards.
func TestLiveDisk(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "fsck.ext4", "debugfs")
	testkit.Root(t)
	steady := testkit.Noise(77, 8<<20)
	img, store := liveDisk(t, steady), testkit.Image(t, "shelf", 400*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", store)
	files := lvmFiles(t)
	files["bin/twinshelf"] = static(t)
	said := testkit.Guest{Files: files, Within: 3 * time.Minute,
		Modules: []string{"ata_piix", "sd_mod", "dm-mod", "dm-snapshot"},
		Devices: []string{"-drive", "if=none,format=raw,id=a,file=" + img, "-device",
			"ide-hd,bus=ide.0,drive=a,serial=KK2-LIVE", "-drive", "if=none,format=raw,id=b,file=" + store, "-device",
			"ide-hd,bus=ide.1,drive=b,serial=PP5-OAK"},
		Script: `desk=; for i in $(seq 60); do # the kernel looks at both disks at the same time: either comes first
  for d in sda sdb; do [ -b /dev/${d}2 ] && desk=$d; done
  [ -b /dev/sda ] && [ -b /dev/sdb ] && [ "$desk" ] && break; sleep 1
done
sleep 2
oak=sdb; [ "$desk" = sdb ] && oak=sda
mkdir -p /r /boot /shelf /run/lock/lvm /dev/mapper
lvm vgchange -q -ay desk
for i in $(seq 60); do mount /dev/${desk}1 /boot && break; sleep 1; done # it may read the table anew meanwhile
mount /dev/mapper/desk-root /r && mount /dev/$oak /shelf || echo no mount
twinshelf shelf new /shelf/oak --name Oak
export TWINSHELF_SHELF=/shelf/oak
( while :; do dd if=/dev/urandom of=/r/busy bs=64k count=10 2>/dev/null; echo x >>/r/log; sync; done ) &
twinshelf routine new Desk $desk --machine Desk >/dev/null
twinshelf -q routine run Desk; echo "refused $?"
twinshelf routine new Desk $desk --machine Desk --snapshots --do capture --do prove >/dev/null
twinshelf -q routine run Desk; echo "ran $?"
twinshelf routine show Desk --json | grep -o '".*was read through[^"]*"\|".*read-only meanwhile"'
kill %1; wait
echo "left: $(lvm lvs --noheadings -o lv_name desk | tr -d ' \n')"
grep -c '/boot ext4 rw' /proc/mounts
umount /shelf /r /boot; lvm vgchange -q -an desk`}.Run(t)
	for _, want := range []string{"refused 1", "mounted disks: LVM snapshots", "ran 0", "desk/root was read through " +
		"a snapshot", "/boot was mounted read-only meanwhile", "left: restroot", "\n1\n"} {
		if !strings.Contains(said, want) {
			t.Errorf("no %q", want)
		}
	}
	if t.Failed() {
		t.Fatal(said)
	}
	mnt, out := t.TempDir(), filepath.Join(t.TempDir(), "rehearsed.img")
	testkit.Do(t, "mount", "-o", "loop", store, mnt)
	defer testkit.Do(t, "umount", mnt)
	c := exec.Command(static(t), "-q", "--shelf", filepath.Join(mnt, "oak"), "rehearse", "Desk", out)
	c.Env = append(os.Environ(), "XDG_STATE_HOME="+t.TempDir())
	if b, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, b)
	}
	pv, root, boot := filepath.Join(t.TempDir(), "pv"), testkit.Image(t, "root2", 80*units.MiB),
		filepath.Join(t.TempDir(),
			"boot")
	testkit.Do(t, "dd", "if="+out, "of="+pv, "bs=1M", "skip=40", "count=200", "status=none")
	testkit.Do(t, "dd", "if="+out, "of="+boot, "bs=1M", "skip=1", "count=32", "status=none")
	if vols := testkit.LVM(t, []string{pv}, "lvs", "--noheadings", "-o", "lv_name", "desk"); strings.Contains(vols,
		"twinshelf") ||
		!strings.Contains(vols, "root") {
		t.Errorf("the twin has the volumes %s", vols)
	}
	if err := os.WriteFile(root, testkit.LogicalBytes(t, "desk/root", []string{pv}), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, fs := range []string{root, boot} {
		testkit.Do(t, "fsck.ext4", "-fn", fs)
	}
	if got := testkit.Do(t, "debugfs", "-R", "cat /steady.dat", root); !bytes.Contains([]byte(got), steady) {
		t.Error("the file that nobody wrote to isn't as it was")
	}
}
