package bench

import (
	"testing"

	"twinshelf/internal/disk"
)

// TestLink: the way to a disk is as fast as sysfs says of its USB port, or of its lanes.
func TestLink(t *testing.T) {
	at := "sys/devices/pci0/usb1/1-1/"
	h := host(t, map[string]string{
		at + "speed": "480\n", at + "bMaxPacketSize0": "64\n",
		at + "1-1:1.0/host6/target6/6:0:0:0/model":      "P5\n",
		"sys/devices/pci0/0000:03/nvme/nvme0/model":     "Kestrel\n",
		"sys/devices/pci0/0000:03/current_link_speed":   "8.0 GT/s PCIe\n",
		"sys/devices/pci0/0000:03/current_link_width":   "2\n",
		"sys/devices/pci0/0000:03/max_link_speed":       "16.0 GT/s PCIe\n",
		"sys/devices/pci0/0000:03/max_link_width":       "4\n",
		"sys/devices/virtual/block/dm-0/size":           "1024\n",
		"sys/devices/pci0/ata1/host0/target0/0/model":   "Dunlin\n",
		"sys/devices/pci0/0000:04/nvme/nvme1/model":     "Kestrel\n",
		"sys/devices/pci0/0000:04/current_link_speed":   "Unknown\n",
		"sys/devices/pci0/0000:04/current_link_width":   "0\n",
		"sys/devices/pci0/0000:04/max_link_speed":       "\n",
		"sys/devices/pci0/ata1/host0/target0/0/extra/x": "",
	}, map[string]string{
		"sys/block/sdb/device":     "../../devices/pci0/usb1/1-1/1-1:1.0/host6/target6/6:0:0:0",
		"sys/block/nvme0n1/device": "../../devices/pci0/0000:03/nvme/nvme0",
		"sys/block/nvme1n1/device": "../../devices/pci0/0000:04/nvme/nvme1",
		"sys/block/sda/device":     "../../devices/pci0/ata1/host0/target0/0",
	})
	b := &Bench{Host: h}
	for name, want := range map[string][2]int64{"sdb": {480_000_000, 0}, "nvme0n1": {16_000_000_000, 64_000_000_000},
		"nvme1n1": {}, "sda": {}, "dm-0": {}, "nothing": {}} {
		if now, best := b.link(name); now != want[0] || best != want[1] {
			t.Errorf("%s: %d, %d, want %d", name, now, best, want)
		}
	}
}

func TestSectorWords(t *testing.T) {
	for words, d := range map[string]*Disk{
		"512 bytes (512n)":                        {Physical: 512, Identity: disk.Identity{Sector: 512}},
		"512 bytes, of 4096 on the medium (512e)": {Physical: 4096, Identity: disk.Identity{Sector: 512}},
		"4096 bytes (4Kn)":                        {Physical: 4096, Identity: disk.Identity{Sector: 4096}},
	} {
		if got := d.SectorWords(); got != words {
			t.Errorf("%s, want %s", got, words)
		}
	}
	if got := (&Disk{}).SectorWords(); got != "512 bytes (512n)" {
		t.Error(got)
	}
}
