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
	"twinshelf/internal/table"
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
		c.windows(esp)
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

const (
	bcd       = "EFI/Microsoft/Boot/BCD"
	winload   = "Windows/System32/winload"
	maxBCD    = 16 << 20
	hiveMark  = "regf"
	hiveSumAt = 508 // a sum over all 32-bit words before it
)

// windows looks for what Windows' boot manager needs: its data, and a system that they name. They aren't read, only
// searched for the identities of the parts.
func (c *checker) windows(esp *part) {
	c.followed = true
	b, err := esp.read(bcd, maxBCD)
	if err == nil {
		err = hive(b)
	}
	if err != nil {
		c.add(Finding{Way: UEFI, Verdict: Bad, Says: "Windows' boot manager doesn't find its data, \\" +
			backslashed(bcd), Evidence: err.Error()})
		return
	}
	for i := range c.parts {
		p := &c.parts[i]
		_, err := p.resolve(winload + ".efi")
		if err != nil {
			continue
		}
		id, err := table.GUIDBytes(p.GUID)
		if err != nil || !bytes.Contains(b, id[:]) {
			c.add(Finding{Way: UEFI, Verdict: Doubt,
				Says: fmt.Sprintf("the boot manager's data don't name part %d, which holds a Windows", p.Number)})
			return
		}
		c.add(Finding{Way: UEFI, Verdict: Good,
			Says:     fmt.Sprintf("the boot manager's data name part %d, and its Windows has a loader", p.Number),
			Evidence: "identity " + p.GUID})
		return
	}
	verdict, says := Bad, "no part holds the Windows that the boot manager starts"
	if c.unread() {
		verdict, says = Doubt, "the Windows that the boot manager starts may be on something that isn't read here"
	}
	c.add(Finding{Way: UEFI, Verdict: verdict, Says: says})
}

// hive checks the head of a registry file.
func hive(b []byte) error {
	if len(b) < hiveSumAt+4 || string(b[:4]) != hiveMark {
		return errors.New("it isn't a registry file")
	}
	word := func(at int) uint32 {
		return uint32(b[at]) | uint32(b[at+1])<<8 | uint32(b[at+2])<<16 | uint32(b[at+3])<<24
	}
	sum := uint32(0)
	for at := 0; at < hiveSumAt; at += 4 {
		sum ^= word(at)
	}
	switch sum { // neither value stands for itself
	case 0:
		sum = 1
	case 0xFFFFFFFF:
		sum = 0xFFFFFFFE
	}
	if sum != word(hiveSumAt) {
		return errors.New("the checksum of its head is wrong")
	}
	return nil
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
