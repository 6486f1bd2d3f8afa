package hivetest

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/startup/bcd"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// What the till has; places and sizes in bytes.
const (
	TillDisk      = "7A5E0F10-3B1C-4D5A-9C00-00000000F500"
	TillSystem    = "7A5E0F10-3B1C-4D5A-9C00-00000000F502"
	TillSignature = 0x00B21D9E
	TillID        = "{3f1c0000-0000-4000-8000-0000000000b1}"
	WakingID      = "{3f1c0000-0000-4000-8000-0000000000b2}"
	FirstAt       = units.MiB
	FirstLen      = 40 * units.MiB
	SystemAt      = 50 * units.MiB
	SystemLen     = 20 * units.MiB
	TillSize      = 100 * units.MiB
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
	return Boot(t, Object{ID: bcd.ManagerID, Kind: bcd.Manager,
		Elements: map[uint32]any{bcd.Device: manager, bcd.Default: TillID, bcd.Order: []string{TillID}}},
		Object{ID: TillID, Kind: bcd.Loader, Elements: map[uint32]any{bcd.Device: at, bcd.System: at,
			bcd.Title: "Till", bcd.Path: `\Windows\system32\` + file, bcd.Waking: WakingID}},
		Object{ID: WakingID, Kind: bcd.Resume, Elements: map[uint32]any{bcd.Device: at}})
}

// lettered is a registry file with what the letter C means, and drivers: for AHCI, for NVMe, and one for SAS whose file
// is missing.
func lettered(t testing.TB, c []byte) []byte {
	t.Helper()
	lines := []string{`cd \`, "add MountedDevices", "cd MountedDevices", "setval 2", `\DosDevices\C:`,
		Setting(c), `\DosDevices\D:`, Setting([]byte("a drive for discs")), `cd \`, "add Select",
		"cd Select", "setval 1", "Current", "dword:2", `cd \`, "add ControlSet002", `cd \ControlSet002`, "add Services"}
	for name, start := range map[string]int{"storahci": 0, "stornvme": 3, "LSI_SAS": 3, "mouclass": 3} {
		lines = append(lines, `cd \ControlSet002\Services`, "add "+name, "cd "+name, "setval 3", "Type", "dword:1",
			"Start",
			Setting(start), "ImagePath", `string:System32\drivers\`+name+".sys")
	}
	made := keys{`\ControlSet002`: true}
	for _, k := range []string{`ComputerName\ComputerName`, "TimeZoneInformation", "Windows"} {
		lines = append(lines, made.to(`ControlSet002\Control\`+k)...)
		switch k {
		case "Windows":
			lines = append(lines, "setval 1", "ShutdownTime", Setting(le.AppendUint64(nil, 134_080_000_000_000_000)))
		case "TimeZoneInformation":
			lines = append(lines, "setval 1", "TimeZoneKeyName", "string:W. Europe Standard Time")
		default:
			lines = append(lines, "setval 1", "ComputerName", "string:TILL-2")
		}
	}
	return Written(t, append(lines, `cd \ControlSet002\Services\stornvme`, "add StartOverride",
		"cd StartOverride", "setval 1", "0", "dword:3"))
}

// keys are those that a file has, by their paths.
type keys map[string]bool

// to goes to a key, and makes what isn't there yet.
func (k keys) to(path string) []string {
	out := []string{`cd \`}
	at := ""
	for name := range strings.SplitSeq(path, `\`) {
		if at += `\` + name; !k[at] {
			k[at], out = true, append(out, "add "+name)
		}
		out = append(out, "cd "+name)
	}
	return out
}

// software is what the till's Windows says that it is.
func software(t testing.TB) []byte {
	t.Helper()
	k := keys{}
	lines := append(k.to(`Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-1-2-3-1001`), "setval 1",
		"ProfileImagePath", `expandstring:C:\Users\mara`)
	lines = append(lines, k.to(`Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-18`)...)
	lines = append(lines, "setval 1", "ProfileImagePath", `expandstring:%systemroot%\system32\config\systemprofile`)
	lines = append(lines, k.to(`Microsoft\Windows NT\CurrentVersion`)...)
	return Written(t, append(lines, "setval 5", "ProductName", "string:Windows 10 Pro", "DisplayVersion", "string:23H2",
		"CurrentBuildNumber", "string:22631", "UBR", "dword:3155", "InstallDate", "dword:0x65000000"))
}

// LetterC is what C: means on an MBR or a GPT.
func LetterC(t testing.TB, kind table.Kind, sign uint32, at int64, guid string) []byte {
	t.Helper()
	if kind == table.MBR {
		e := OnMBR(sign, at)
		return append(slices.Clone(e[56:60]), e[32:40]...)
	}
	id, err := table.GUIDBytes(guid)
	if err != nil {
		t.Fatal(err)
	}
	return append([]byte("DMIO:ID:"), id...)
}

// Till is a disk with Windows: its boot manager on the first part, and the system on the second. On a GPT the manager
// is made of a loader.
func Till(t testing.TB, kind table.Kind, loader []byte) string {
	t.Helper()
	testkit.Need(t, "mkntfs", "ntfs-3g", "mkfs.fat", "mcopy", "mmd", "hivexsh")
	first, system := testkit.Image(t, "first", FirstLen), testkit.Image(t, "system", SystemLen)
	testkit.Do(t, "mkntfs", "-Q", "-q", "-F", "-L", "Till", "-p", fmt.Sprint(SystemAt/512), "-H", "255", "-S", "63",
		system)
	img := testkit.Image(t, "till.img", TillSize)
	l := table.Layout{Kind: kind, Sector: 512, ID: TillDisk, Parts: []table.Part{
		{Number: 1, Span: span.At(FirstAt, FirstLen), Type: table.TypeESP, GUID: TillDisk[:35] + "1"},
		{Number: 2, Span: span.At(SystemAt, SystemLen), Type: table.TypeMSBasicData, GUID: TillSystem}}}
	files := map[string][]byte{"Windows/System32/drivers/storahci.sys": []byte("x"),
		"Windows/System32/drivers/stornvme.sys": []byte("x"), "Windows/System32/winload.exe": []byte("x"),
		"Windows/System32/winload.efi":     []byte("x"),
		"Users/mara/Letters/rota.odt":      testkit.Noise(5, 24_000),
		"Users/mara/fares.ods":             testkit.Noise(6, 1500),
		"Windows/System32/config/SOFTWARE": software(t),
		"Windows/System32/config/SYSTEM":   lettered(t, LetterC(t, kind, TillSignature, SystemAt, TillSystem))}
	withFiles(t, system, files)
	if kind == table.MBR {
		l.ID, l.Parts[0].Type, l.Parts[0].Active, l.Parts[1].Type = fmt.Sprintf("%08x", TillSignature), "0x07", true,
			"0x07"
		testkit.Do(t, "mkntfs", "-Q", "-q", "-F", "-p", fmt.Sprint(FirstAt/512), "-H", "255", "-S", "63", first)
		withFiles(t, first, map[string][]byte{"bootmgr": []byte("x"), "Boot/BCD": tillStore(t,
			OnMBR(TillSignature, FirstAt), OnMBR(TillSignature, SystemAt), "winload.exe")})
		testkit.Write(t, first, []disk.Patch{{Off: 0x54, Data: append(slices.Clone(testkit.PartCode), "BOOTMGR"...)}})
	} else {
		manager := slices.Clone(loader)
		copy(manager[0x80+24+240+40:], ".rsrc\x00")
		copy(manager[0x700:], "b\x00o\x00o\x00t\x00m\x00g\x00f\x00w\x00.\x00e\x00f\x00i\x00")
		testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", "-h", fmt.Sprint(FirstAt/512), first)
		testkit.Do(t, "mmd", "-i", first, "::EFI", "::EFI/BOOT", "::EFI/Microsoft", "::EFI/Microsoft/Boot")
		for name, b := range map[string][]byte{"EFI/BOOT/BOOTX64.EFI": manager, "EFI/Microsoft/Boot/BCD": tillStore(t,
			OnGPT(t, TillDisk, l.Parts[0].GUID), OnGPT(t, TillDisk, TillSystem), "winload.efi")} {
			from := filepath.Join(t.TempDir(), "f")
			if err := os.WriteFile(from, b, 0o600); err != nil {
				t.Fatal(err)
			}
			testkit.Do(t, "mcopy", "-i", first, from, "::"+name)
		}
	}
	testkit.WriteTable(t, img, l, TillSize)
	testkit.Place(t, first, img, FirstAt)
	testkit.Place(t, system, img, SystemAt)
	if kind == table.MBR {
		testkit.Write(t, img, []disk.Patch{{Off: 0, Data: testkit.TableCode}})
	}
	return img
}
