package bench

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/testkit"
)

// host makes a made-up running system: files by path, and links.
func host(t *testing.T, files, links map[string]string) disk.Host {
	t.Helper()
	root := t.TempDir()
	for p, text := range files {
		p = filepath.Join(root, p)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for p, to := range links {
		p = filepath.Join(root, p)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(to, p); err != nil {
			t.Fatal(err)
		}
	}
	return disk.Host{Root: root}
}

// ferry is the technician's machine: it runs from nvme0n1, sdb is the kiosk's
// disk in a dock, sdc carries a mapped device that is mounted.
func ferry(t *testing.T) disk.Host {
	files := map[string]string{
		"sys/devices/pci0/nvme/nvme0/nvme0n1/size":                      "500118192\n",
		"sys/devices/pci0/nvme/nvme0/nvme0n1/dev":                       "259:0\n",
		"sys/devices/pci0/nvme/nvme0/nvme0n1/device/model":              "Kestrel K2 256   \n",
		"sys/devices/pci0/nvme/nvme0/nvme0n1/device/serial":             "KK2-TECH0001\n",
		"sys/devices/pci0/nvme/nvme0/nvme0n1/queue/logical_block_size":  "512\n",
		"sys/devices/pci0/nvme/nvme0/nvme0n1/queue/physical_block_size": "4096\n",
		"sys/devices/pci0/nvme/nvme0/nvme0n1/nvme0n1p2/partition":       "2\n",
		"sys/devices/pci0/nvme/nvme0/nvme0n1/nvme0n1p2/dev":             "259:2\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/size":                "125045424\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/dev":                 "8:16\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/removable":           "1\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/ro":                  "1\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/queue/rotational":    "1\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/device/vendor":       "Plover\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/device/model":        "P5\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/sdb1/partition":      "1\n",
		"sys/devices/pci0/usb1/1-1/host6/block/sdb/sdb1/dev":            "8:17\n",
		"sys/devices/pci0/ata3/host2/block/sdc/size":                    "2048\n",
		"sys/devices/pci0/ata3/host2/block/sdc/dev":                     "8:32\n",
		"sys/devices/pci0/ata3/host2/block/sdc/sdc1/partition":          "1\n",
		"sys/devices/pci0/ata3/host2/block/sdc/sdc1/dev":                "8:33\n",
		"sys/devices/pci0/ata3/host2/block/sdc/sdc1/holders/dm-0/x":     "",
		"sys/devices/virtual/block/dm-0/size":                           "1024\n",
		"sys/devices/virtual/block/dm-0/dev":                            "253:0\n",
		"sys/devices/virtual/block/ram0/size":                           "8192\n",
		"sys/devices/virtual/block/loop0/size":                          "0\n",
		"proc/self/mountinfo": "22 1 259:2 / / rw,relatime - ext4 /dev/nvme0n1p2 rw\n40 22 253:0 / " +
			"/srv/depot\\040two rw - ext4 /dev/dm-0 rw\n41 22 8:17 / /mnt ro,relatime - vfat /dev/sdb1 ro\n",
		"proc/swaps": "Filename Type Size Used Priority\n/dev/sdc1 partition 100 0 -2\n",
	}
	links := map[string]string{"dev/disk/by-id/usb-Plover_P5_PP5-99": "../../sdb",
		"dev/disk/by-id/wwn-0x5000": "../../sdb"}
	for name, at := range map[string]string{
		"nvme0n1": "pci0/nvme/nvme0/nvme0n1", "sdb": "pci0/usb1/1-1/host6/block/sdb",
		"sdc":  "pci0/ata3/host2/block/sdc",
		"dm-0": "virtual/block/dm-0", "ram0": "virtual/block/ram0", "loop0": "virtual/block/loop0",
	} {
		links["sys/block/"+name] = "../devices/" + at
		links["sys/class/block/"+name] = "../../devices/" + at
	}
	return host(t, files, links)
}

func TestBlocksAreListedFromSysfs(t *testing.T) {
	b := &Bench{Host: ferry(t), System: true}
	disks := b.List()
	got := map[string]*Disk{}
	for _, d := range disks {
		got[d.Path] = d
	}
	if len(disks) != 4 {
		t.Fatalf("%d disks, want nvme0n1, sdb, sdc and dm-0: %v", len(disks), got)
	}
	n := got["/dev/nvme0n1"]
	if n.Identity.Model != "Kestrel K2 256" || n.Identity.Serial != "KK2-TECH0001" ||
		n.Identity.Size != 500118192*512 || n.Identity.Bus != "NVMe" ||
		n.Physical != 4096 || n.Removable || n.Rotational || n.Reach != "this system runs from it" {
		t.Errorf("nvme0n1: %+v", n)
	}
	s := got["/dev/sdb"]
	if s.Identity.Model != "Plover P5" || s.Identity.Serial != "PP5-99" || s.Identity.Bus != "USB" || !s.Removable ||
		!s.Rotational || !s.ReadOnly ||
		s.ByID != "usb-Plover_P5_PP5-99" || s.Reach != "in use: sdb1 is mounted at /mnt" {
		t.Errorf("sdb: %+v", s)
	}
	if len(s.Uses) != 1 || s.Uses[0].Writes || s.Uses[0].Part != 1 {
		t.Errorf("a read-only mount: %+v", s.Uses)
	}
	c := got["/dev/sdc"]
	if len(c.Uses) != 2 || c.Reach != "this system runs from it" {
		t.Errorf("swap and a holder: %+v", c)
	}
	if d := got["/dev/dm-0"]; d.Reach != "this system runs from it" ||
		d.Uses[0].What != "dm-0 is mounted at /srv/depot two" || d.Identity.Model != "dm-0" {
		t.Errorf("dm-0: %+v", d)
	}
}

func TestImagesAndTheirLabels(t *testing.T) {
	dir := t.TempDir()
	img := filepath.Join(dir, "kiosk.img")
	testkit.Sparse(t, img, 3<<20)
	testkit.Sparse(t, filepath.Join(dir, "torn.raw"), 1<<20)
	testkit.Sparse(t, filepath.Join(dir, "notes.txt"), 1<<10)
	if err := os.WriteFile(disk.LabelPath(img),
		[]byte(`{"model":"Sandmartin S 64","serial":"SM-1","bus":"SATA","rotational":true}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(disk.LabelPath(filepath.Join(dir, "torn.raw")), []byte(`{"model":`), 0o600); err != nil {
		t.Fatal(err)
	}
	out := func(id disk.Identity) bool { return id.Serial == "SM-1" }
	b := &Bench{Images: []string{dir, filepath.Join(dir, "missing.img"), t.TempDir()}, OutOfReach: out}
	disks := b.List()
	if len(disks) != 4 {
		t.Fatalf("%d disks", len(disks))
	}
	for i, want := range []string{"", "label", "no such file", "holds no"} {
		if p := disks[i].Problem; (p == "") != (want == "") || !strings.Contains(p, want) {
			t.Errorf("%s: problem %q, want %q", disks[i].Path, p, want)
		}
		b.Probe(context.Background(), disks[i])
	}
	k := disks[0]
	if k.Identity.Model != "Sandmartin S 64" || !k.Rotational || k.Reach != "you put it out of reach" ||
		k.Words() != "blank" || len(k.Loses()) != 0 || k.Fingerprint == "" {
		t.Errorf("%+v %s", k, k.Words())
	}
	// Something in the middle: not blank any more.
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	f.WriteAt([]byte("a forgotten letter"), 3<<19)
	b.Probe(context.Background(), k)
	if k.Words() != "no table, but not blank" || len(k.Loses()) != 1 {
		t.Errorf("%s %v", k.Words(), k.Loses())
	}
}

func TestFind(t *testing.T) {
	disks := []*Disk{{Path: "/dev/sda", Identity: disk.Identity{Serial: "ABC-1234"}},
		{Path: "/dev/sdb", Identity: disk.Identity{Serial: "XYZ-1234"}}, {Path: "/tmp/a/kiosk.img"}}
	for _, c := range []struct {
		ref  string
		want int // -1: an error
	}{{"/dev/sdb", 1}, {"ABC-1234", 0}, {"C-1234", 0}, {"1234", -1}, {"234", -1}, {"kiosk.img", 2}, {"sda", 0},
		{"nobody", -1}, {"", -1}} {
		d, err := Find(disks, c.ref)
		if (err != nil) != (c.want < 0) || err == nil && d != disks[c.want] {
			t.Errorf("%q: %v %v", c.ref, d, err)
		}
	}
}
