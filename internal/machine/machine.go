// Package machine says what the computer is that the program runs on: what its firmware tells, how it was started, its
// memory, its power, and whether somebody can type on it. It reads the kernel's files and changes nothing but the
// clock.
package machine

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/firmware"
	"twinshelf/internal/units"
)

// Machine is a computer. What isn't told is empty.
type Machine struct {
	Maker, Model, Serial string
	// Firmware is its version, Dated the date that it has.
	Firmware string
	Dated    string
	// Start is how the firmware started it.
	Start firmware.Start
	// Memory is how much the kernel has, in bytes.
	Memory int64
	Power  Power
	// Keyboard says that a keyboard was found.
	Keyboard bool
}

// fillers are what makers leave in the firmware instead of a name (lower case).
var fillers = []string{"to be filled by o.e.m.", "to be filled by oem", "default string", "system manufacturer",
	"system product name", "system serial number", "system version", "not applicable", "not specified", "not available",
	"none", "unknown", "o.e.m.", "oem", "n/a", "0", "00000000", "0123456789", "123456789", "xxxxxxxx", "invalid",
	"empty"}

// Look reads what there is below a root folder, "/" for the computer itself. The serial number is told to root only
// (SMBIOS, System Information and BIOS Information, by sysfs: ABI/testing/sysfs-class-dmi).
func Look(root string) *Machine {
	said := func(file string) string {
		raw, _ := os.ReadFile(filepath.Join(root, "sys/class/dmi/id", file)) // what isn't told is empty
		text := units.Visible(strings.TrimSpace(string(raw)))
		if slices.Contains(fillers, strings.ToLower(text)) {
			return ""
		}
		return text
	}
	m := &Machine{Maker: said("sys_vendor"), Model: said("product_name"), Serial: said("product_serial"),
		Firmware: said("bios_version"), Dated: dated(said("bios_date")), Start: firmware.StartOf(root),
		Power: powerOf(root), Keyboard: hasKeyboard(root)}
	var info unix.Sysinfo_t
	if unix.Sysinfo(&info) == nil {
		m.Memory = int64(info.Totalram) * int64(info.Unit)
	}
	return m
}

// dated puts the firmware's date, month first (SMBIOS, BIOS Information: BIOS Release Date), as dates are written here.
func dated(text string) string {
	t, err := time.Parse("01/02/2006", text)
	if err != nil {
		return text
	}
	return t.Format("2 Jan 2006")
}

// Name is what to call the machine where nobody has given it a name.
func (m *Machine) Name() string {
	name := strings.TrimSpace(m.Model)
	if name == "" {
		return ""
	}
	if m.Maker != "" && !strings.HasPrefix(strings.ToLower(name), strings.ToLower(m.Maker)) {
		name = m.Maker + " " + name
	}
	return name
}

// mostDevices bounds the list of input devices, in bytes.
const mostDevices = 1 << 20

// hasKeyboard looks for a device with the handler and the keys of a keyboard (Documentation/input, /proc/bus/input).
func hasKeyboard(root string) bool {
	b, err := os.ReadFile(filepath.Join(root, "proc/bus/input/devices"))
	if err != nil || len(b) > mostDevices {
		return false
	}
	for device := range strings.SplitSeq(string(b), "\n\n") {
		handlers, keys := "", ""
		for line := range strings.Lines(device) {
			if h, ok := strings.CutPrefix(line, "H: Handlers="); ok {
				handlers = h
			}
			if k, ok := strings.CutPrefix(line, "B: KEY="); ok {
				keys = strings.TrimSpace(k)
			}
		}
		// Buttons such as the one for power are "keyboards" too; one that types has the letters: many bits in the
		// lowest words.
		words := strings.Fields(keys)
		if slices.Contains(strings.Fields(handlers), "kbd") && len(words) > 0 && len(words[len(words)-1]) >= 12 {
			return true
		}
	}
	return false
}
