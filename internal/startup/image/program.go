// Package image looks into the files that machines start: EFI programs (PE/COFF Specification; UEFI Specification 2.10,
// section 2.1.1), the images of GNU GRUB, Linux kernels (Linux boot protocol for x86) and their first file systems in
// memory (initramfs buffer format). It reads bytes and says what they are and how it was checked that they are whole.
package image

import (
	"bytes"
	"crypto/sha256"
	"debug/pe"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
)

// ErrDamaged means that what a file says of itself doesn't hold.
var ErrDamaged = errors.New("it is damaged")

// ErrOdd means that a stretch of a program doesn't look like one. That is a measure, not a proof: some programs carry
// tables of ciphers or long stretches of zeros in their code.
var ErrOdd = errors.New("a stretch of it doesn't look like a program")

func damaged(format string, a ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, a...))
}

// Program is an EFI program.
type Program struct {
	Machine uint16 // PE/COFF
	// Checked says what proves that all of it is as it was made; empty when nothing does.
	Checked  string
	sections map[string][]byte
	code     [][]byte
}

// Section is a section's contents by its name, without the filling after them; nil when there is none.
func (p *Program) Section(name string) []byte { return p.sections[name] }

const (
	efiSubsystem = 10 // "EFI application"
	peOffsetAt   = 0x3C
	optionalAt   = 24 // from the mark PE
	headersAt    = 60 // of the optional header: bytes of all headers
	sumAt        = 64
	certEntry    = 4 // data directory of certificates
	leastCode    = 512
)

// Parse reads an EFI program and checks what can be checked: its sections lie in the file, and where it is
// signed, the digest that was signed is its own.
func Parse(b []byte) (*Program, error) {
	f, err := pe.NewFile(bytes.NewReader(b))
	if err != nil {
		return nil, fmt.Errorf("it is no PE program: %w", err)
	}
	defer f.Close()
	dirs, subsystem := []pe.DataDirectory(nil), uint16(0)
	dirsAt := 0
	switch h := f.OptionalHeader.(type) {
	case *pe.OptionalHeader64:
		dirs, subsystem, dirsAt = h.DataDirectory[:], h.Subsystem, 112
	case *pe.OptionalHeader32:
		dirs, subsystem, dirsAt = h.DataDirectory[:], h.Subsystem, 96
	}
	if subsystem != efiSubsystem {
		return nil, fmt.Errorf("it is no EFI application (subsystem %d)", subsystem)
	}
	p := &Program{Machine: f.Machine, sections: map[string][]byte{}}
	for _, s := range f.Sections {
		if end := int64(s.Offset) + int64(s.Size); end > int64(len(b)) && s.Offset > 0 {
			return nil, damaged("it is cut short: %d of %d bytes are there", len(b), end)
		}
		if s.Offset == 0 {
			continue
		}
		body := b[s.Offset:][:s.Size]
		if s.VirtualSize > 0 && s.VirtualSize < s.Size {
			body = body[:s.VirtualSize]
		}
		p.sections[strings.TrimRight(s.Name, "\x00")] = body
		if s.Characteristics&pe.IMAGE_SCN_CNT_CODE != 0 {
			p.code = append(p.code, body)
		}
	}
	at := int(binary.LittleEndian.Uint32(b[peOffsetAt:])) + optionalAt
	if len(dirs) > certEntry && dirs[certEntry].Size > 0 {
		if err := p.signed(b, f.Sections, at, at+dirsAt+8*certEntry, dirs[certEntry]); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// Code looks through a program's code for stretches that aren't any. Of GNU GRUB it is known that its own has none, so
// there they are damage; elsewhere the error wraps ErrOdd. A kernel is packed, and has its own checks.
func (p *Program) Code() error {
	if p.Checked != "" {
		return nil
	}
	for _, b := range p.code {
		if len(b) >= leastCode && len(bytes.Trim(b, "\x00")) == 0 {
			return damaged("its code is all zeros")
		}
		err := code(b, 0)
		if err != nil && p.Section("mods") == nil {
			return fmt.Errorf("%w: %v", ErrOdd, err)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// signed compares a program's digest with the one in its signature (Windows Authenticode Portable Executable Signature
// Format). Who signed isn't asked: only whether it is still what was signed.
func (p *Program) signed(b []byte, sections []*pe.Section, at, certAt int, cert pe.DataDirectory) error {
	from, to := int64(cert.VirtualAddress), int64(cert.VirtualAddress)+int64(cert.Size)
	headers := int64(binary.LittleEndian.Uint32(b[at+headersAt:]))
	if to > int64(len(b)) || from < headers || headers > int64(len(b)) || headers < int64(certAt)+8 {
		return damaged("its signature lies beyond its end")
	}
	h := sha256.New()
	h.Write(b[:at+sumAt])
	h.Write(b[at+sumAt+4 : certAt])
	h.Write(b[certAt+8 : headers])
	hashed := headers
	for _, s := range slices.SortedFunc(slices.Values(sections), func(x, y *pe.Section) int {
		return int(x.Offset) - int(y.Offset)
	}) {
		if s.Size > 0 && s.Offset > 0 {
			h.Write(b[s.Offset:][:s.Size])
			hashed += int64(s.Size)
		}
	}
	if hashed < from {
		h.Write(b[hashed:from])
	}
	digests, is := digestsIn(b[from:to]), h.Sum(nil)
	if len(digests) == 0 {
		return nil // of another kind
	}
	for _, d := range digests {
		if bytes.Equal(d, is) {
			p.Checked = "what was signed"
			return nil
		}
	}
	return damaged("it isn't what was signed any more: the digest in its signature is another")
}

// digestsIn finds the SHA-256 digests in a signature: in DER, an AlgorithmIdentifier followed by an octet string of 32
// bytes.
func digestsIn(b []byte) [][]byte {
	const most = 16
	mark := []byte{0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20}
	var out [][]byte
	for len(out) < most {
		n := bytes.Index(b, mark)
		if n < 0 || len(b) < n+len(mark)+sha256.Size {
			break
		}
		out = append(out, b[n+len(mark):][:sha256.Size])
		b = b[n+len(mark):]
	}
	return out
}

const (
	block = 512 // bytes that are looked at in one piece
	// mostDisorder is the entropy, in bits per byte, that 512 bytes of programs stay under. Measured: modules of GNU
	// GRUB have 7.2 at the most, but for tables of ciphers; random bytes 7.45 at least.
	mostDisorder = 7.3
)

// code says where stretches of a program aren't one: all zeros with more code after them, or random. Damage comes in
// sectors, so the stretches begin where sectors of the file do; the first byte is at byte at of one.
func code(b []byte, at int) error {
	end := len(bytes.TrimRight(b, "\x00"))
	for at := (block - at%block) % block; at+block <= end; at += block {
		if len(bytes.Trim(b[at:at+block], "\x00")) == 0 {
			return damaged("%d bytes of its code from byte %d on are all zeros", block, at)
		}
	}
	return random(b[:end], at)
}

// random says where a stretch of a program looks random.
func random(b []byte, at int) error {
	for at := (block - at%block) % block; at+block <= len(b); at += block {
		if disorder(b[at:at+block]) > mostDisorder {
			return damaged("%d bytes of it from byte %d on look random", block, at)
		}
	}
	return nil
}

// disorder is the entropy of bytes, in bits per byte.
func disorder(b []byte) float64 {
	var count [256]int
	for _, c := range b {
		count[c]++
	}
	sum := 0.0
	for _, n := range count {
		if n > 0 {
			p := float64(n) / float64(len(b))
			sum -= p * math.Log2(p)
		}
	}
	return sum
}
