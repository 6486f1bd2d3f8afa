// Package realmode runs the code in the first sectors of a disk as a BIOS machine would: a processor in real mode with
// one disk, as far as such code goes. It tells what the code loads from the disk and where it jumps into that; nothing
// else of a machine is there, and whatever the code can't do here ends it with a reason.
package realmode

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"golang.org/x/arch/x86/x86asm"
)

const (
	memory   = 1<<20 + 1<<16 // bytes that real mode reaches
	loadAt   = 0x7C00
	sector   = 512
	maxSteps = 1 << 19
	maxText  = 4096
	drive    = 0x80
)

// ErrStuck means that the code ends without starting anything; the message says how.
var ErrStuck = errors.New("the start-up code starts nothing")

func stuck(format string, a ...any) error {
	return fmt.Errorf("%w: %s", ErrStuck, fmt.Sprintf(format, a...))
}

// ErrUnknown means that the code does what isn't known here: it can't be told what a machine would do.
var ErrUnknown = errors.New("the start-up code does what isn't known here")

func unclear(format string, a ...any) error {
	return fmt.Errorf("%w: %s", ErrUnknown, fmt.Sprintf(format, a...))
}

// Disk reads sectors of 512 bytes.
type Disk func(first int64, b []byte) error

// Machine is a processor with its memory.
type Machine struct {
	disk Disk
	mem  []byte
	// byte of the disk that each byte of memory comes from, plus one; negative once it runs, 0 for what isn't the
	// disk's
	from  []int64
	reg   [8]uint32
	seg   map[x86asm.Reg]uint16
	ip    uint32
	carry bool
	zero  bool
	sign  bool
	over  bool
	down  bool
	ticks uint32
	text  []byte
	steps int
}

// New is a machine that has loaded a first sector and is about to run it.
func New(first []byte, disk Disk) *Machine {
	m := &Machine{disk: disk, mem: make([]byte, memory), from: make([]int64, memory), ip: loadAt,
		seg: map[x86asm.Reg]uint16{x86asm.CS: 0, x86asm.DS: 0, x86asm.ES: 0, x86asm.SS: 0, x86asm.FS: 0, x86asm.GS: 0}}
	copy(m.mem[loadAt:loadAt+sector], first)
	binary.LittleEndian.PutUint16(m.mem[0x413:], 639) // KiB of memory
	m.mem[0x475] = 1                                  // disks
	m.set(x86asm.DX, drive)
	m.set(x86asm.SP, loadAt)
	return m
}

// Jump is where the code went on in what it had loaded: the address in memory, and the byte of the disk that lies
// there.
type Jump struct {
	Address int
	Disk    int64
}

// Run goes on until the code jumps into what it has loaded from the disk. From then on that sector counts as its own,
// so that Run can be called again. Errors wrap ErrStuck or ErrUnknown, or are of the context or the disk.
func (m *Machine) Run(ctx context.Context) (Jump, error) {
	for ; m.steps < maxSteps; m.steps++ {
		if m.steps%4096 == 0 && ctx.Err() != nil {
			return Jump{}, ctx.Err()
		}
		at := m.linear(x86asm.CS, m.ip)
		if at+16 > len(m.mem) {
			return Jump{}, stuck("it runs out of memory")
		}
		if from := m.from[at]; from > 0 {
			own := m.from[at:min(at+sector, len(m.from))]
			for i, k := range own {
				own[i] = min(k, -k)
			}
			return Jump{Address: at, Disk: from - 1}, nil
		}
		if err := m.step(at); err != nil {
			if text := m.Text(); text != "" && errors.Is(err, ErrStuck) {
				err = fmt.Errorf("%w; it says %q", err, text)
			}
			return Jump{}, err
		}
	}
	return Jump{}, stuck("it runs without end")
}

// Loaded is what lies in memory from an address on that was loaded from the disk. Its first sector may have changed
// itself.
func (m *Machine) Loaded(address int) []byte {
	end := address
	for end < len(m.mem) && (end < address+sector || m.from[end] != 0) {
		end++
	}
	return m.mem[address:end]
}

