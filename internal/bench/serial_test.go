package bench

import "testing"

// TestSerials: disks have the serial numbers that the kernel knows, without any other program's names for them; those
// names come to the same. Optical drives aren't on the bench.
func TestSerials(t *testing.T) {
	files := map[string]string{}
	links := map[string]string{}
	add := func(name, at string, own map[string]string) {
		dir := "sys/devices/" + at + "/"
		files[dir+"size"] = "2048\n"
		for file, text := range own {
			files[dir+file] = text
		}
		links["sys/block/"+name] = "../devices/" + at
		links["sys/class/block/"+name] = "../../devices/" + at
	}
	add("sda", "pci0/ata1/host0/block/sda", map[string]string{"device/vpd_pg80": "\x00\x80\x00\x14  HERON-7731    " +
		"    "})
	add("sdb", "pci0/usb1/1-1/1-1:1.0/host1/block/sdb", nil)
	files["sys/devices/pci0/usb1/1-1/idVendor"] = "0b05\n"
	files["sys/devices/pci0/usb1/1-1/serial"] = "PLV-41C8\n"
	add("vda", "pci0/virtio1/block/vda", map[string]string{"serial": "SM-1\n"})
	add("sdc", "pci0/ata2/host2/block/sdc", map[string]string{"device/vpd_pg80": "\x00\x80\xff"})
	add("sdd", "pci0/ata3/host3/block/sdd", nil)
	links["dev/disk/by-id/usb-Plover_P5_PP5-99-0:0"] = "../../sdd"
	add("sr0", "pci0/ata4/host4/block/sr0", map[string]string{"device/type": "5\n"})
	b := &Bench{Host: host(t, files, links), System: true}
	got := map[string]string{}
	for _, d := range b.List() {
		got[d.Path] = d.Identity.Serial
	}
	want := map[string]string{"/dev/sda": "HERON-7731", "/dev/sdb": "PLV-41C8", "/dev/vda": "SM-1", "/dev/sdc": "",
		"/dev/sdd": "PP5-99"}
	for path, serial := range want {
		if s, there := got[path]; !there || s != serial {
			t.Errorf("%s has the serial number %q, not %q", path, s, serial)
		}
	}
	if len(got) != len(want) {
		t.Errorf("%v", got)
	}
}
