// Package drive lays a drive out so that it starts 64-bit PCs into Twin Shelf: those with UEFI firmware, Secure Boot on
// or off, and those with a BIOS. The rest of the drive may be a part for shelves.
package drive

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"twinshelf/internal/fsys/families"
	"twinshelf/internal/ready"
	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

const (
	// codeSize and systemSize are how large the parts are, in bytes: for the BIOS's second stage, and for the system.
	codeSize   = units.MiB
	systemSize = 512 * units.MiB
	// codeName and systemName are the parts' names in the table, by which a stick is known again.
	codeName, systemName, dataName = "Twin Shelf start code", ramdisk.SystemName, ramdisk.DataName
	// mostRamdisk bounds the first file system, in bytes; with the rest it fits into the part.
	mostRamdisk = 400 * units.MiB
)

// System is what starts a machine.
type System struct {
	Manifest               *base.Manifest
	Kernel, Ramdisk        []byte
	Shim, ShimKeys, Loader []byte // UEFI
	Narrow                 []byte // UEFI of 32 bits: says that it can't go on
	BootCode, Core         []byte // BIOS
}

// Read makes the system from a base and the program that it starts.
func Read(ctx context.Context, from io.Reader, program []byte) (*System, error) {
	s := &System{}
	into := map[string]*[]byte{base.Shim: &s.Shim, base.ShimKeys: &s.ShimKeys, base.Loader: &s.Loader,
		base.Narrow:   &s.Narrow,
		base.BootCode: &s.BootCode, base.Core: &s.Core}
	var disk bytes.Buffer
	files, err := ramdisk.Make(ctx, &disk, from, program, func(p base.Piece, r io.Reader) (err error) {
		if b := into[p.Name]; b != nil {
			*b, err = io.ReadAll(r)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	s.Manifest, s.Kernel, s.Ramdisk = files.Manifest, files.Kernel, disk.Bytes()
	for name, b := range into {
		if len(*b) == 0 {
			return nil, &base.Hurt{Piece: name, Why: "it isn't there"}
		}
	}
	if n := int64(len(s.Ramdisk)); n > mostRamdisk {
		return nil, fmt.Errorf("the first file system has %s, and the part has room for %s: make the base of fewer "+
			"packages", units.Bytes(n), units.Bytes(mostRamdisk))
	}
	return s, nil
}

// menu is what the signed loader does (grub.cfg). The kernel is on the same part, and gets the screen as the firmware
// has it, which knows best what the screen is made for.
const menu = "set timeout=0\nset gfxpayload=keep\n" + base.Script

// files are those of the part that machines start from (UEFI 2.10, section 3.5.1.1: the loader's fallback path).
func (s *System) files() []ready.File {
	return []ready.File{{Name: "EFI/BOOT/BOOTX64.EFI", Contents: s.Shim}, {Name: "EFI/BOOT/GRUBX64.EFI",
		Contents: s.Loader},
		{Name: "EFI/BOOT/MMX64.EFI", Contents: s.ShimKeys}, {Name: "EFI/BOOT/BOOTIA32.EFI", Contents: s.Narrow},
		{Name: "EFI/DEBIAN/GRUB.CFG", Contents: []byte(menu)},
		{Name: "VMLINUZ", Contents: s.Kernel}, {Name: "INITRD.IMG", Contents: s.Ramdisk}}
}

const (
	biosSector = 512
	// Where the first stage and the second say at which sector the next one lies (GRUB: boot.S, diskboot.S).
	bootNext, coreNext = 0x5C, 0x1F4
	bootCodeLen        = 440
)

// code gives the first stage and the second, which lies at a byte of the drive.
func (s *System) code(at int64) (first, second []byte, err error) {
	if len(s.BootCode) < biosSector || len(s.Core) < 2*biosSector || int64(len(s.Core)) > codeSize {
		return nil, nil, &base.Hurt{Piece: base.Core, Why: "it can't be a second stage"}
	}
	first, second = slices.Clone(s.BootCode[:bootCodeLen]), slices.Clone(s.Core)
	le := binary.LittleEndian
	le.PutUint64(first[bootNext:], uint64(at/biosSector))
	le.PutUint64(second[coreNext:], uint64(at/biosSector+1))
	return first, second, nil
}

// Data is the part for shelves beside the system; without a Kind there is none.
type Data struct{ Kind, Label string }

// ErrSmall means that a drive is too small.
var ErrSmall = errors.New("it is too small for a starting stick")

// Lay puts the parts into a draft that lays a drive out anew.
func (s *System) Lay(d *ready.Draft, data Data) error {
	if need := codeSize + systemSize + 4*d.Align; d.Identity.Size < need {
		return fmt.Errorf("%w: it has %s, and %s are needed", ErrSmall, units.Bytes(d.Identity.Size), units.Bytes(need))
	}
	for _, p := range []struct {
		name, kind string
		size       int64
	}{{codeName, table.TypeBIOSBoot, codeSize}, {systemName, table.TypeESP, systemSize}} {
		i, err := d.Add(d.Gap(), p.size, false)
		if err != nil {
			return err
		}
		d.Parts[i].Name, d.Parts[i].Type = p.name, p.kind
	}
	if data.Kind != "" {
		i, err := d.Add(d.Gap(), d.Gap().Len(), true)
		if err == nil {
			err = d.SetForm(i, data.Kind, data.Label, 0)
		}
		if err != nil {
			return fmt.Errorf("the part for shelves: %w", err)
		}
		d.Parts[i].Name = dataName
	}
	return s.fill(d)
}

// Is says whether a draft that changes a drive is of a starting stick.
func Is(d *ready.Draft) bool {
	code, system := find(d)
	return d.Kind == table.GPT && code >= 0 && system >= 0
}

func find(d *ready.Draft) (code, system int) {
	by := func(name, kind string) int {
		return slices.IndexFunc(d.Parts, func(p ready.Part) bool {
			return p.Name == name && strings.EqualFold(p.Type, kind)
		})
	}
	return by(codeName, table.TypeBIOSBoot), by(systemName, table.TypeESP)
}

// IsStick says whether a disk is a starting stick, by its table.
func IsStick(s *survey.Survey) bool {
	return slices.ContainsFunc(s.Table.Parts, func(p table.Part) bool {
		return p.Name == systemName && strings.EqualFold(p.Type, table.TypeESP)
	})
}

// Renew gives a starting stick another system; the other parts stay.
func (s *System) Renew(d *ready.Draft) error {
	if !Is(d) {
		return errors.New("it is no starting stick that was made here: lay it out anew")
	}
	return s.fill(d)
}

// firmwareKind is the file system for large parts that machines' firmware reads.
func firmwareKind() (kind string) {
	for _, m := range families.All().Makers() {
		if m.Firmware {
			kind = m.Kind // the last one is for the largest
		}
	}
	return kind
}

// fill says what the system's parts hold.
func (s *System) fill(d *ready.Draft) error {
	code, system := find(d)
	if code < 0 || system < 0 {
		return errors.New("the parts of a starting stick aren't there")
	}
	d.Parts[system].Form = nil
	if err := d.SetForm(system, firmwareKind(), base.Label, 0); err != nil {
		return err
	}
	d.Parts[system].Files = s.files()
	const starts = "it starts 64-bit PCs into Twin Shelf (kernel %s): "
	if d.Identity.Sector != biosSector {
		d.Parts[code].Raw = make([]byte, biosSector)
		d.Notes = append(d.Notes, fmt.Sprintf(starts+"only those with UEFI firmware, Secure Boot on or off; "+
			"a BIOS starts nothing from sectors of %d bytes", s.Manifest.Kernel, d.Identity.Sector))
		return nil
	}
	d.Notes = append(d.Notes, fmt.Sprintf(starts+"with UEFI firmware, Secure Boot on or off, and with a BIOS",
		s.Manifest.Kernel))
	first, second, err := s.code(d.Parts[code].Span.Start)
	d.Code, d.Parts[code].Raw = first, second
	return err
}
