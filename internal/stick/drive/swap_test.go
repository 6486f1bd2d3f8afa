package drive

import (
	"encoding/binary"
	"flag"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// customersSize is the size of a customer's disk, in bytes.
const customersSize = 244 * units.MiB

// uefiDisk is a machine's disk with UEFI firmware's part and a small Linux system; its loader is only where the
// machine's firmware knows it.
func uefiDisk(t *testing.T) string {
	t.Helper()
	loader := filepath.Join(t.TempDir(), "grubx64.efi")
	testkit.Do(t, "grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/kiosk", "-c", testkit.SystemConfig(t), "-o", loader,
		"part_gpt", "fat", "ext2", "search", "search_fs_uuid", "configfile", "normal", "linux")
	return espDisk(t, map[string]string{"kiosk/grubx64.efi": loader})
}

// signedDisk is such a disk whose loaders are the distribution's, which Secure Boot takes, as it takes the kernel.
func signedDisk(t *testing.T) string {
	t.Helper()
	return espDisk(t, map[string]string{"debian/shimx64.efi": "/usr/lib/shim/shimx64.efi.signed",
		"debian/grubx64.efi": "/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed",
		"debian/grub.cfg":    testkit.SystemConfig(t)})
}

// espDisk is a disk with files in the folder EFI of the firmware's part, and a small Linux system.
func espDisk(t *testing.T, files map[string]string) string {
	t.Helper()
	const guid = "7A5E0F10-3B1C-4D5A-9C00-00000000F1"
	esp := testkit.Image(t, "esp", 40*units.MiB)
	testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", esp)
	testkit.Do(t, "mmd", "-i", esp, "::EFI")
	made := map[string]bool{}
	for to, from := range files {
		if dir := "::EFI/" + filepath.Dir(to); !made[dir] {
			testkit.Do(t, "mmd", "-i", esp, dir)
			made[dir] = true
		}
		testkit.Do(t, "mcopy", "-i", esp, from, "::EFI/"+to)
	}
	img := testkit.Image(t, "customer.img", customersSize)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "00", Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 40*units.MiB), Type: table.TypeESP, GUID: guid + "01"},
		{Number: 2, Span: span.At(41*units.MiB, 200*units.MiB), Type: table.TypeLinuxData, GUID: guid + "02"},
	}}, customersSize)
	testkit.Place(t, esp, img, units.MiB)
	testkit.Place(t, testkit.SystemRoot(t, testkit.SmallSystem(t), 200*units.MiB), img, 41*units.MiB)
	return img
}

// biosDisk is a machine's disk with a loader for a BIOS in its first sectors, and a small Linux system.
func biosDisk(t *testing.T) string {
	t.Helper()
	made := filepath.Join(t.TempDir(), "core.img")
	testkit.Do(t, "grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub", "-c", testkit.SystemConfig(t), "-o", made,
		"biosdisk", "part_msdos", "ext2", "search", "search_fs_uuid", "configfile", "normal", "linux")
	core, err := os.ReadFile(made)
	if err != nil {
		t.Fatal(err)
	}
	first, err := os.ReadFile("/usr/lib/grub/i386-pc/boot.img")
	if err != nil {
		t.Fatal(err)
	}
	binary.LittleEndian.PutUint64(first[0x5C:], 1) // where the second stage lies, and the rest of that, in sectors
	binary.LittleEndian.PutUint64(core[0x1F4:], 2)
	img := testkit.Image(t, "customer.img", customersSize)
	testkit.WriteTable(t, img, table.Layout{Kind: table.MBR, Sector: 512, ID: "00c0ffee", Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 200*units.MiB), Type: "0x83", Active: true},
	}}, customersSize)
	testkit.Write(t, img, []disk.Patch{{Off: 0, Data: first[:440]}, {Off: 512, Data: core}})
	testkit.Place(t, testkit.SystemRoot(t, testkit.SmallSystem(t), 200*units.MiB), img, units.MiB)
	return img
}

