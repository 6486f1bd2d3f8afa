package startup_test

import (
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/demo"
	"twinshelf/internal/disk"
	"twinshelf/internal/hive/hivetest"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/startup/bcd"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

func checked(t testing.TB, img string, o startup.Options) *startup.Report {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	r, err := startup.Check(context.Background(), d, o)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// says looks for a finding by its verdict and a piece of its words.
func says(r *startup.Report, v startup.Verdict, words string) bool {
	return slices.ContainsFunc(r.Findings, func(f startup.Finding) bool {
		return f.Verdict == v && strings.Contains(f.Says+" "+f.Evidence, words)
	})
}

// espDisk is a disk with an EFI system part that holds the given files.
func espDisk(t testing.TB, files map[string][]byte) string {
	t.Helper()
	testkit.Need(t, "mkfs.fat", "mcopy", "mmd")
	esp := testkit.Image(t, "esp", 40*units.MiB)
	testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", esp)
	made := map[string]bool{}
	for name, b := range files {
		dir := ""
		for step := range strings.SplitSeq(filepath.Dir(name), "/") {
			if dir += "/" + step; !made[dir] {
				testkit.Do(t, "mmd", "-i", esp, "::"+dir)
				made[dir] = true
			}
		}
		from := filepath.Join(t.TempDir(), "f")
		if err := os.WriteFile(from, b, 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "mcopy", "-i", esp, from, "::"+name)
	}
	img := testkit.Image(t, "disk.img", 50*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000E200",
		Parts: []table.Part{
			{Number: 1, Span: span.At(units.MiB, 40*units.MiB), Type: table.TypeESP,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000E201"}}}, 50*units.MiB)
	testkit.Place(t, esp, img, units.MiB)
	return img
}

func TestUEFI(t *testing.T) {
	sound := demo.Loader(1, 40_000)
	odd, bare := slices.Clone(sound), slices.Clone(sound)
	copy(odd[0x400:0x600], noise) // tables of a cipher look so too
	clear(bare[0x400:0x600])
	other := slices.Clone(sound)
	binary.LittleEndian.PutUint16(other[0x84:], 0xAA64)
	for _, c := range []struct {
		name    string
		files   map[string][]byte
		verdict startup.Verdict
		words   string
		starts  bool
		repair  bool
	}{
		{"of an unknown kind", map[string][]byte{"EFI/BOOT/BOOTX64.EFI": sound}, startup.Doubt,
			"of a kind that isn't known here", false, false},
		{"with what looks like no code", map[string][]byte{"EFI/BOOT/BOOTX64.EFI": odd}, startup.Doubt,
			"may be damaged", false, false},
		{"without code", map[string][]byte{"EFI/BOOT/BOOTX64.EFI": bare}, startup.Bad, "all zeros", false, false},
		{"cut short", map[string][]byte{"EFI/BOOT/BOOTX64.EFI": sound[:20_000]}, startup.Bad, "cut short",
			false, false},
		{"a text", map[string][]byte{"EFI/BOOT/BOOTX64.EFI": []byte("not a program, but long enough to be read as " +
			"one, and more than the ninety-six bytes that a header of that old kind needs to be there")}, startup.Bad,
			"no PE program", false, false},
		{"for another machine", map[string][]byte{"EFI/BOOT/BOOTX64.EFI": other}, startup.Bad,
			"another kind of machine", false, false},
		{"nothing", map[string][]byte{"EFI/BOOT/README.TXT": nil}, startup.Bad, "no loader", false, false},
		{"elsewhere, and can be copied", map[string][]byte{"EFI/kiosk/grubx64.efi": sound}, startup.Doubt,
			"finds no loader", false, true},
		{"elsewhere, and can't", map[string][]byte{"EFI/kiosk/shimx64.efi": sound}, startup.Bad, "finds no loader",
			false, false},
	} {
		img := espDisk(t, c.files)
		r := checked(t, img, startup.Options{})
		if !says(r, c.verdict, c.words) || (len(r.Starts()) > 0) != c.starts || !r.Meant() {
			t.Errorf("%s: %s %+v", c.name, r.Words(), r.Findings)
		}
		patches, does := r.Repairs()
		if (len(patches) > 0) != c.repair || (len(does) > 0) != c.repair {
			t.Errorf("%s: %d patches, %q", c.name, len(patches), does)
		}
		if c.repair {
			testkit.Write(t, img, patches)
			if r := checked(t, img, startup.Options{}); !says(r, startup.Good, "\\EFI\\BOOT\\BOOTX64.EFI") ||
				len(r.May()) != 1 {
				t.Errorf("%s, repaired: %s %+v", c.name, r.Words(), r.Findings)
			}
			testkit.Do(t, "fsck.fat", "-n", testkit.Extract(t, img, units.MiB, 40*units.MiB))
		}
	}
}

// stored is the store of a boot manager whose Windows is at a place.
func stored(t testing.TB, at []byte) []byte {
	t.Helper()
	const desk = "{3f1c0000-0000-4000-8000-0000000000a1}"
	return hivetest.Boot(t, hivetest.Object{ID: bcd.ManagerID, Kind: bcd.Manager,
		Elements: map[uint32]any{bcd.Default: desk, bcd.Order: []string{desk}}},
		hivetest.Object{ID: desk, Kind: bcd.Loader, Elements: map[uint32]any{bcd.Device: at, bcd.System: at,
			bcd.Title: "Ticket desk", bcd.Path: `\Windows\system32\winload.exe`}})
}

func TestBIOS(t *testing.T) {
	testkit.Need(t, "mkfs.fat", "mcopy", "mmd")
	const partLen = 40 * units.MiB
	made := func(mark string, hidden string, data []byte, without string) string {
		fs := testkit.Image(t, "fs", partLen)
		testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", "-h", hidden, fs)
		testkit.Do(t, "mmd", "-i", fs, "::Boot", "::Windows", "::Windows/System32")
		for name, b := range map[string][]byte{"bootmgr": []byte("x"), "Boot/BCD": data,
			"Windows/System32/winload.exe": []byte("x")} {
			if name == without {
				continue
			}
			from := filepath.Join(t.TempDir(), "f")
			if err := os.WriteFile(from, b, 0o600); err != nil {
				t.Fatal(err)
			}
			testkit.Do(t, "mcopy", "-i", fs, from, "::"+name)
		}
		if mark != "" {
			testkit.Write(t, fs, []disk.Patch{{Off: 0x5A, Data: append(slices.Clone(testkit.PartCode), mark...)}})
		}
		return fs
	}
	named := stored(t, hivetest.OnMBR(0x00b21d9e, units.MiB))
	sound := made("BOOTMGR", "2048", named, "")
	for _, c := range []struct {
		name    string
		fs      string
		active  int
		code    []byte
		verdict startup.Verdict
		words   string
		starts  bool
		meant   bool
		repair  bool
	}{
		{"a data disk", sound, 0, nil, "", "", false, false, false},
		{"code and no active part", sound, 0, testkit.TableCode, "", "", false, false, false},
		{"an active part and no code", sound, 1, nil, startup.Bad, "no code", false, true, false},
		{"an active part without a boot sector", sound, 2, testkit.TableCode, startup.Bad, "starts nothing", false,
			true, false},
		{"a Windows", sound, 1, testkit.TableCode, startup.Good, "“Ticket desk” starts the Windows on part " +
			"1", true, true, false},
		{"a boot sector with another place", made("BOOTMGR", "4096", named, ""), 1, testkit.TableCode, startup.Doubt,
			"4096 sectors lie before it, and there are 2048", true, true, true},
		{"a boot sector that only writes a text", made("", "2048", named, ""), 1, testkit.TableCode, startup.Bad,
			"This is not a bootable disk", false, true, false},
		{"of an unknown kind", made("OTHER", "2048", named, ""), 1, testkit.TableCode, startup.Doubt, "can't be told",
			false, true, false},
		{"no boot manager", made("BOOTMGR", "2048", named, "bootmgr"), 1, testkit.TableCode, startup.Bad,
			"bootmgr, which isn't there", false, true, false},
		{"no Windows", made("BOOTMGR", "2048", named, "Windows/System32/winload.exe"), 1, testkit.TableCode,
			startup.Bad, "winload.exe on part 1, which isn't there", false, true, false},
		{"data of another disk", made("BOOTMGR", "2048", stored(t, hivetest.OnMBR(1, units.MiB)), ""), 1,
			testkit.TableCode, startup.Doubt, "of the disk 00000001, which isn't on this disk", false, true, false},
		{"a Windows in an image", made("BOOTMGR", "2048", stored(t, hivetest.InMemory(hivetest.OnMBR(0x00b21d9e,
			units.MiB), `\till.vhd`)), ""), 1, testkit.TableCode, startup.Doubt, "from an image on part 1", false, true,
			false},
		{"damaged data", made("BOOTMGR", "2048", named[4:], ""), 1, testkit.TableCode, startup.Bad,
			"can't use its store", false, true, false},
	} {
		img := testkit.Image(t, "disk.img", 100*units.MiB)
		l := table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e", Parts: []table.Part{
			{Number: 1, Span: span.At(units.MiB, partLen), Type: "0x0c", Active: c.active == 1},
			{Number: 2, Span: span.At(50*units.MiB, 20*units.MiB), Type: "0x83", Active: c.active == 2}}}
		testkit.WriteTable(t, img, l, 100*units.MiB)
		testkit.Place(t, c.fs, img, units.MiB)
		if c.code != nil {
			testkit.Write(t, img, []disk.Patch{{Off: 0, Data: c.code}})
		}
		r := checked(t, img, startup.Options{})
		if c.words != "" && !says(r, c.verdict, c.words) || (len(r.Starts()) > 0) != c.starts || r.Meant() != c.meant {
			t.Errorf("%s: %s\n%s", c.name, r.Words(), told(r))
		}
		if patches, _ := r.Repairs(); (len(patches) > 0) != c.repair {
			t.Errorf("%s: %d patches", c.name, len(patches))
		} else if c.repair {
			testkit.Write(t, img, patches)
			if r := checked(t, img, startup.Options{}); !says(r, startup.Good, "knows where the part begins") {
				t.Errorf("%s, repaired:\n%s", c.name, told(r))
			}
			testkit.Do(t, "fsck.fat", "-n", testkit.Extract(t, img, units.MiB, partLen))
		}
	}
}

// TestMovedWindows: on an MBR disk, a Windows whose part begins elsewhere may not be found by its own start-up data.
func TestMovedWindows(t *testing.T) {
	testkit.Need(t, "mkntfs")
	fs := testkit.Image(t, "fs", 20*units.MiB)
	testkit.Do(t, "mkntfs", "-Q", "-q", "-F", "-p", "2048", "-H", "255", "-S", "63", fs)
	img := testkit.Image(t, "disk.img", 50*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e", Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 20*units.MiB), Type: "0x07", Active: true}}}, 50*units.MiB)
	testkit.Place(t, fs, img, units.MiB)
	r := checked(t, img, startup.Options{Moves: []disk.Move{{From: span.At(3*units.MiB, 20*units.MiB), To: units.MiB}}})
	if !says(r, startup.Doubt, "begins elsewhere now") {
		t.Errorf("nobody says that it moved:\n%s", told(r))
	}
}

func TestReferences(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	const here, there, gone = "5d1c7a10-0000-4000-8000-00000000e201", "5d1c7a10-0000-4000-8000-00000000e202",
		"5d1c7a10-0000-4000-8000-00000000e203"
	dir := t.TempDir()
	for name, text := range map[string]string{
		"etc/fstab": "# UUID=00000000-dead-beef-0000-000000000000 / ext4\nUUID=" + here +
			" / ext4 defaults 0 1\nUUID=" + there + " /srv ext4 defaults 0 2\n" +
			"UUID=" + gone + " none swap sw 0 0\nLABEL=nobody /media ext4 nofail 0 " +
			"0\nPARTUUID=7a5e0f10-3b1c-4d5a-9c00-00000000e301 /boot ext4 ro 0 0\n",
		"boot/grub/grub.cfg": "search --no-floppy --fs-uuid --set=root " +
			"11111111-2222-3333-4444-555555555555\nlinux /vmlinuz root=/dev/sda2 ro\nlinux /old root=UUID=${rootid}\n",
		"loader/entries/kiosk.conf": "title Kiosk\noptions root=UUID=" + here + " quiet\n",
	} {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	fs := testkit.Image(t, "fs", 40*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-U", here, "-d", dir, fs)
	img := testkit.Image(t, "disk.img", 50*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000E300",
		Parts: []table.Part{
			{Number: 1, Span: span.At(units.MiB, 40*units.MiB), Type: table.TypeLinuxData,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000E301"}}}, 50*units.MiB)
	testkit.Place(t, fs, img, units.MiB)
	r := checked(t, img, startup.Options{Gone: map[string]string{gone: "part 2"}, Elsewhere: []string{there}})
	for words, v := range map[string]startup.Verdict{
		"3 references in 3 files": startup.Good, "another disk of the machine": startup.Doubt,
		"part 2, which is left out": startup.Doubt, "LABEL=nobody": startup.Doubt,
		"11111111-2222": startup.Doubt, "/dev/sda2": startup.Doubt,
	} {
		if !says(r, v, words) {
			t.Errorf("nothing says %q", words)
		}
	}
	if len(r.Findings) != 6 {
		t.Errorf("%+v", r.Findings)
	}
	if r.Meant() {
		t.Error("references alone are nothing to start from")
	}
}

// TestDeclined: a repair that was declined leaves a doubt.
func TestDeclined(t *testing.T) {
	sound := demo.Loader(1, 40_000)
	r := checked(t, espDisk(t, map[string][]byte{"EFI/kiosk/grubx64.efi": sound}), startup.Options{})
	if r.Declined = true; len(r.Starts()) != 0 || len(r.May()) != 1 || !strings.Contains(r.Words(), "can't be told") {
		t.Errorf("a repair that was declined: %s", r.Words())
	}
}

// FuzzCheck changes bytes of a disk with a start-up part: the check ends, and repairs stay within the disk.
func FuzzCheck(f *testing.F) {
	img := espDisk(f, map[string][]byte{"EFI/kiosk/grubx64.efi": demo.Loader(1, 3000),
		"EFI/kiosk/grub.cfg": []byte("search --fs-uuid --set=root 1A2B-0001\n")})
	seed, err := os.ReadFile(img)
	if err != nil {
		f.Fatal(err)
	}
	for _, at := range []uint32{440, 512, 1024, 1 << 20, 1<<20 + 16384, 1<<20 + 700_000} {
		f.Add(at, []byte{0xFF, 0xFF, 1})
	}
	f.Fuzz(func(t *testing.T, at uint32, patch []byte) {
		o, err := disk.NewOverlay(&disk.Memory{Bytes: seed, Sector: 512,
			ID: disk.Identity{Size: int64(len(seed)), Sector: 512}},
			[]disk.Patch{{Off: int64(at) % (int64(len(seed)) - 4096), Data: patch[:min(len(patch), 4096)]}},
			int64(len(seed)))
		if err != nil {
			return
		}
		r, err := startup.Check(context.Background(), o, startup.Options{})
		if err != nil {
			return
		}
		patches, _ := r.Repairs()
		if _, err := disk.SortPatches(patches, o.Size()); err != nil {
			t.Error(err)
		}
	})
}
