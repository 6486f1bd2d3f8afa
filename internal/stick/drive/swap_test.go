package drive

import (
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// customersDisk is a machine's disk with UEFI firmware's part and a small Linux system; its loader is only where the
// machine's firmware knows it.
func customersDisk(t *testing.T) string {
	t.Helper()
	const size, guid = 244 * units.MiB, "7A5E0F10-3B1C-4D5A-9C00-00000000F1"
	loader := filepath.Join(t.TempDir(), "grubx64.efi")
	testkit.Do(t, "grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/kiosk", "-c", testkit.SystemConfig(t), "-o", loader,
		"part_gpt", "fat", "ext2", "search", "search_fs_uuid", "configfile", "normal", "linux")
	esp := testkit.Image(t, "esp", 40*units.MiB)
	testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", esp)
	testkit.Do(t, "mmd", "-i", esp, "::EFI", "::EFI/kiosk")
	testkit.Do(t, "mcopy", "-i", esp, loader, "::EFI/kiosk/grubx64.efi")
	img := testkit.Image(t, "customer.img", size)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "00", Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 40*units.MiB), Type: table.TypeESP, GUID: guid + "01"},
		{Number: 2, Span: span.At(41*units.MiB, 200*units.MiB), Type: table.TypeLinuxData, GUID: guid + "02"},
	}}, size)
	testkit.Place(t, esp, img, units.MiB)
	testkit.Place(t, testkit.SystemRoot(t, testkit.SmallSystem(t), 200*units.MiB), img, 41*units.MiB)
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

// TestSwap is the whole job on the customer's own machine: started from the stick it captures its disk (NVMe) onto a
// shelf on a drive (USB), restores it onto a larger new one (SATA), has the firmware start that, and switches itself
// off; then the new disk alone starts, and its files are right.
func TestSwap(t *testing.T) {
	testkit.Need(t, "qemu-system-x86_64")
	const firmware, vars = "/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"
	fresh, err := os.ReadFile(vars)
	if err != nil {
		testkit.Lacks(t, "ovmf")
	}
	img := stick(t, newest(t, "*[0-9]-amd64", "linux-image-amd64"), 900*units.MiB, Data{Kind: "ext4", Label: "papers"})
	customer, store := customersDisk(t), shelfDrive(t)
	for range 4 { // the emulator may fail
		target := testkit.Image(t, "target.img", 960*units.MiB)
		mine := filepath.Join(t.TempDir(), "vars.fd")
		if err := os.WriteFile(mine, fresh, 0o600); err != nil {
			t.Fatal(err)
		}
		own := []string{"-machine", "q35", "-drive", "if=pflash,format=raw,readonly=on,file=" + firmware, "-drive",
			"if=pflash,format=raw,file=" + mine}
		if !swapped(t, start(t, append(own, "-smbios", "type=1,manufacturer=Ternworks,product=W2,serial=TW-2291",
			"-device",
			"qemu-xhci", "-drive", "if=none,id=u,format=raw,file="+img, "-device",
			"usb-storage,drive=u,bootindex=0", "-drive", "if=none,id=s,format=raw,file="+store, "-device",
			"usb-storage,drive=s,serial=PLV-41C8", "-drive", "if=none,id=n,format=raw,file="+customer, "-device",
			"nvme,drive=n,serial=KK2-55A1940B1", "-drive", "if=none,id=t,format=raw,file="+target, "-device",
			"ide-hd,drive=t,bus=ide.0,serial=HERON-7731")...)) {
			continue
		}
		// Now with the new disk in the place of the old one, and nothing else.
		m := start(t, append(own, "-drive", "if=none,id=t,format=raw,file="+target, "-device",
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
func swapped(t *testing.T, m *machine) bool {
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
	m.await("The restored disk has a loader", "grubx64.efi")
	m.types("\r")
	m.await("first that the firmware starts")
	m.types("q\r")
	m.ends()
	return !m.failed
}

// whatLies looks at what the drives have afterwards.
func whatLies(t *testing.T, target, store, stick string) {
	t.Helper()
	testkit.Do(t, "e2fsck", "-fn", store)
}
