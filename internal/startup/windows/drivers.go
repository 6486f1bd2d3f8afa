package windows

import (
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"

	"twinshelf/internal/hive"
	"twinshelf/internal/units"
)

// inBox are the drivers that come with Windows, of various ages, for what a system disk may hang on.
var inBox = []struct{ name, what string }{
	{"storahci", "AHCI"}, {"msahci", "AHCI"}, {"stornvme", "NVMe"}, {"atapi", "IDE"}, {"intelide", "IDE"},
	{"pciide", "IDE"}, {"iaStorV", "Intel RAID"}, {"iaStorAV", "Intel RAID"}, {"iaStorAVC", "Intel RAID"},
	{"amdsata", "AMD SATA"}, {"amdsbs", "AMD RAID"}, {"nvstor", "NVIDIA SATA"}, {"nvraid", "NVIDIA RAID"},
	{"LSI_SAS", "SAS"}, {"megasas", "MegaRAID"}, {"USBSTOR", "USB"}, {"UASPStor", "USB"}, {"sdstor", "SD cards"},
	{"storufs", "UFS"}, {"viostor", "virtio"}, {"vioscsi", "virtio"},
}

// When a driver is loaded (Services, Start).
const (
	atBoot       = 0
	kernelDriver = 1
)

// Driver is one for storage.
type Driver struct {
	Name, For string
	// File is where the registry says that it is, with slashes, from the part's root on.
	File string
	// Start is when it is loaded: 0 when Windows starts from it, 3 when somebody asks for it. Overrides are values that
	// count in its place on machines that Windows has seen.
	Start     uint32
	Overrides []uint32
	set       []hive.Value // of them all
}

// AtBoot says whether Windows can start from what the driver is for.
func (d *Driver) AtBoot() bool {
	for _, n := range d.Overrides {
		if n != atBoot {
			return false
		}
	}
	return d.Start == atBoot
}

// Load has it loaded when Windows starts.
func (d *Driver) Load() error {
	for _, v := range d.set {
		if err := v.SetWord(atBoot); err != nil {
			return err
		}
	}
	return nil
}

// Words say what it is and how it stands.
func (d *Driver) Words() string {
	out := fmt.Sprintf("%s (%s) %d", d.Name, d.For, d.Start)
	for _, n := range d.Overrides {
		out += fmt.Sprintf("/%d", n)
	}
	return out
}

// control is the set of a Windows' settings that counts, by its registry file SYSTEM.
func control(h *hive.Hive) (hive.Key, error) {
	k, err := h.Find("Select")
	if err != nil {
		return k, err
	}
	v, err := k.Value("Current")
	if err != nil {
		return k, err
	}
	n, err := v.Word()
	if err != nil {
		return k, err
	}
	const most = 999
	if n < 1 || n > most {
		return k, fmt.Errorf("its settings are set number %d", n)
	}
	return h.Find(fmt.Sprintf("ControlSet%03d", n))
}

// Drivers are those of the drivers for storage which a Windows has registered, by its registry file SYSTEM.
func Drivers(h *hive.Hive) ([]Driver, error) {
	set, err := control(h)
	if err != nil {
		return nil, err
	}
	services, err := set.Find("Services")
	if err != nil {
		return nil, err
	}
	var out []Driver
	for _, x := range inBox {
		k, err := services.Find(x.name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		d, err := driver(k)
		if err != nil {
			return nil, fmt.Errorf("driver %s: %w", x.name, err)
		}
		if d != nil {
			d.Name, d.For = x.name, x.what
			out = append(out, *d)
		}
	}
	return out, nil
}

// driver reads a driver's key; nil where it isn't one.
func driver(k hive.Key) (*Driver, error) {
	word := func(k hive.Key, name string) (hive.Value, uint32, error) {
		v, err := k.Value(name)
		if err != nil {
			return v, 0, err
		}
		n, err := v.Word()
		return v, n, err
	}
	_, kind, err := word(k, "Type")
	if errors.Is(err, fs.ErrNotExist) || err == nil && kind != kernelDriver {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	start, n, err := word(k, "Start")
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	d := &Driver{Start: n, set: []hive.Value{start}, File: "Windows/System32/drivers/" + k.Name() + ".sys"}
	if err != nil {
		return nil, err
	}
	if v, err := k.Value("ImagePath"); err == nil {
		if s, err := v.Text(); err == nil && s != "" {
			d.File = file(s)
		}
	}
	over, err := k.Find("StartOverride")
	if errors.Is(err, fs.ErrNotExist) {
		return d, nil
	}
	if err != nil {
		return nil, err
	}
	values, err := over.Values()
	if err != nil {
		return nil, err
	}
	for _, v := range values {
		if _, err := strconv.Atoi(v.Name()); err != nil {
			continue
		}
		n, err := v.Word()
		if err != nil {
			return nil, err
		}
		d.Overrides, d.set = append(d.Overrides, n), append(d.set, v)
	}
	return d, nil
}

// file is where a program is, from its system's root on or from the part's.
func file(s string) string {
	s = strings.ReplaceAll(units.Visible(s), `\`, "/")
	low := strings.ToLower(s)
	for _, root := range []string{"/systemroot/", "%systemroot%/", "/??/c:/windows/"} {
		if strings.HasPrefix(low, root) {
			return "Windows/" + s[len(root):]
		}
	}
	if strings.HasPrefix(low, "system32/") {
		return "Windows/" + s
	}
	return strings.TrimPrefix(s, "/")
}
