// Package firmware reads and writes what UEFI firmware keeps about starting: its entries, their order, Secure Boot, and
// whether its set-up is opened at the next start. Structures are those of the UEFI Specification 2.10; variables are
// reached through the kernel (Documentation/filesystems/efivarfs.rst).
package firmware

import (
	"os"
	"path/filepath"
	"strings"
)

// Start is how a machine was started.
type Start struct {
	// UEFI says that it was UEFI firmware and not a BIOS; Bits are the firmware's, 64 or 32, 0 where they aren't told.
	UEFI bool
	Bits int
	// Secure says that Secure Boot is on; SecureTold that it is known.
	Secure, SecureTold bool
}

// StartOf reads how the machine was started whose files are below a root folder.
func StartOf(root string) Start {
	dir := filepath.Join(root, "sys/firmware/efi")
	if st, err := os.Stat(dir); err != nil || !st.IsDir() {
		return Start{}
	}
	s := Start{UEFI: true}
	b, _ := os.ReadFile(filepath.Join(dir, "fw_platform_size"))
	switch strings.TrimSpace(string(b)) {
	case "64":
		s.Bits = 64
	case "32":
		s.Bits = 32
	}
	v, err := Variables{filepath.Join(dir, "efivars")}.get("SecureBoot")
	if err == nil && len(v) == 1 {
		s.Secure, s.SecureTold = v[0] == 1, true
	}
	return s
}

// Words says it.
func (s Start) Words() string {
	if !s.UEFI {
		return "started by a BIOS"
	}
	words := "started by UEFI"
	if s.Bits == 32 {
		words = "started by UEFI of 32 bits"
	}
	switch {
	case !s.SecureTold:
		return words + ", Secure Boot unknown"
	case s.Secure:
		return words + ", Secure Boot on"
	}
	return words + ", Secure Boot off"
}
