package bench

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"twinshelf/internal/disk/health"
)

// Health asks a disk how it is. It takes a few seconds at most, whatever the disk does.
func (b *Bench) Health(ctx context.Context, d *Disk) *health.Report {
	r := b.asker.Ask(ctx, d.Path)
	if d.Image {
		return r
	}
	name := b.Host.KernelName(d.Path)
	return r.Linked(b.link(name)).Zoned(b.sys(name, "queue/zoned"))
}

// HealthLines are all that is known of the drive, for a table; none where it tells nothing of itself.
func (d *Disk) HealthLines() []health.Line {
	lines := d.Health.Lines()
	if len(lines) == 0 {
		return nil
	}
	return append(lines, health.Line{Name: "sectors", Value: d.SectorWords(), Level: health.Sound})
}

// SectorWords say how large the sectors of a disk are, and what the trade calls that.
func (d *Disk) SectorWords() string {
	logical, physical := max(512, d.Identity.Sector), max(d.Physical, d.Identity.Sector, 512)
	switch {
	case logical == 4096:
		return "4096 bytes (4Kn)"
	case physical > logical:
		return fmt.Sprintf("%d bytes, of %d on the medium (512e)", logical, physical)
	}
	return fmt.Sprintf("%d bytes (512n)", logical)
}

// mostParents bounds the way up the tree of devices.
const mostParents = 16

// link tells how fast the computer is connected with a disk, and how fast it could be, in bits per second; 0 where
// that isn't told (kernel documentation: ABI/testing/sysfs-bus-usb, speed; ABI/testing/sysfs-bus-pci,
// current_link_speed).
func (b *Bench) link(name string) (now, best int64) {
	at, err := filepath.EvalSymlinks(filepath.Join("/", b.Host.Root, "sys/block", name, "device"))
	if err != nil {
		return 0, 0
	}
	for range mostParents {
		base := filepath.Base(at)
		switch {
		case base == "devices", base == "/":
			return 0, 0
		case isFile(filepath.Join(at, "bMaxPacketSize0")): // a device on USB
			return usbSpeed(at), 0
		case strings.HasPrefix(name, "nvme") && isFile(filepath.Join(at, "current_link_speed")):
			return pciSpeed(at, "current"), pciSpeed(at, "max")
		}
		at = filepath.Dir(at)
	}
	return 0, 0
}

func isFile(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.Mode().IsRegular()
}

func usbSpeed(dir string) int64 {
	raw, _ := os.ReadFile(filepath.Join(dir, "speed")) // what isn't told is 0
	mega, _ := strconv.ParseFloat(strings.TrimSpace(string(raw)), 64)
	return int64(mega * 1e6)
}

// pciSpeed is transfers a second and lane, times the lanes.
func pciSpeed(dir, which string) int64 {
	speed, _ := os.ReadFile(filepath.Join(dir, which+"_link_speed"))
	width, _ := os.ReadFile(filepath.Join(dir, which+"_link_width"))
	var giga float64
	var lanes int64
	if _, err := fmt.Sscan(string(speed), &giga); err != nil {
		return 0
	}
	if _, err := fmt.Sscan(string(width), &lanes); err != nil {
		return 0
	}
	return int64(giga*1e9) * lanes
}
