package drivers

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
)

// tables are those of a small kernel.
func tables(t testing.TB) *Tables {
	t.Helper()
	dir := fstest.MapFS{}
	for name, text := range map[string]string{
		"modules.dep": "kernel/fs/ext4/ext4.ko: kernel/lib/crc16.ko kernel/fs/jbd2/jbd2.ko kernel/lib/crc32c.ko\n" +
			"kernel/lib/crc16.ko:\nkernel/lib/crc32c.ko:\nkernel/fs/jbd2/jbd2.ko: kernel/lib/crc32c.ko\n" +
			"kernel/drivers/ata/ahci.ko.xz: kernel/drivers/ata/libahci.ko.xz\nkernel/drivers/ata/libahci.ko.xz:\n" +
			"kernel/drivers/usb/usb-storage.ko:\nkernel/drivers/usb/uas.ko: kernel/drivers/usb/usb-storage.ko\n" +
			"kernel/broken.ko: kernel/nowhere.ko\nkernel/a.ko: kernel/b.ko\nkernel/b.ko: kernel/a.ko\n",
		"modules.alias": "# Aliases\nalias pci:v*d*sv*sd*bc01sc06i01* ahci\nalias fs-ext4 ext4\nalias ext3 ext4\n" +
			"alias usb:v*p*d*dc*dsc*dp*ic08isc06ip50in* usb_storage\nalias usb:v*p*d*dc*dsc*dp*ic08isc06ip62in* uas\n" +
			"alias nonsense\nalias acpi*:PNP0C0A:* battery\nalias x*:[ bad\n",
		"modules.softdep": "softdep ext4 pre: crc32c nothere\nsoftdep uas post: ahci\nsoftdep\n",
		"modules.builtin": "kernel/drivers/nvme/host/nvme.ko\n",
	} {
		dir[name] = &fstest.MapFile{Data: []byte(text)}
	}
	tb, err := Read(dir)
	if err != nil {
		t.Fatal(err)
	}
	return tb
}

func TestDrivers(t *testing.T) {
	tb := tables(t)
	for asked, want := range map[string]string{
		"pci:v00008086d00002922sv00001AF4sd00001100bc01sc06i01": "ahci", "fs-ext4": "ext4", "ext3": "ext4",
		"uas": "uas",
		"usb:v46F4p0001d0000dc00dsc00dp00ic08isc06ip50in00": "usb_storage", "usb-storage": "usb_storage", "pci:v1": "",
		"": "", "acpi/x:[": "", "acpi:PNP0C0A:": "battery",
	} {
		if got := strings.Join(tb.For(asked), " "); got != want {
			t.Errorf("%s is for %q, want %q", asked, got, want)
		}
	}
	got, err := tb.Order("ext4", "nvme", "ext4", "uas")
	if want := "crc32c.ko jbd2.ko crc16.ko ext4.ko usb-storage.ko uas.ko libahci.ko.xz ahci.ko.xz"; err != nil ||
		names(got) != want {
		t.Errorf("the order is %s (%v), want %s", names(got), err, want)
	}
	if got, err := tb.Order("a"); err != nil || names(got) != "b.ko a.ko" {
		t.Errorf("modules that need each other: %v, %v", got, err)
	}
	var missing *Missing
	if _, err := tb.Order("broken"); !errors.As(err, &missing) || missing.Name != "nowhere" || missing.For != "broken" {
		t.Errorf("a module that isn't there: %v", err)
	}
	if _, err := Read(fstest.MapFS{}); err == nil {
		t.Error("tables are read where none are")
	}
}

func names(files []string) string {
	var out []string
	for _, f := range files {
		out = append(out, filepath.Base(f))
	}
	return strings.Join(out, " ")
}

// TestInstalledKernels: every module of the kernels that are installed can be put into an order in which what is
// needed comes first.
func TestInstalledKernels(t *testing.T) {
	kernels, _ := filepath.Glob("/lib/modules/*/modules.dep")
	for _, k := range kernels {
		tb, err := Read(os.DirFS(filepath.Dir(k)))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range tb.Files() {
			order, err := tb.Order(Name(f))
			if err != nil {
				t.Fatalf("%s: %v", f, err)
			}
			at := slices.Index(order, f)
			for _, n := range tb.needs[Name(f)] {
				if i := slices.Index(order, tb.files[n]); i < 0 || i > at {
					t.Errorf("%s is loaded before %s, which it needs", f, n)
				}
			}
		}
	}
}

func FuzzTables(f *testing.F) {
	f.Add("kernel/a.ko: kernel/b.ko\n", "alias pci:v* a\n", "softdep a pre: b post: c\n", "pci:v1")
	f.Fuzz(func(t *testing.T, dep, aliases, soft, asked string) {
		tb, err := Read(fstest.MapFS{"modules.dep": {Data: []byte(dep)}, "modules.alias": {Data: []byte(aliases)},
			"modules.softdep": {Data: []byte(soft)}, "modules.builtin": {}})
		if err != nil {
			return
		}
		_, _ = tb.Order(tb.For(asked)...)
	})
}
