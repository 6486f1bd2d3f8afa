package main

import (
	"encoding/json"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

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
		Script:  "for i in 1 2 3 4 5 6 7 8; do [ -b /dev/sdb ] && break; sleep 1; done\ntwinshelf health --json"}
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
