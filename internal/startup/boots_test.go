package startup_test

import (
	"bytes"
	"context"
	"encoding/binary"
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
	rootUUID = testkit.SystemUUID
	started  = testkit.SystemStarted
	size     = 400 * units.MiB
)

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

// core makes the second stage of a BIOS loader for a place on the disk, and gives the first stage's code too.
func core(t *testing.T, at int64) (first, second []byte) {
	t.Helper()
	out := filepath.Join(t.TempDir(), "core.img")
	testkit.Do(t, "grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub", "-c", testkit.SystemConfig(t), "-o", out,
		"biosdisk",
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
	tree := testkit.SmallSystem(t)
	loader := filepath.Join(t.TempDir(), "grubx64.efi")
	testkit.Do(t, "grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/kiosk", "-c", testkit.SystemConfig(t), "-o",
		loader, "part_gpt",
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
			}}, map[int]string{1: esp, 2: testkit.SystemRoot(t, tree, 200*units.MiB), 3: behind})
		}, 1},
		{"BIOS with the second stage in the gap", false, func() string {
			return bios(disked(t, table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e", Parts: []table.Part{
				{Number: 1, Span: span.At(units.MiB, 200*units.MiB), Type: "0x83", Active: true},
				{Number: 2, Span: span.At(201*units.MiB, 10*units.MiB), Type: "0x82"},
			}}, map[int]string{1: testkit.SystemRoot(t, tree, 200*units.MiB), 2: behind}), 512)
		}, 0},
		{"BIOS with the second stage in a part that moves", false, func() string {
			return bios(disked(t, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "10", Parts: []table.Part{
				{Number: 1, Span: span.At(units.MiB, 200*units.MiB), Type: table.TypeLinuxData, GUID: guid + "11"},
				{Number: 2, Span: span.At(201*units.MiB, 2*units.MiB), Type: table.TypeBIOSBoot, GUID: guid + "12"},
			}}, map[int]string{1: testkit.SystemRoot(t, tree, 200*units.MiB)}), 201*units.MiB)
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
