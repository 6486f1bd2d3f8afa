package startup

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/startup/image"
	"twinshelf/internal/startup/script"
)

const maxChain = 6 // loaders that start each other

// program follows an EFI program on the EFI system part to what it starts in the end.
func (c *checker) program(esp *part, name string) {
	p, err := c.loader(esp, name)
	if err != nil {
		c.add(Finding{Way: UEFI, Verdict: Bad, Says: fmt.Sprintf("\\%s can't be started", backslashed(name)),
			Evidence: err.Error()})
		return
	}
	c.follow(esp, name, p)
}

// follow goes on from an EFI program that was read.
func (c *checker) follow(esp *part, name string, p *image.Program) {
	if c.chain++; c.chain > maxChain {
		c.add(Finding{Way: UEFI, Verdict: Doubt, Says: "the loaders start each other without an end"})
		return
	}
	defer func() { c.chain-- }()
	if err := p.Code(); err != nil { // no proof of damage: that was looked for when it was read
		c.add(Finding{Way: UEFI, Verdict: Doubt, Says: fmt.Sprintf("\\%s may be damaged", backslashed(name)),
			Evidence: err.Error()})
	}
	show := "\\" + backslashed(name)
	g, err := image.GrubOf(p)
	switch {
	case err != nil:
		c.add(Finding{Way: UEFI, Verdict: Bad, Says: show + " is damaged", Evidence: err.Error()})
	case g != nil:
		c.menu(UEFI, show, g, script.Options{Loaded: script.Place{Device: c.deviceOf(esp), Path: "/" + name},
			Platform: "efi"})
	case p.Section(".linux") != nil:
		c.unified(UEFI, name, p)
	case bytes.Contains(p.Section(".sdmagic"), []byte("systemd-boot")):
		c.entries(UEFI, esp, name)
	case p.Section(".vendor_cert") != nil:
		c.shim(esp, name)
	case isWindows(p):
		c.windows(UEFI, esp, storeUEFI)
	default:
		c.add(Finding{Way: UEFI, Verdict: Doubt, Says: show + " is a loader of a kind that isn't known here"})
	}
}

// loader reads an EFI program and looks whether firmware can start it.
func (c *checker) loader(esp *part, name string) (*image.Program, error) {
	b, err := esp.read(name, maxKernel)
	if err != nil {
		return nil, err
	}
	p, err := image.Parse(b)
	if err != nil {
		return nil, err
	}
	if err := p.Code(); err != nil && !errors.Is(err, image.ErrOdd) {
		return nil, err
	}
	return p, nil
}

// shim follows the loader that is signed for all machines and starts the system's own, from the same folder. From the
// folder where firmware looks it first starts a program that makes the machine's own entries, as texts beside the
// systems' loaders say.
func (c *checker) shim(esp *part, name string) {
	dir, base := path.Split(name)
	suffix := strings.TrimPrefix(strings.TrimPrefix(strings.ToLower(strings.TrimSuffix(base, path.Ext(base))),
		"shim"), "boot")
	if !strings.EqualFold(strings.TrimSuffix(dir, "/"), fallbackDir) {
		c.program(esp, dir+"grub"+suffix+".efi")
		return
	}
	if _, err := esp.resolve(dir + "fb" + suffix + ".efi"); err != nil {
		c.program(esp, dir+"grub"+suffix+".efi")
		return
	}
	vendors, _ := fs.ReadDir(esp.files, "EFI")
	for _, v := range vendors[:min(len(vendors), maxListed)] {
		b, err := esp.read("EFI/"+v.Name()+"/BOOT"+strings.ToUpper(suffix)+".CSV", maxConfig)
		if err != nil {
			continue
		}
		first, _, _ := strings.Cut(strings.TrimPrefix(utf16Text(b), "\uFEFF"), ",")
		if first != "" && !strings.EqualFold(v.Name(), "BOOT") {
			c.program(esp, "EFI/"+v.Name()+"/"+relative(first))
			return
		}
	}
	c.add(Finding{Way: UEFI, Verdict: Bad,
		Says:     fmt.Sprintf("\\%s looks for a system's loader, and no folder of \\EFI names one", backslashed(name)),
		Evidence: "there is no BOOT" + strings.ToUpper(suffix) + ".CSV"})
}

func utf16Text(b []byte) string {
	var out []uint16
	for i := 0; i+1 < len(b); i += 2 {
		out = append(out, uint16(b[i])|uint16(b[i+1])<<8)
	}
	return string(utf16.Decode(out))
}

// isWindows knows Windows' boot manager by the name in its description.
func isWindows(p *image.Program) bool {
	for _, name := range []string{"bootmgr.exe", "bootmgfw.efi"} {
		var wide []byte
		for _, c := range []byte(name) {
			wide = append(wide, c, 0)
		}
		if bytes.Contains(p.Section(".rsrc"), wide) {
			return true
		}
	}
	return false
}

// chained follows a loader that another one starts.
func (c *checker) chained(way string, at script.Place) {
	p := c.partOf(at.Device)
	switch {
	case p == nil || p.files == nil:
		c.add(Finding{Way: way, Verdict: Doubt,
			Says: fmt.Sprintf("%s, which is started next, is on something that isn't read here", at)})
	case way != UEFI:
		c.add(Finding{Way: way, Verdict: Doubt, Says: fmt.Sprintf("%s, which is started next, can't be followed", at)})
	default:
		c.program(p, relative(at.Path))
	}
}
