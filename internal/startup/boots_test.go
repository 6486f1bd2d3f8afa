package startup_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/restore"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

const (
	rootUUID = "5d1c7a10-0000-4000-8000-00000000e001"
	started  = "THE KIOSK HAS STARTED"
	size     = 400 * units.MiB
)

// small is a small Linux system: the machine's own kernel, a first file system in memory with one program, and a root
// that checks its files, writes into its free room, tells what it sees, and switches the machine off.
func small(t *testing.T) (root string) {
	t.Helper()
	testkit.Need(t, "busybox", "cpio", "mkfs.ext4", "mkfs.fat", "mcopy", "grub-mkimage")
	kernels, _ := filepath.Glob("/boot/vmlinuz-*-cloud-amd64") // it has what it needs built in
	if len(kernels) == 0 {
		testkit.Lacks(t, "the kernel of linux-image-cloud-amd64 in /boot")
	}
	busybox, err := testkit.Path("busybox")
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
  busybox sync && echo "`+started+`"
busybox df -m / | busybox tail -1
busybox mount -o remount,ro /
busybox poweroff -f
`)
	put("root/etc/fstab", "UUID="+rootUUID+" / ext4 defaults 0 1\n")
	put("root/boot/grub/grub.cfg", "linux /boot/vmlinuz root=UUID="+rootUUID+" console=ttyS0 quiet panic=5\ninitrd "+
		"/boot/initrd\nboot\n")
	for i := range 40 {
		put(fmt.Sprintf("root/srv/file%d", i), strings.Repeat(fmt.Sprint("fare ", i, "\n"), 3000))
	}
	put("root/srv/room", "220\n") // MiB, more than the root had
	for _, d := range []string{"root/proc", "root/dev"} {
		os.MkdirAll(filepath.Join(dir, d), 0o755)
	}
	testkit.Do(t, "sh", "-c", fmt.Sprintf(`set -e
cd %s
for r in root initrd; do mkdir -p $r/bin; cp %s $r/bin/busybox; done
cp %s root/boot/vmlinuz
(cd root/srv; sha256sum file* >sums)
(cd initrd; find . | cpio -o -H newc --quiet | gzip -1 >../root/boot/initrd)`, dir, busybox, kernels[len(kernels)-1]))
	return filepath.Join(dir, "root")
}

// disked puts parts with their contents onto a disk.
func disked(t *testing.T, l table.Layout, contents map[int]string) string {
	t.Helper()
	img := testkit.Image(t, "kiosk.img", size)
	testkit.WriteTable(t, img, l, size)
	for _, p := range l.Parts {
		if from := contents[p.Number]; from != "" {
			testkit.Place(t, from, img, p.Span.Start)
		}
	}
	return img
}

func rootPart(t *testing.T, tree string, n int64) string {
	t.Helper()
	fs := testkit.Image(t, "root", n)
	testkit.Do(t, "mkfs.ext4", "-q", "-U", rootUUID, "-L", "kiosk", "-d", tree, fs)
	return fs
}

// config is what a loader does first: it looks for the root by its identity.
func config(t *testing.T) string {
	t.Helper()
	f := filepath.Join(t.TempDir(), "first.cfg")
	if err := os.WriteFile(f,
		[]byte("search --no-floppy --fs-uuid --set=root "+rootUUID+"\nconfigfile /boot/grub/grub.cfg\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	return f
}

// core makes the second stage of a BIOS loader for a place on the disk, and gives the first stage's code too.
func core(t *testing.T, at int64) (first, second []byte) {
	t.Helper()
	out := filepath.Join(t.TempDir(), "core.img")
	testkit.Do(t, "grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub", "-c", config(t), "-o", out, "biosdisk",
		"part_msdos", "part_gpt", "ext2", "search", "search_fs_uuid", "configfile", "normal", "linux")
	second, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	return staged(t, second, at)
}

// staged tells a second stage where it lies, and gives a first one that loads it.
func staged(t *testing.T, core []byte, at int64) (first, second []byte) {
	t.Helper()
	first, err := os.ReadFile("/usr/lib/grub/i386-pc/boot.img")
	if err != nil {
		t.Fatal(err)
	}
	binary.LittleEndian.PutUint64(first[0x5C:], uint64(at/512))
	binary.LittleEndian.PutUint64(core[0x1F4:], uint64(at/512+1))
	return first[:440], core
}

// starts runs a machine with the disk and gives what it says on its serial line.
func starts(t *testing.T, img string, uefi bool) string {
	t.Helper()
	qemu, err := testkit.Path("qemu-system-x86_64")
	if err != nil {
		testkit.Lacks(t, "qemu-system-x86_64")
	}
	args := []string{"-m", "512", "-display", "none", "-serial", "stdio", "-no-reboot", "-net", "none", "-accel", "tcg",
		"-cpu", "max",
		"-drive", "if=none,id=d,format=raw,cache=unsafe,file=" + img, "-device", "nvme,serial=HH1,drive=d,bootindex=0"}
	if uefi {
		vars := filepath.Join(t.TempDir(), "vars.fd") // firmware that has never seen the disk
		b, err := os.ReadFile("/usr/share/OVMF/OVMF_VARS_4M.fd")
		if err != nil {
			testkit.Lacks(t, "OVMF")
		}
		os.WriteFile(vars, b, 0o600)
		args = append(args, "-machine", "q35", "-drive",
			"if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd", "-drive",
			"if=pflash,format=raw,file="+vars)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()
	var out bytes.Buffer
	c := exec.CommandContext(ctx, qemu, args...)
	c.Stdout, c.Stderr = &out, &out
	_ = c.Run()
	return out.String()
}

// TestItStarts captures a small Linux system, restores it onto a larger disk with its root grown and what lies after
// it moved, and starts that in a machine that has never seen it.
func TestItStarts(t *testing.T) {
	tree := small(t)
	loader := filepath.Join(t.TempDir(), "grubx64.efi")
	testkit.Do(t, "grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/kiosk", "-c", config(t), "-o", loader, "part_gpt",
		"fat", "ext2", "search", "search_fs_uuid", "configfile", "normal", "linux")
	esp := testkit.Image(t, "esp", 40*units.MiB)
	testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", esp)
	testkit.Do(t, "mmd", "-i", esp, "::EFI", "::EFI/kiosk")
	testkit.Do(t, "mcopy", "-i", esp, loader, "::EFI/kiosk/grubx64.efi")
	behind := testkit.Image(t, "behind", 10*units.MiB)
	testkit.Do(t, "mkswap", behind)
	const guid = "7A5E0F10-3B1C-4D5A-9C00-00000000E1"
	bios := func(img string, at int64) string {
		first, second := core(t, at)
		testkit.Write(t, img, []disk.Patch{{Off: 0, Data: first}, {Off: at, Data: second}})
		return img
	}
	for _, c := range []struct {
		name    string
		uefi    bool
		img     func() string
		repairs int
	}{
		{"UEFI with the loader only where the old firmware knew it", true, func() string {
			return disked(t, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "00", Parts: []table.Part{
				{Number: 1, Span: span.At(units.MiB, 40*units.MiB), Type: table.TypeESP, GUID: guid + "01"},
				{Number: 2, Span: span.At(41*units.MiB, 200*units.MiB), Type: table.TypeLinuxData, GUID: guid + "02"},
				{Number: 3, Span: span.At(241*units.MiB, 10*units.MiB), Type: table.TypeLinuxSwap, GUID: guid + "03"},
			}}, map[int]string{1: esp, 2: rootPart(t, tree, 200*units.MiB), 3: behind})
		}, 1},
		{"BIOS with the second stage in the gap", false, func() string {
			return bios(disked(t, table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e", Parts: []table.Part{
				{Number: 1, Span: span.At(units.MiB, 200*units.MiB), Type: "0x83", Active: true},
				{Number: 2, Span: span.At(201*units.MiB, 10*units.MiB), Type: "0x82"},
			}}, map[int]string{1: rootPart(t, tree, 200*units.MiB), 2: behind}), 512)
		}, 0},
		{"BIOS with the second stage in a part that moves", false, func() string {
			return bios(disked(t, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "10", Parts: []table.Part{
				{Number: 1, Span: span.At(units.MiB, 200*units.MiB), Type: table.TypeLinuxData, GUID: guid + "11"},
				{Number: 2, Span: span.At(201*units.MiB, 2*units.MiB), Type: table.TypeBIOSBoot, GUID: guid + "12"},
			}}, map[int]string{1: rootPart(t, tree, 200*units.MiB)}), 201*units.MiB)
		}, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			img := c.img()
			target := testkit.Image(t, "target.img", 3*size)
			p := moved(t, img, target, plan.Wish{})
			if len(p.Repaired) != c.repairs || len(p.Startup.Starts()) == 0 {
				t.Errorf("%s; %q %+v", p.Startup.Words(), p.Repaired, p.Startup.Findings)
			}
			if x := p.Layout.Parts[len(p.Layout.Parts)-1]; !x.Moved() {
				t.Error("what lies after the root didn't move")
			}
			out := starts(t, target, c.uefi)
			if !strings.Contains(out, started) {
				t.Errorf("it didn't start:\n%s", out)
			}
			t.Log(strings.TrimSpace(out[max(0, len(out)-200):]))
			for _, x := range p.Layout.Parts {
				if x.Kind == "ext4" { // after it ran and wrote
					testkit.Do(t, "e2fsck", "-fn", testkit.Extract(t, target, x.To.Start, x.To.Len()))
				}
			}
		})
	}
}

// moved captures a disk and restores it onto another one.
func moved(t *testing.T, img, target string, wish plan.Wish) *plan.Plan {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	sv, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	s, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var twin *shelf.Twin
	taking := capture.Plan{Shelf: s, Machine: "Harbour kiosk", Tool: "test", Sources: []capture.Source{{Survey: sv}}}
	if err := testkit.Run(t, func(rc *run.Context) (err error) { twin, err = taking.Run(rc); return err }); err != nil {
		t.Fatal(err)
	}
	src, err := s.OpenDisk(t.Context(), twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	to := testkit.Target(t, target)
	made, err := plan.Make(t.Context(), plan.Order{Source: src, Target: to.Identity, Wish: wish, Seed: "a copy"})
	if err != nil {
		t.Fatal(err)
	}
	p, err := restore.New(made, to, &disk.Guard{})
	if err != nil {
		t.Fatal(err)
	}
	if err := testkit.Run(t, p.Run); err != nil {
		t.Fatal(err)
	}
	return made
}
