package main

import (
	"crypto/md5"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// static builds the program for an emulated machine.
func static(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "twinshelf")
	c := exec.Command("go", "build", "-o", path, ".")
	c.Env = append(c.Environ(), "CGO_ENABLED=0")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return path
}

// TestHealthOfRealDrivers asks an ATA, an NVMe and a SCSI disk through the kernel's own drivers.
func TestHealthOfRealDrivers(t *testing.T) {
	drive := func(id string) []string {
		img := testkit.Image(t, id, 4*units.MiB)
		return []string{"-drive", "if=none,format=raw,id=" + id + ",file=" + img}
	}
	g := testkit.Guest{Files: map[string]string{"bin/twinshelf": static(t)}, Within: time.Minute,
		Modules: []string{"virtio_pci", "virtio_scsi", "ata_piix", "sd_mod"},
		Script: `cd /dev; for i in $(seq 60); do [ -b sda ] && [ -b sdb ] && [ -b nvme0n1 ] && break; sleep 1; done
twinshelf health --json`}
	g.Devices = append(g.Devices, drive("ata")...)
	g.Devices = append(g.Devices, "-device", "ide-hd,bus=ide.0,drive=ata,serial=PT32-1")
	g.Devices = append(g.Devices, drive("nvme")...)
	g.Devices = append(g.Devices, "-device", "nvme,drive=nvme,serial=KK2-1,smart_critical_warning=4")
	g.Devices = append(g.Devices, drive("scsi")...)
	g.Devices = append(g.Devices, "-device", "virtio-scsi-pci,id=hba", "-device",
		"scsi-hd,bus=hba.0,drive=scsi,serial=CC5-1")
	said := g.Run(t)
	at := strings.IndexByte(said, '{')
	if at < 0 {
		t.Fatal(said)
	}
	var got struct {
		Drives []struct {
			Path     string
			Identity struct{ Bus string }
			Health   struct {
				Standard, Level, Silent string
				Words                   string `json:"health_words"`
				Figures                 map[string]int64
			}
		}
	}
	if err := json.Unmarshal([]byte(said[at:]), &got); err != nil {
		t.Fatalf("%v:\n%s", err, said)
	}
	seen := map[string]bool{}
	for _, d := range got.Drives {
		h := d.Health
		switch d.Identity.Bus {
		case "SATA": // the emulator's attributes: 7 hours would be 0 at first, 31 °C
			seen["ATA"] = h.Standard == "ATA" && h.Level == "sound" && h.Figures["temperature"] > 0 &&
				h.Figures["reallocated_sectors"] == 0
		case "NVMe":
			seen["NVMe"] = h.Standard == "NVMe" && h.Level == "failing" && h.Figures["temperature"] == 50 &&
				strings.Contains(h.Words, "isn't reliable any more")
		case "virtio": // it keeps no figures
			seen["SCSI"] = h.Standard == "" && h.Silent != ""
		}
	}
	if len(seen) != 3 || !seen["ATA"] || !seen["NVMe"] || !seen["SCSI"] {
		t.Errorf("%v\n%s", seen, said)
	}
}

// TestRescueThroughRealDrivers rescues an ATA disk with bad sectors in a machine whose kernel meets them: what is
// missing is just those, in two sittings, and what was got is right.
func TestRescueThroughRealDrivers(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "debugfs")
	const part = units.MiB
	tree := t.TempDir()
	const length = 3 << 20
	if err := os.WriteFile(filepath.Join(tree, "load-cells.dat"), testkit.Noise(4, length), 0o600); err != nil {
		t.Fatal(err)
	}
	fs := testkit.Image(t, "root", 24*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-d", tree, fs)
	block := 0
	said := testkit.Do(t, "debugfs", "-R", "blocks /load-cells.dat", fs)
	for i, b := range strings.Fields(said[strings.IndexByte(said, '\n')+1:]) {
		if i == 300 {
			block, _ = strconv.Atoi(b)
		}
	}
	if block == 0 {
		t.Fatalf("where the file lies isn't told: %s", said)
	}
	img := filepath.Join(t.TempDir(), "crane.img")
	testkit.Sparse(t, img, 32*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.MBR, Sector: 512, ID: "0c4a9e01", Parts: []table.Part{
		{Number: 1, Span: span.At(part, 24*units.MiB), Type: "0x83"}}}, 32*units.MiB)
	testkit.Place(t, fs, img, part)
	at := int64(part) + int64(block)*1024 // mkfs.ext4 gives such a small volume blocks of 1 KiB
	bad := fmt.Sprintf(`{"event": "none", "iotype": "read", "errno": 5, "sector": %d, "once": false}`, at/512)
	g := testkit.Guest{Files: map[string]string{"bin/twinshelf": static(t)}, Within: 2 * time.Minute,
		Modules: []string{"ata_piix", "sd_mod"},
		Devices: []string{"-blockdev", fmt.Sprintf(`{"driver": "blkdebug", "node-name": "d", "inject-error": [%s],
			"image": {"driver": "raw", "file": {"driver": "file", "filename": %q}}}`, bad, img),
			"-device", "ide-hd,bus=ide.0,drive=d,serial=PT32-9C04"},
		Script: `for i in $(seq 60); do [ -b /dev/sda ] && break; sleep 1; done
twinshelf shelf new /tmp/oak --name Oak
export TWINSHELF_SHELF=/tmp/oak
twinshelf rescue sda --machine Crane --until stride --quiet; echo "first $?"
twinshelf rescue sda --machine Crane --quiet --json; echo "second $?"
twinshelf take Crane 1:load-cells.dat --to /tmp/taken --quiet; echo "took $?"
dd if=/tmp/taken/load-cells.dat bs=1024 count=300 2>/dev/null | md5sum`}
	said = g.Run(t)
	_, answer, found := strings.Cut(said, "first 4\n")
	if !found {
		t.Fatal(said)
	}
	var got struct {
		Unreadable int64 `json:"unreadable_bytes"`
		Rescue     struct{ Sittings []struct{ Fails int64 } }
		Disks      []struct{ Unreadable []struct{ Start, Size int64 } }
	}
	if err := json.NewDecoder(strings.NewReader(answer)).Decode(&got); err != nil {
		t.Fatalf("%v:\n%s", err, said)
	}
	if len(got.Rescue.Sittings) != 2 || got.Rescue.Sittings[0].Fails == 0 || len(got.Disks[0].Unreadable) != 1 ||
		got.Disks[0].Unreadable[0].Start != at/4096*4096 && got.Disks[0].Unreadable[0].Start != at ||
		got.Unreadable > 4096 {
		t.Errorf("bad is byte %d; %+v\n%s", at, got, said)
	}
	if !strings.Contains(said, "1 file has a gap") || !strings.Contains(said, "took 4") {
		t.Errorf("nothing is said of the gap in the file that is taken out\n%s", said)
	}
	if sum := fmt.Sprintf("%x", md5.Sum(testkit.Noise(4, length)[:300<<10])); !strings.Contains(said, sum) {
		t.Errorf("the file up to the bad place isn't as it was\n%s", said)
	}
}
