package startup

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/table"
)

// Loader is a loader that firmware can be given an entry for.
type Loader struct {
	Part table.Part
	// File is its place on the part, with slashes; Title names the system that it starts, as its folder does.
	File, Title string
	Bits        int // of the machine that it is for
}

// ErrNoLoader means that a disk has nothing that an entry of the firmware could lead to.
var ErrNoLoader = errors.New("there is no EFI system part with a loader on this disk")

// machineBits are the bits of the machines that loaders are for, by PE/COFF machine.
var machineBits = map[uint16]int{0x8664: 64, 0x14C: 32, 0xAA64: 64, 0x1C4: 32}

// Loaders are the sound loaders on the EFI system part of a disk with a GPT, the one first that an entry should lead
// to: in a system's own folder the one that Secure Boot lets start the others, before what lies where firmware looks by
// itself.
func Loaders(ctx context.Context, d disk.Device) ([]Loader, error) {
	c, err := newChecker(ctx, d, Options{})
	if err != nil {
		return nil, err
	}
	if c == nil || c.t.Kind != table.GPT {
		return nil, ErrNoLoader
	}
	esp := c.uefiWay.systemPart()
	if esp == nil || esp.volume == nil {
		return nil, ErrNoLoader
	}
	tree, err := fsys.TreeOf(esp.volume)
	if err != nil {
		return nil, errors.Join(ErrNoLoader, err)
	}
	esp.files = fsys.FS(tree)
	names, _ := c.uefiWay.elsewhereOn(esp)
	for _, f := range fallbacks {
		names = append(names, fallbackDir+"/"+f.name)
	}
	var out []Loader
	for _, name := range names {
		p, err := c.uefiWay.loader(esp, name)
		if err != nil || leads(name) == 0 {
			continue
		}
		out = append(out, Loader{Part: esp.Part, File: name, Title: titleOf(name), Bits: machineBits[p.Machine]})
	}
	slices.SortStableFunc(out, func(a, b Loader) int { return leads(b.File) - leads(a.File) })
	if len(out) == 0 {
		return nil, ErrNoLoader
	}
	return out, ctx.Err()
}

// leads says how much a loader is meant to be started by firmware, by its name; 0 for not at all.
func leads(file string) int {
	name := strings.ToLower(path.Base(file))
	switch {
	case strings.EqualFold(path.Dir(file), fallbackDir):
		if strings.HasPrefix(name, "boot") {
			return 1
		}
		return 0
	case name == "bootmgfw.efi", strings.HasPrefix(name, "shim"):
		return 4
	case strings.HasPrefix(name, "grub"), strings.HasPrefix(name, "systemd-boot"):
		return 3
	case strings.HasPrefix(name, "mm"), strings.HasPrefix(name, "fb"), strings.HasPrefix(name, "fwup"),
		strings.HasPrefix(name, "memtest"), strings.HasPrefix(name, "bootmgr"):
		return 0 // what loaders use themselves
	}
	return 2
}

// titleOf names what a loader starts, by its folder.
func titleOf(file string) string {
	parts := strings.Split(file, "/")
	if len(parts) < 3 || strings.EqualFold(parts[1], "BOOT") {
		return "Restored system"
	}
	if strings.EqualFold(parts[1], "Microsoft") {
		return "Windows Boot Manager"
	}
	return parts[1]
}
