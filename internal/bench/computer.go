package bench

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"twinshelf/internal/units"
)

// Computer is what the firmware tells of the computer that the program runs on. Any of it may be empty.
type Computer struct{ Maker, Model, Serial string }

// fillers are what makers leave in the firmware instead of a name (lower case).
var fillers = []string{"to be filled by o.e.m.", "to be filled by oem", "default string", "system manufacturer",
	"system product name", "system serial number", "system version", "not applicable", "not specified", "not available",
	"none", "unknown", "o.e.m.", "oem", "n/a", "0", "00000000", "0123456789", "123456789", "xxxxxxxx", "invalid",
	"empty"}

// Computer reads what the firmware tells (SMBIOS, System Information, by sysfs: ABI/testing/sysfs-class-dmi). The
// serial
// number is told to root only.
func (b *Bench) Computer() Computer {
	said := func(file string) string {
		raw, _ := os.ReadFile(filepath.Join("/", b.Host.Root, "sys/class/dmi/id", file)) // what isn't told is empty
		text := units.Visible(strings.TrimSpace(string(raw)))
		if slices.Contains(fillers, strings.ToLower(text)) {
			return ""
		}
		return text
	}
	return Computer{said("sys_vendor"), said("product_name"), said("product_serial")}
}
