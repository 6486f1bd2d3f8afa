// Package base collects what a starting stick is made from, beside Twin Shelf itself: the kernel with its modules and
// firmware, and the loaders that the machine's own firmware takes. It comes from the packages of the system, as they
// are installed or as package files, and goes into one file that can be kept and carried (docs/base-format.md).
package base

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"
)

const (
	// Format is the version of the file.
	Format = 1
	// mostPieces and mostManifest bound what is read; mostPiece is the largest piece, in bytes.
	mostPieces   = 20_000
	mostManifest = 16 << 20
	mostPiece    = 256 << 20
	manifestName = "manifest.json"
	piecesFolder = "pieces/"
)

// Manifest says what a base has.
type Manifest struct {
	Format       int       `json:"format"`
	Architecture string    `json:"architecture"` // as Go calls it: amd64
	Kernel       string    `json:"kernel"`       // its release, such as 6.1.0-56-amd64
	Made         time.Time `json:"made"`
	Pieces       []Piece   `json:"pieces"`
}

// Piece is a file of the base.
type Piece struct {
	// Name is where it stands in the system, such as boot/vmlinuz-6.1.0-56-amd64.
	Name    string `json:"name"`
	Package string `json:"package,omitempty"`
	Version string `json:"version,omitempty"`
	Size    int64  `json:"size"` // bytes
	Sum     string `json:"sum"`  // BLAKE3, hexadecimal
}

// What a base has beside modules and firmware, by where it stands in the system.
const (
	Shim     = "usr/lib/shim/shimx64.efi.signed"
	ShimKeys = "usr/lib/shim/mmx64.efi.signed"
	Loader   = "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"
	biosDir  = "usr/lib/grub/i386-pc/"
	BootCode = biosDir + "boot.img"
	// Core is the second stage for a BIOS, which is composed while the base is collected.
	Core = "boot/grub/i386-pc/core.img"
	// Narrow is what UEFI firmware of 32 bits starts, to say that it can't go on; it is composed, too.
	Narrow    = "boot/grub/i386-efi/core.efi"
	narrowDir = "usr/lib/grub/i386-efi/"
)

// FontsDir is where a base has its console fonts; keys.Dir is where it has its keyboard layouts.
const FontsDir = "usr/share/consolefonts/"

// Label is that of the part that machines start from; a BIOS's second stage looks for it.
const Label = "TWINSTART"

// Script is what loaders do once they have found that part: kernel and first file system stand in its root folder.
const Script = "linux /VMLINUZ " + CommandLine + "\ninitrd /INITRD.IMG\nboot\n"

// CommandLine is what the kernel is started with: on the screen, and on the first serial line.
const CommandLine = "console=ttyS0,115200 console=tty0 quiet loglevel=3 panic=10"

// packageOf is the package that has a piece, for who misses it.
var packageOf = map[string]string{Shim: "shim-signed", ShimKeys: "shim-signed", Loader: "grub-efi-amd64-signed",
	BootCode: "grub-pc-bin", composer: "grub-common"}

// KernelImage and Modules are where a kernel and its modules stand.
func KernelImage(kernel string) string { return "boot/vmlinuz-" + kernel }

// Modules is described with KernelImage.
func Modules(kernel string) string { return "lib/modules/" + kernel + "/" }

// Missing is a piece that can't be had.
type Missing struct{ Name, Package string }

func (e *Missing) Error() string {
	return fmt.Sprintf("/%s is missing: install the package %s, or name its package file", e.Name, e.Package)
}

// ErrOther means that a file isn't a base, or not one that this version reads.
var ErrOther = errors.New("it is no base of a starting stick")

// check refuses a manifest that can't be true.
func (m *Manifest) check() error {
	switch {
	case m.Format != Format:
		return fmt.Errorf("%w that this version reads: its format is %d, and %d is known", ErrOther, m.Format, Format)
	case m.Architecture != Architecture:
		return fmt.Errorf("%w for this program: it is for %s", ErrOther, m.Architecture)
	case m.Kernel == "" || strings.ContainsAny(m.Kernel, "/\x00 "):
		return fmt.Errorf("%w: it names no kernel", ErrOther)
	case len(m.Pieces) > mostPieces:
		return fmt.Errorf("%w: it has %d pieces", ErrOther, len(m.Pieces))
	}
	seen := map[string]bool{}
	for _, p := range m.Pieces {
		if p.Name == "" || path.Clean("/"+p.Name) != "/"+p.Name || p.Size < 0 || p.Size > mostPiece || seen[p.Name] {
			return fmt.Errorf("%w: its piece %q can't be", ErrOther, p.Name)
		}
		seen[p.Name] = true
	}
	return nil
}

// Architecture is the one that sticks are made for.
const Architecture = "amd64"

// Versions are the packages of a base with their versions, once each, in the order of their first piece.
func (m *Manifest) Versions() (out []Piece) {
	seen := map[string]bool{}
	for _, p := range m.Pieces {
		if p.Package != "" && !seen[p.Package] {
			seen[p.Package] = true
			out = append(out, Piece{Package: p.Package, Version: p.Version})
		}
	}
	return out
}

func readManifest(r io.Reader) (*Manifest, error) {
	var m Manifest
	if err := json.NewDecoder(io.LimitReader(r, mostManifest)).Decode(&m); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrOther, err)
	}
	return &m, m.check()
}
