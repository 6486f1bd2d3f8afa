package image

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"io"
	"strings"

	"github.com/ulikunitz/xz/lzma"
)

// Grub is what GNU GRUB carries inside itself (include/grub/kernel.h of its sources: "mimg", and the kinds of its
// objects).
type Grub struct {
	Modules []string
	Config  string // a script that it runs first
	Prefix  string // where its menu and further modules are
	Memdisk []byte // a file system that it carries
	// Files are its modules' contents, by name, to compare with those that stand on the disk.
	Files map[string][]byte
}

// Module kinds.
const (
	kindELF = iota
	kindMemdisk
	kindConfig
	kindPrefix
)

const (
	infoMark   = "mimg"
	maxModules = 512
)

// GrubOf reads what an EFI program of GNU GRUB carries; nil when it is another.
func GrubOf(p *Program) (*Grub, error) {
	mods := p.Section("mods")
	if mods == nil {
		return nil, nil
	}
	if len(mods) < 24 || string(mods[:4]) != infoMark {
		return nil, damaged("its modules don't begin with their mark")
	}
	le := binary.LittleEndian
	if wide := le.Uint64(mods[8:]); wide == 24 {
		return modules(mods, wide, le.Uint64(mods[16:]), 8)
	}
	return modules(mods, uint64(le.Uint32(mods[4:])), uint64(le.Uint32(mods[8:])), 4)
}

// tables are modules in which random bytes belong: those of ciphers and checksums.
func tables(name string) bool {
	return strings.HasPrefix(name, "gcry_") || strings.HasPrefix(name, "signature")
}

// modules walks over objects: kind, length with this head, contents. They are laid out in steps of so many bytes.
func modules(b []byte, from, size uint64, step uint32) (*Grub, error) {
	if size > uint64(len(b)) || from > size {
		return nil, damaged("its modules lie beyond its end")
	}
	g := &Grub{Files: map[string][]byte{}}
	le := binary.LittleEndian
	for at := from; at+8 <= size; {
		kind, n := le.Uint32(b[at:]), le.Uint32(b[at+4:])
		if n < 8 || uint64(n) > size-at || len(g.Modules) > maxModules {
			return nil, damaged("an object of %d bytes among its modules", n)
		}
		body := b[at+8 : at+uint64(n)]
		switch kind {
		case kindELF:
			name, err := moduleName(body, int(at+8)%sector)
			if err != nil {
				return nil, err
			}
			g.Modules = append(g.Modules, name)
			g.Files[name] = body
		case kindMemdisk:
			g.Memdisk = body
		case kindConfig:
			g.Config = text(body)
		case kindPrefix:
			g.Prefix = text(body)
		}
		at += uint64((n + step - 1) / step * step)
	}
	if g.Prefix == "" && g.Config == "" {
		return nil, damaged("it doesn't say where its menu is")
	}
	return g, nil
}

// text is a string that ends with a zero byte.
func text(b []byte) string {
	out, _, _ := strings.Cut(string(b), "\x00")
	return out
}

// moduleName checks a module, whose first byte is at byte at of a sector, and gives its name.
func moduleName(b []byte, at int) (string, error) {
	f, err := elf.NewFile(bytes.NewReader(b))
	if err != nil {
		return "", damaged("a module isn't one any more: %v", err)
	}
	defer f.Close()
	for _, s := range f.Sections {
		if s.Type == elf.SHT_NOBITS || s.Type == elf.SHT_NULL {
			continue
		}
		if s.Offset > uint64(len(b)) || s.Size > uint64(len(b))-s.Offset {
			return "", damaged("a section of a module lies beyond its end")
		}
		if s.Flags&elf.SHF_EXECINSTR != 0 {
			if err := code(b[s.Offset:][:s.Size], at+int(s.Offset)); err != nil {
				return "", err
			}
		}
	}
	s := f.Section(".modname")
	if s == nil || s.Type == elf.SHT_NOBITS {
		return "", damaged("a module has no name")
	}
	name := text(b[s.Offset:][:s.Size])
	if tables(name) {
		return name, nil
	}
	return name, random(b, at)
}

// Places in the second stage for BIOS machines (include/grub/offsets.h), from its second sector on.
const (
	sector      = 512
	packedAt    = sector + 0x08
	unpackedAt  = sector + 0x0C
	spareAt     = sector + 0x10 // bytes of Reed-Solomon redundancy after it
	leastStub   = 0x400
	mostStub    = 0x2400
	maxUnpacked = 64 << 20
	// How it is packed is fixed: lc 3, lp 0, pb 2, a dictionary of 64 KiB.
	properties = 0x5D
	dictionary = 1 << 16
)

// Core reads the second stage for BIOS machines from its first sector on. It is packed without a checksum: what comes
// out must be modules from the first to the last, so that a change anywhere before them is found.
func Core(b []byte) (*Grub, error) {
	if len(b) < sector+leastStub {
		return nil, damaged("it is too short")
	}
	le := binary.LittleEndian
	packed, unpacked := int64(le.Uint32(b[packedAt:])), int64(le.Uint32(b[unpackedAt:]))
	if packed < leastStub || unpacked < packed || unpacked > maxUnpacked {
		return nil, damaged("its head says it has %d bytes, and %d unpacked", packed, unpacked)
	}
	var last error = damaged("what it packs isn't there")
	for at := int64(sector + leastStub); at < sector+mostStub && at+packed <= int64(len(b)); at += 16 {
		if b[at] != 0 { // every packed stream begins with it
			continue
		}
		out, err := unpack(b[at:][:packed], unpacked)
		if err != nil {
			continue
		}
		g, err := inCore(out)
		if err == nil {
			return g, code(b[sector+0x20:at], 0x20)
		}
		last = err
	}
	return nil, last
}

// Spare says that the second stage can mend damage to itself when it starts.
func Spare(b []byte) bool {
	return len(b) > spareAt+4 && binary.LittleEndian.Uint32(b[spareAt:]) > 0
}

func unpack(b []byte, n int64) ([]byte, error) {
	head := []byte{properties}
	head = binary.LittleEndian.AppendUint32(head, dictionary)
	head = binary.LittleEndian.AppendUint64(head, uint64(n))
	r, err := lzma.NewReader(io.MultiReader(bytes.NewReader(head), bytes.NewReader(b)))
	if err != nil {
		return nil, err
	}
	out := make([]byte, n)
	_, err = io.ReadFull(r, out)
	return out, err
}

// inCore finds the modules after the unpacked kernel of the loader.
func inCore(b []byte) (*Grub, error) {
	le := binary.LittleEndian
	var last error = damaged("there are no modules in it")
	for at := 0; at+12 <= len(b); at += 4 {
		if string(b[at:at+4]) != infoMark {
			continue
		}
		from, size := le.Uint32(b[at+4:]), le.Uint32(b[at+8:])
		if uint64(at)+uint64(size) > uint64(len(b)) || from != 12 {
			continue
		}
		g, err := modules(b[at:], uint64(from), uint64(size), 4)
		if err == nil {
			return g, code(b[:at], 0)
		}
		last = err
	}
	return nil, last
}