// shelfDrive is a drive with a file system on all of it that has a shelf.
func shelfDrive(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	s, err := shelf.Create(t.Context(), filepath.Join(dir, "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	img := testkit.Image(t, "store.img", 400*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-L", "harbour-store", "-d", dir, img)
	return img
}

// onFirmware names the machines of the swap: its whole job takes minutes on each.
var onFirmware = flag.String("firmware", "uefi", "what the machine of the swap has: secure, uefi or bios")

// board is a machine as the emulator makes it, without its drives.
type board struct {
	machine []string
	// code and vars are UEFI firmware and its fresh variables; without them it has a BIOS.
	code, vars string
	customer   func(*testing.T) string
}

var boards = map[string]board{
	"secure": {machine: []string{"-machine", "q35,smm=on", "-global", "driver=cfi.pflash01,property=secure,value=on"},
		code: ovmf + "CODE_4M.secboot.fd", vars: ovmf + "VARS_4M.ms.fd", customer: signedDisk},
	"uefi": {machine: []string{"-machine", "q35"}, code: ovmf + "CODE_4M.fd", vars: ovmf + "VARS_4M.fd",
		customer: uefiDisk},
	"bios": {machine: []string{"-machine", "q35"}, customer: biosDisk},
}

const ovmf = "/usr/share/OVMF/OVMF_"

// args are the emulator's arguments for a board, with firmware that has these variables.
func (b board) args(vars string) []string {
	if b.code == "" {
		return b.machine
	}
	return append(b.machine[:len(b.machine):len(b.machine)], "-drive", "if=pflash,format=raw,readonly=on,file="+b.code,
		"-drive", "if=pflash,format=raw,file="+vars)
}

// freshVars are the variables of firmware that has never started anything, as a file.
func (b board) freshVars(t *testing.T) string {
	t.Helper()
	mine := filepath.Join(t.TempDir(), "vars.fd")
	if b.vars == "" {
		return mine
	}
	fresh, err := os.ReadFile(b.vars)
	if err != nil {
		testkit.Lacks(t, "ovmf")
	}
	if err := os.WriteFile(mine, fresh, 0o600); err != nil {
		t.Fatal(err)
	}
	return mine
}

// TestStarted is what a person does at a machine that was started from a stick: with a network on one with a BIOS, and
// without one on one with UEFI; where that enforces Secure Boot, the stick starts as well.
func TestStarted(t *testing.T) {
	testkit.Need(t, "qemu-system-x86_64")
	img := stick(t, newest(t, "*[0-9]-amd64", "linux-image-amd64"), 900*units.MiB, Data{Kind: "ext4", Label: "papers"})
	public := withKey(t, img)
	t.Run("network", func(t *testing.T) { network(t, img, public) })
	t.Run("secure", func(t *testing.T) { secure(t, img) })
	t.Run("swap", func(t *testing.T) { swap(t, img) })
}

// secure starts the stick where Secure Boot is enforced.
func secure(t *testing.T, img string) {
	b := boards["secure"]
	for range 4 { // the emulator may fail
		m := start(t, append(b.args(b.freshVars(t)), "-device", "qemu-xhci", "-drive",
			"if=none,id=u,format=raw,snapshot=on,file="+img, "-device", "usb-storage,drive=u,bootindex=0")...)
		m.await("THIS MACHINE")
		leaves(m)
		if !m.failed {
			return
		}
	}
	t.Fatal("the emulator failed each time")
}

// swap is the whole job on the customer's own machine: started from the stick it captures its disk (NVMe) onto a
// shelf on a drive (USB), restores it onto a larger new one (SATA), has the firmware start that where it is UEFI, and
// switches itself off; then the new disk alone starts, and its files are right.
func swap(t *testing.T, img string) {
	b, known := boards[*onFirmware]
	if !known {
		t.Fatalf("no machine has %q", *onFirmware)
	}
	customer, store := b.customer(t), shelfDrive(t)
	for range 4 { // the emulator may fail
		target := testkit.Image(t, "target.img", 960*units.MiB)
		vars := b.freshVars(t)
		m := start(t, append(b.args(vars), "-smbios", "type=1,manufacturer=Ternworks,product=W2,serial=TW-2291",
			"-device", "qemu-xhci",
			"-drive", "if=none,id=u,format=raw,file="+img, "-device", "usb-storage,drive=u,bootindex=0",
			"-drive", "if=none,id=s,format=raw,file="+store, "-device", "usb-storage,drive=s,serial=PLV-41C8",
			"-drive", "if=none,id=n,format=raw,file="+customer, "-device", "nvme,drive=n,serial=KK2-55A1940B1",
			"-drive", "if=none,id=t,format=raw,file="+target, "-device",
			"ide-hd,drive=t,bus=ide.0,serial=HERON-7731")...)
		if !swapped(t, m, b.code != "") {
			continue
		}
		// Now with the new disk in the place of the old one, and nothing else.
		m = start(t, append(b.args(vars), "-drive", "if=none,id=t,format=raw,file="+target, "-device",
			"nvme,drive=t,serial=HERON-7731")...)
		m.await(testkit.SystemStarted)
		if m.ends(); m.failed {
			continue
		}
		whatLies(t, target, store, img)
		return
	}
	t.Fatal("the emulator failed each time")
}

// swapped does the job over the serial line, and says whether the emulator held out.
func swapped(t *testing.T, m *machine, uefi bool) bool {
	t.Helper()
	m.await("Ternworks W2", "Oak in /run/twinshelf")
	m.types("\r") // to the bench
	m.await("QEMU NVMe Ctrl", "QEMU HARDDISK", "open shelf")
	m.types("/0B1\r") // the disk with that serial number
	m.await("capture QEMU NVMe Ctrl")
	m.types("\r")
	m.await("Machine +Ternworks W2", "probably [0-9.]+ MB more")
	m.insists("\r", "The twin of Ternworks W2 is on the shelf", "still being worked out")
	m.types("1/7731\r")
	m.await("1 disk found")
	m.insists("w", "Nothing is written before you confirm", "not looked at yet")
	m.types("4")
	m.await("twin 1 of 1")
	m.types("\r")
	m.await("nter restore onto ATA QEMU HARDDISK")
	m.types("\r")
	m.await("last four characters")
	m.types("7731\r")
	m.await("• Write the start of the disk")
	m.await("all [0-9]+ claims hold")
	if uefi {
		m.await("The restored disk has a loader", "(grub|shim)x64.efi")
		m.types("\r")
		m.await("first that the firmware starts")
	}
	m.types("q\r")
	m.ends()
	return !m.failed
}

// whatLies looks at what the drives have afterwards.
func whatLies(t *testing.T, target, store, stick string) {
	t.Helper()
	testkit.Do(t, "e2fsck", "-fn", store)
}
