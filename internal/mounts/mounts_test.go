package mounts

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// pier is a disk with an ext4 part that holds a file.
func pier(t *testing.T) (img string, part Part) {
	t.Helper()
	testkit.Need(t, "mkfs.ext4", "debugfs")
	img = testkit.Image(t, "pier.img", 80*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000D001",
		Parts: []table.Part{
			{Number: 1, Span: span.At(units.MiB, 64*units.MiB), Type: table.TypeLinuxData,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D101"}}}, 80*units.MiB)
	fs := testkit.Image(t, "fs", 64*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-L", "Pier 2/old", fs)
	ledger := filepath.Join(t.TempDir(), "ledger")
	if err := os.WriteFile(ledger, []byte("fares"), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "debugfs", "-w", "-R", "write "+ledger+" ledger", fs)
	testkit.Place(t, fs, img, units.MiB)
	at := span.At(units.MiB, 64*units.MiB)
	f, err := os.Open(fs)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	v, err := families.Identify(t.Context(), f, at.Len(), 512)
	if err != nil {
		t.Fatal(err)
	}
	return img, Part{Disk: img, Span: at, Kind: v.Info().Kind, Drivers: fsys.DriversOf(v), Label: "Pier 2/old",
		Image: true}
}

func TestMountsReadOnly(t *testing.T) {
	testkit.Root(t)
	img, part := pier(t)
	loop := testkit.Loop(t, img, 512)
	testkit.Do(t, "partx", "-u", loop)
	defer testkit.Detach(loop) // takes its parts with it
	block := part
	block.Disk, block.Image = loop, false
	for _, p := range []Part{part, block} {
		base := filepath.Join(t.TempDir(), "mounts")
		before, _ := os.ReadFile(img)
		dir, err := ReadOnly(base, p)
		if err != nil {
			t.Fatal(err)
		}
		if b, err := os.ReadFile(filepath.Join(dir, "ledger")); err != nil || string(b) != "fares" ||
			filepath.Base(dir) != "Pier-2-old" {
			t.Errorf("%s: %q %v", dir, b, err)
		}
		if err := os.WriteFile(filepath.Join(dir, "new"), nil, 0o600); err == nil {
			t.Error("it can be written")
		}
		uses := (disk.Host{}).UsesOfImage(img)
		if !p.Image {
			uses = (disk.Host{}).UsesOfBlock(filepath.Base(loop))
		}
		if len(uses) == 0 || !strings.Contains(uses[0].What, dir) && !strings.Contains(uses[len(uses)-1].What, dir) {
			t.Errorf("the use isn't seen: %+v", uses)
		}
		held, err := os.Open(filepath.Join(dir, "ledger"))
		if err != nil {
			t.Fatal(err)
		}
		if err := Unmount(base, dir); err == nil || !strings.Contains(err.Error(), "in use") {
			t.Errorf("a held one: %v", err)
		}
		held.Close()
		if err := Unmount(base, dir); err != nil {
			t.Error(err)
		}
		if _, err := os.Stat(dir); !os.IsNotExist(err) {
			t.Error("its folder stays")
		}
		if after, _ := os.ReadFile(img); string(after) != string(before) {
			t.Error("mounting wrote to the disk")
		}
		if err := Unmount(base, dir); err == nil {
			t.Error("unmounted twice")
		}
	}
}

func TestMountRefusals(t *testing.T) {
	testkit.Root(t)
	img, part := pier(t)
	base := t.TempDir()
	for want, change := range map[string]func(p *Part){
		"can't be mounted here": func(p *Part) { p.Kind, p.Drivers = "swap", nil },
		"may be damaged":        func(p *Part) { p.Span = span.At(70*units.MiB, units.MiB) },
		"no such file":          func(p *Part) { p.Disk = img + ".missing" },
		"kernel doesn't know": func(p *Part) {
			p.Disk, p.Image = testkit.Loop(t, img, 512), false
			p.Span.Start = 4096
		},
	} {
		p := part
		change(&p)
		if _, err := ReadOnly(base, p); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
	if entries, _ := os.ReadDir(base); len(entries) > 0 {
		t.Errorf("folders stay: %v", entries)
	}
}

// TestMountsWritable: where it is asked for a part can be written to, and is sound afterwards.
func TestMountsWritable(t *testing.T) {
	testkit.Root(t)
	img, part := pier(t)
	base := filepath.Join(t.TempDir(), "mounts")
	dir, err := Writable(base, part)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "new"), []byte("a shelf"), 0o600); err != nil {
		t.Error(err)
	}
	if err := Unmount(base, dir); err != nil {
		t.Fatal(err)
	}
	fs := testkit.Extract(t, img, units.MiB, 64*units.MiB)
	testkit.Do(t, "e2fsck", "-fn", fs)
	if text := testkit.Do(t, "debugfs", "-R", "cat /new", fs); !strings.Contains(text, "a shelf") {
		t.Errorf("%q", text)
	}
}
