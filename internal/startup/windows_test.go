package startup_test

import (
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/demo"
	"twinshelf/internal/disk"
	"twinshelf/internal/hive/hivetest"
	"twinshelf/internal/identity"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/startup/bcd"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

const (
	tillDisk   = "7A5E0F10-3B1C-4D5A-9C00-00000000F500"
	tillSystem = "7A5E0F10-3B1C-4D5A-9C00-00000000F502"
	tillSign   = 0x00B21D9E
	till       = "{3f1c0000-0000-4000-8000-0000000000b1}"
	waking     = "{3f1c0000-0000-4000-8000-0000000000b2}"
	firstAt    = units.MiB
	firstLen   = 40 * units.MiB
	systemAt   = 50 * units.MiB
	systemLen  = 20 * units.MiB
	tillSize   = 100 * units.MiB
)

// withFiles mounts an NTFS image and puts files into it.
func withFiles(t testing.TB, img string, files map[string][]byte) {
	t.Helper()
	testkit.Mounted(t, []string{"ntfs-3g", img}, func(point string) {
		for name, b := range files {
			to := filepath.Join(point, name)
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(to, b, 0o600); err != nil {
				t.Fatal(err)
			}
		}
	})
}

// tillStore is the store of the till's boot manager, with a Windows and what wakes it up at a place.
func tillStore(t testing.TB, manager, at []byte, file string) []byte {
	t.Helper()
	return hivetest.Boot(t, hivetest.Object{ID: bcd.ManagerID, Kind: bcd.Manager,
		Elements: map[uint32]any{bcd.Device: manager, bcd.Default: till, bcd.Order: []string{till}}},
		hivetest.Object{ID: till, Kind: bcd.Loader, Elements: map[uint32]any{bcd.Device: at, bcd.System: at,
			bcd.Title: "Till", bcd.Path: `\Windows\system32\` + file, bcd.Waking: waking}},
		hivetest.Object{ID: waking, Kind: bcd.Resume, Elements: map[uint32]any{bcd.Device: at}})
}

// lettered is a registry file with what the letter C means, and drivers: for AHCI, for NVMe, and one for SAS whose file
// is missing.
func lettered(t testing.TB, c []byte) []byte {
	t.Helper()
	lines := []string{`cd \`, "add MountedDevices", "cd MountedDevices", "setval 2", `\DosDevices\C:`,
		hivetest.Setting(c), `\DosDevices\D:`, hivetest.Setting([]byte("a drive for discs")), `cd \`, "add Select",
		"cd Select", "setval 1", "Current", "dword:2", `cd \`, "add ControlSet002", `cd \ControlSet002`, "add Services"}
	for name, start := range map[string]int{"storahci": 0, "stornvme": 3, "LSI_SAS": 3, "mouclass": 3} {
		lines = append(lines, `cd \ControlSet002\Services`, "add "+name, "cd "+name, "setval 3", "Type", "dword:1", "Start",
			hivetest.Setting(start), "ImagePath", `string:System32\drivers\`+name+".sys")
	}
	return hivetest.Written(t, append(lines, `cd \ControlSet002\Services\stornvme`, "add StartOverride",
		"cd StartOverride", "setval 1", "0", "dword:3"))
}

// letterC is what C: means on an MBR or a GPT.
func letterC(t testing.TB, kind table.Kind, sign uint32, at int64, guid string) []byte {
	t.Helper()
	if kind == table.MBR {
		e := hivetest.OnMBR(sign, at)
		return append(slices.Clone(e[56:60]), e[32:40]...)
	}
	id, err := table.GUIDBytes(guid)
	if err != nil {
		t.Fatal(err)
	}
	return append([]byte("DMIO:ID:"), id...)
}

// tillDesk is a disk with Windows: its boot manager on the first part, and the system on the second.
func tillDesk(t testing.TB, kind table.Kind) string {
	t.Helper()
	testkit.Need(t, "mkntfs", "ntfs-3g", "mkfs.fat", "mcopy", "mmd", "hivexsh")
	first, system := testkit.Image(t, "first", firstLen), testkit.Image(t, "system", systemLen)
	testkit.Do(t, "mkntfs", "-Q", "-q", "-F", "-L", "Till", "-p", fmt.Sprint(systemAt/512), "-H", "255", "-S", "63", system)
	img := testkit.Image(t, "till.img", tillSize)
	l := table.Layout{Kind: kind, Sector: 512, ID: tillDisk, Parts: []table.Part{
		{Number: 1, Span: span.At(firstAt, firstLen), Type: table.TypeESP, GUID: tillDisk[:35] + "1"},
		{Number: 2, Span: span.At(systemAt, systemLen), Type: table.TypeMSBasicData, GUID: tillSystem}}}
	files := map[string][]byte{"Windows/System32/drivers/storahci.sys": []byte("x"),
		"Windows/System32/drivers/stornvme.sys": []byte("x"), "Windows/System32/winload.exe": []byte("x"), "Windows/System32/winload.efi": []byte("x"),
		"Windows/System32/config/SYSTEM": lettered(t, letterC(t, kind, tillSign, systemAt, tillSystem))}
	withFiles(t, system, files)
	if kind == table.MBR {
		l.ID, l.Parts[0].Type, l.Parts[0].Active, l.Parts[1].Type = fmt.Sprintf("%08x", tillSign), "0x07", true, "0x07"
		testkit.Do(t, "mkntfs", "-Q", "-q", "-F", "-p", fmt.Sprint(firstAt/512), "-H", "255", "-S", "63", first)
		withFiles(t, first, map[string][]byte{"bootmgr": []byte("x"), "Boot/BCD": tillStore(t,
			hivetest.OnMBR(tillSign, firstAt), hivetest.OnMBR(tillSign, systemAt), "winload.exe")})
		testkit.Write(t, first, []disk.Patch{{Off: 0x54, Data: append(slices.Clone(partCode), "BOOTMGR"...)}})
	} else {
		manager := demo.Loader(7, 40_000)
		copy(manager[0x80+24+240+40:], ".rsrc\x00")
		copy(manager[0x700:], "b\x00o\x00o\x00t\x00m\x00g\x00f\x00w\x00.\x00e\x00f\x00i\x00")
		testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", "-h", fmt.Sprint(firstAt/512), first)
		testkit.Do(t, "mmd", "-i", first, "::EFI", "::EFI/BOOT", "::EFI/Microsoft", "::EFI/Microsoft/Boot")
		for name, b := range map[string][]byte{"EFI/BOOT/BOOTX64.EFI": manager, "EFI/Microsoft/Boot/BCD": tillStore(t,
			hivetest.OnGPT(t, tillDisk, l.Parts[0].GUID), hivetest.OnGPT(t, tillDisk, tillSystem), "winload.efi")} {
			from := filepath.Join(t.TempDir(), "f")
			if err := os.WriteFile(from, b, 0o600); err != nil {
				t.Fatal(err)
			}
			testkit.Do(t, "mcopy", "-i", first, from, "::"+name)
		}
	}
	testkit.WriteTable(t, img, l, tillSize)
	testkit.Place(t, first, img, firstAt)
	testkit.Place(t, system, img, systemAt)
	if kind == table.MBR {
		testkit.Write(t, img, []disk.Patch{{Off: 0, Data: testkit.TableCode}})
	}
	return img
}

// file is a file of the till's disk as independent readers give it.
func (w where) file(t testing.TB, img, name string) string {
	t.Helper()
	out := filepath.Join(t.TempDir(), "out")
	if w.kind == table.GPT && name != "Windows/System32/config/SYSTEM" {
		testkit.Do(t, "mcopy", "-i", testkit.Extract(t, img, firstAt, firstLen), "::"+name, out)
		return out
	}
	at, n := w.at, int64(systemLen)
	if name == "Boot/BCD" {
		at, n = firstAt, firstLen
	}
	text := testkit.Do(t, "ntfscat", "-f", testkit.Extract(t, img, at, n), name)
	if err := os.WriteFile(out, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return out
}

// where is what names the till's system.
type where struct {
	kind table.Kind
	at   int64
	id   string // of the disk
	part string
}

// check sees that the store and the letter name the system, by another program.
func (w where) check(t *testing.T, img string) {
	t.Helper()
	sign := uint32(0)
	want, store := []byte(nil), "EFI/Microsoft/Boot/BCD"
	if w.kind == table.MBR {
		if _, err := fmt.Sscanf(w.id, "%x", &sign); err != nil {
			t.Fatal(err)
		}
		want, store = hivetest.OnMBR(sign, w.at), "Boot/BCD"
	} else {
		want = hivetest.OnGPT(t, w.id, w.part)
	}
	path := w.file(t, img, store)
	for _, key := range []string{till + `\Elements\11000001`, till + `\Elements\21000001`, waking + `\Elements\11000001`} {
		if got := valueOf(t, path, `\Objects\`+key, "Element"); got != hex.EncodeToString(want) {
			t.Errorf("%s is %s, and should be %x", key, got, want)
		}
	}
	letter := letterC(t, w.kind, sign, w.at, w.part)
	path = w.file(t, img, "Windows/System32/config/SYSTEM")
	if got := valueOf(t, path, `\MountedDevices`, `\\DosDevices\\C:`); got != hex.EncodeToString(letter) {
		t.Errorf("C: is %s, and should be %x", got, letter)
	}
}

// valueOf is a value as another program reads it.
func valueOf(t *testing.T, path, key, name string) string {
	t.Helper()
	c := exec.Command("hivexsh", path)
	c.Stdin = strings.NewReader("cd " + key + "\nlsval\nquit\n")
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for line := range strings.Lines(string(out)) {
		if rest, is := strings.CutPrefix(line, `"`+name+`"=`); is {
			return strings.ReplaceAll(strings.TrimPrefix(strings.TrimSpace(rest), "hex(3):"), ",", "")
		}
	}
	return string(out)
}

// TestOtherHardware: with its wish, a Windows loads at its start what it has drivers for, and nothing whose file is
// missing; letters and drivers are changed at once.
func TestOtherHardware(t *testing.T) {
	const away = 10 * units.MiB
	img := tillDesk(t, table.MBR)
	r := checked(t, img, startup.Options{})
	if patches, _ := r.Repairs(); len(patches) > 0 || !says(r, startup.Good, "on AHCI; in another machine it may not "+
		"find its disk on NVMe (stornvme)") {
		t.Errorf("unasked:\n%s", told(r))
	}
	testkit.Place(t, testkit.Extract(t, img, systemAt, systemLen), img, systemAt+away)
	relaid(t, img, table.MBR, func(l *table.Layout) { l.Parts[1].Span = l.Parts[1].Span.Shift(away) })
	o := startup.Options{OtherHardware: true, Moves: []disk.Move{{From: span.At(systemAt, systemLen), To: systemAt + away}}}
	r = checked(t, img, o)
	patches, does := r.Repairs()
	if !strings.Contains(strings.Join(does, "\n"), "stornvme (NVMe) 3/3 → 0") {
		t.Errorf("%q", does)
	}
	testkit.Write(t, img, patches)
	now := where{table.MBR, systemAt + away, fmt.Sprintf("%08x", tillSign), ""}
	now.check(t, img)
	path := now.file(t, img, startup.SystemHive)
	for key, want := range map[string]string{`stornvme`: "dword:00000000", `storahci`: "dword:00000000",
		`LSI_SAS`: "dword:00000003", `mouclass`: "dword:00000003"} {
		if got := valueOf(t, path, `\ControlSet002\Services\`+key, "Start"); got != want {
			t.Errorf("%s: %s", key, got)
		}
	}
	if got := valueOf(t, path, `\ControlSet002\Services\stornvme\StartOverride`, "0"); got != "dword:00000000" {
		t.Errorf("what overrides it is %s", got)
	}
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if any, err := startup.AnyHardware(t.Context(), d); !any || err != nil {
		t.Errorf("it starts anywhere: %v, %v", any, err)
	}
}

// relaid gives a disk another table.
func relaid(t *testing.T, img string, kind table.Kind, change func(l *table.Layout)) {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	tab, err := table.Read(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	l := table.Layout{Kind: kind, Sector: 512, ID: tab.ID, Parts: slices.Clone(tab.Parts)}
	change(&l)
	testkit.WriteTable(t, img, l, tillSize)
	if kind == table.MBR {
		testkit.Write(t, img, []disk.Patch{{Off: 0, Data: testkit.TableCode}})
	}
}

// repaired checks a disk, writes what can be put right, and sees that it starts then.
func repaired(t *testing.T, img string, o startup.Options) {
	t.Helper()
	r := checked(t, img, o)
	patches, does := r.Repairs()
	testkit.Write(t, img, patches)
	if r := checked(t, img, startup.Options{}); !says(r, startup.Good, "“Till” starts the Windows on part 2") {
		t.Errorf("it doesn't start:\n%s\nrepaired: %q", told(r), does)
	}
}

// TestWindowsFollows: whatever became of the place and the identities of a Windows, its boot manager's store and its
// letters name it afterwards.
func TestWindowsFollows(t *testing.T) {
	const away = 10 * units.MiB
	sign := fmt.Sprintf("%08x", tillSign)
	for _, kind := range []table.Kind{table.MBR, table.GPT} {
		as := where{kind, systemAt, sign, ""}
		if kind == table.GPT {
			as = where{kind, systemAt, tillDisk, tillSystem}
		}
		t.Run(fmt.Sprintf("%s as it is", kind), func(t *testing.T) {
			img := tillDesk(t, kind)
			r := checked(t, img, startup.Options{})
			if patches, does := r.Repairs(); len(patches) > 0 || len(r.Starts()) != 1 {
				t.Errorf("%q\n%s", does, told(r))
			}
			as.check(t, img)
		})
		t.Run(fmt.Sprintf("%s, moved", kind), func(t *testing.T) {
			img := tillDesk(t, kind)
			testkit.Place(t, testkit.Extract(t, img, systemAt, systemLen), img, systemAt+away)
			relaid(t, img, kind, func(l *table.Layout) { l.Parts[1].Span = l.Parts[1].Span.Shift(away) })
			repaired(t, img, startup.Options{Moves: []disk.Move{{From: span.At(firstAt, firstLen), To: firstAt},
				{From: span.At(systemAt, systemLen), To: systemAt + away}}})
			now := as
			now.at += away
			now.check(t, img)
		})
		t.Run(fmt.Sprintf("%s, the disk has another identity", kind), func(t *testing.T) {
			img := tillDesk(t, kind)
			now := as
			relaid(t, img, kind, func(l *table.Layout) {
				l.ID = "deadbeef"
				if kind == table.GPT {
					l.ID = tillDisk[:34] + "77"
				}
				now.id = l.ID
			})
			repaired(t, img, startup.Options{})
			if kind == table.GPT { // letters don't name the disk
				now.check(t, img)
			}
		})
		t.Run(fmt.Sprintf("%s, all identities renewed", kind), func(t *testing.T) {
			img := tillDesk(t, kind)
			d, err := disk.Open(img, disk.Identity{})
			if err != nil {
				t.Fatal(err)
			}
			defer d.Close()
			r, err := identity.Renew(t.Context(), d, identity.Options{Seed: "a new till"})
			if err != nil {
				t.Fatal(err)
			}
			testkit.Write(t, img, r.Patches)
			now := as
			if kind == table.GPT {
				now.id, now.part = r.IDs[as.id], r.IDs[as.part]
			} else {
				now.id = strings.TrimSuffix(r.IDs[as.id+"-02"], "-02")
			}
			if len(r.Asks) > 0 || now.id == "" || now.id == as.id {
				t.Errorf("%q, %v", r.Asks, r.IDs)
			}
			now.check(t, img)
			if r := checked(t, img, startup.Options{}); len(r.Starts()) != 1 {
				t.Error(told(r))
			}
		})
	}
}