// Text is what the code wrote on the screen, without control characters.
func (m *Machine) Text() string {
	var out []byte
	for _, c := range m.text {
		if c >= ' ' && c < 0x7F {
			out = append(out, c)
		}
	}
	return string(out)
}

func (m *Machine) linear(seg x86asm.Reg, off uint32) int {
	return int((uint32(m.seg[seg])<<4 + off&0xFFFF) % memory)
}

func (m *Machine) load(at, n int) uint32 {
	var v uint32
	for i := range n {
		v |= uint32(m.mem[(at+i)%memory]) << (8 * i)
	}
	return v
}

func (m *Machine) store(at, n int, v uint32) {
	for i := range n {
		k := (at + i) % memory
		m.mem[k], m.from[k] = byte(v>>(8*i)), 0
	}
}

// get and set know the general registers by their names in any width.
func (m *Machine) get(r x86asm.Reg) uint32 {
	switch {
	case r >= x86asm.AL && r <= x86asm.BL:
		return m.reg[r-x86asm.AL] & 0xFF
	case r >= x86asm.AH && r <= x86asm.BH:
		return m.reg[r-x86asm.AH] >> 8 & 0xFF
	case r >= x86asm.AX && r <= x86asm.DI:
		return m.reg[r-x86asm.AX] & 0xFFFF
	case r >= x86asm.EAX && r <= x86asm.EDI:
		return m.reg[r-x86asm.EAX]
	}
	return uint32(m.seg[r])
}

func (m *Machine) set(r x86asm.Reg, v uint32) {
	put := func(i x86asm.Reg, mask, v uint32) { m.reg[i] = m.reg[i]&^mask | v&mask }
	switch {
	case r >= x86asm.AL && r <= x86asm.BL:
		put(r-x86asm.AL, 0xFF, v)
	case r >= x86asm.AH && r <= x86asm.BH:
		put(r-x86asm.AH, 0xFF00, v<<8)
	case r >= x86asm.AX && r <= x86asm.DI:
		put(r-x86asm.AX, 0xFFFF, v)
	case r >= x86asm.EAX && r <= x86asm.EDI:
		put(r-x86asm.EAX, 0xFFFFFFFF, v)
	default:
		m.seg[r] = uint16(v)
	}
}

// width of a register in bytes.
func width(r x86asm.Reg) int {
	switch {
	case r >= x86asm.AL && r <= x86asm.BH:
		return 1
	case r >= x86asm.EAX && r <= x86asm.EDI:
		return 4
	}
	return 2
}

// address of an operand in memory.
func (m *Machine) address(a x86asm.Mem) int {
	off := uint32(a.Disp)
	seg := x86asm.DS
	if a.Base != 0 {
		off += m.get(a.Base)
		if a.Base == x86asm.BP || a.Base == x86asm.EBP || a.Base == x86asm.ESP {
			seg = x86asm.SS
		}
	}
	if a.Index != 0 {
		off += m.get(a.Index) * uint32(max(1, a.Scale))
	}
	if a.Segment != 0 {
		seg = a.Segment
	}
	return m.linear(seg, off)
}

// value of an operand of n bytes.
func (m *Machine) value(a x86asm.Arg, n int) uint32 {
	switch a := a.(type) {
	case x86asm.Reg:
		return m.get(a)
	case x86asm.Imm:
		return uint32(a) & mask(n)
	case x86asm.Mem:
		return m.load(m.address(a), n)
	}
	return 0
}

func (m *Machine) put(a x86asm.Arg, n int, v uint32) {
	switch a := a.(type) {
	case x86asm.Reg:
		m.set(a, v)
	case x86asm.Mem:
		m.store(m.address(a), n, v)
	}
}

func mask(n int) uint32 { return uint32(1<<(8*n) - 1) }

func (m *Machine) push(n int, v uint32) {
	m.set(x86asm.SP, m.get(x86asm.SP)-uint32(n))
	m.store(m.linear(x86asm.SS, m.get(x86asm.SP)), n, v)
}

func (m *Machine) pop(n int) uint32 {
	v := m.load(m.linear(x86asm.SS, m.get(x86asm.SP)), n)
	m.set(x86asm.SP, m.get(x86asm.SP)+uint32(n))
	return v
}
