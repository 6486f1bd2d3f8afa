package testkit

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// SystemUUID is the identity of the root of SmallSystem, SystemStarted what it says once it has started and its files
// are right.
const (
	SystemUUID    = "5d1c7a10-0000-4000-8000-00000000e001"
	SystemStarted = "THE KIOSK HAS STARTED"
)

// SmallSystem is a small Linux system: the machine's own kernel, a first file system in memory with one program, and
// a root that checks its files, writes into its free room, tells what it sees, and switches the machine off.
func SmallSystem(t testing.TB) (root string) {
	t.Helper()
	Need(t, "busybox", "cpio", "mkfs.ext4", "mkfs.fat", "mcopy", "grub-mkimage")
	kernels, _ := filepath.Glob("/boot/vmlinuz-*-cloud-amd64") // it has what it needs built in
	if len(kernels) == 0 {
		Lacks(t, "the kernel of linux-image-cloud-amd64 in /boot")
	}
	busybox, err := Path("busybox")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	put := func(name, text string) {
		p := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(p), 0o755)
		if err := os.WriteFile(p, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	put("initrd/init", `#!/bin/busybox sh
/bin/busybox mkdir -p /proc /dev /root
/bin/busybox mount -t proc proc /proc
/bin/busybox mount -t devtmpfs dev /dev
uuid=$(/bin/busybox sed 's/.*root=UUID=\([^ ]*\).*/\1/' /proc/cmdline)
for i in 1 2 3 4 5 6 7 8 9 10; do
  dev=$(/bin/busybox findfs UUID=$uuid) && break
  /bin/busybox sleep 1
done
/bin/busybox mount -t ext4 $dev /root || exec /bin/busybox sh
exec /bin/busybox switch_root /root /sbin/init
`)
	put("root/sbin/init", `#!/bin/busybox sh
PATH=/bin
busybox mount -t devtmpfs dev /dev
busybox mount -t proc proc /proc
exec >/dev/console 2>&1
cd /srv && busybox sha256sum -c sums >/dev/null &&
  busybox dd if=/dev/zero of=/srv/new bs=1048576 count=$(busybox cat /srv/room) &&
  busybox sync && echo "`+SystemStarted+`"
busybox df -m / | busybox tail -1
busybox mount -o remount,ro /
busybox poweroff -f
`)
	put("root/etc/fstab", "UUID="+SystemUUID+" / ext4 defaults 0 1\n")
	put("root/boot/grub/grub.cfg", "linux /boot/vmlinuz root=UUID="+SystemUUID+" console=ttyS0 quiet panic=5\ninitrd "+
		"/boot/initrd\nboot\n")
	for i := range 40 {
		put(fmt.Sprintf("root/srv/file%d", i), strings.Repeat(fmt.Sprint("fare ", i, "\n"), 3000))
	}
	put("root/srv/room", "220\n") // MiB, more than the root had
	for _, d := range []string{"root/proc", "root/dev"} {
		os.MkdirAll(filepath.Join(dir, d), 0o755)
	}
	Do(t, "sh", "-c", fmt.Sprintf(`set -e
cd %s
for r in root initrd; do mkdir -p $r/bin; cp %s $r/bin/busybox; done
cp %s root/boot/vmlinuz
(cd root/srv; sha256sum file* >sums)
(cd initrd; find . | cpio -o -H newc --quiet | gzip -1 >../root/boot/initrd)`, dir, busybox, kernels[len(kernels)-1]))
	return filepath.Join(dir, "root")
}

// SystemRoot is a file system of n bytes with the tree of SmallSystem.
func SystemRoot(t testing.TB, tree string, n int64) string {
	t.Helper()
	fs := Image(t, "root", n)
	Do(t, "mkfs.ext4", "-q", "-U", SystemUUID, "-L", "kiosk", "-d", tree, fs)
	return fs
}

// SystemConfig is what a loader does first: it looks for the root by its identity.
func SystemConfig(t testing.TB) string {
	t.Helper()
	f := filepath.Join(t.TempDir(), "first.cfg")
	if err := os.WriteFile(f,
		[]byte("search --no-floppy --fs-uuid --set=root "+SystemUUID+"\nconfigfile /boot/grub/grub.cfg\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	return f
}
