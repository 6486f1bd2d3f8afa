package first

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// storageClass is how the class of a PCI device begins that disks are attached to (PCI Code and ID Assignment
// Specification, base class 01h).
const storageClass = "0x01"

// mostDevices bounds how many PCI devices are looked at.
const mostDevices = 4096

// undriven names the disk controllers that no driver has taken, by what the bus says of them.
func undriven(sys string) []string {
	devices, _ := filepath.Glob(filepath.Join(sys, "bus/pci/devices/*"))
	var out []string
	for _, d := range devices[:min(len(devices), mostDevices)] {
		read := func(name string) string {
			b, _ := os.ReadFile(filepath.Join(d, name))
			return strings.TrimSpace(string(b))
		}
		if !strings.HasPrefix(read("class"), storageClass) {
			continue
		}
		if _, err := os.Lstat(filepath.Join(d, "driver")); err == nil {
			continue
		}
		hex := func(name string) string { return strings.TrimPrefix(read(name), "0x") }
		out = append(out, fmt.Sprintf("the disk controller at %s (PCI ID %s:%s) has no driver here: its disks "+
			"don't show; "+
			"look for another controller mode in the firmware's set-up", filepath.Base(d), hex("vendor"),
			hex("device")))
	}
	slices.Sort(out)
	return out
}
