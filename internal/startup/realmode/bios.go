package realmode

import (
	"encoding/binary"
	"fmt"

	"golang.org/x/arch/x86/x86asm"
)

// What the firmware says of its disk (BIOS Enhanced Disk Drive Specification; the older services by their common use).
const (
	heads   = 255
	sectors = 63 // in a track, from 1 on
	maxRead = 128
)

// interrupt is a call of the firmware.
func (m *Machine) interrupt(n byte) error {
	switch n {
	case 0x10: // screen
		if m.get(x86asm.AH) == 0x0E && len(m.text) < maxText {
			m.text = append(m.text, byte(m.get(x86asm.AL)))
		}
	case 0x11:
		m.set(x86asm.AX, 0)
	case 0x12:
		m.set(x86asm.AX, 639)
	case 0x13:
		return m.diskService()
	case 0x16: // keyboard: nobody presses a key
		switch m.get(x86asm.AH) {
		case 0x00, 0x10:
			return stuck("it waits for a key")
		case 0x02:
			m.set(x86asm.AL, 0)
		default:
			m.zero = true
		}
	case 0x18, 0x19:
		return stuck("it gives up and hands back to the firmware")
	case 0x1A: // clock
		if m.get(x86asm.AH) == 0 {
			m.ticks++
			m.set(x86asm.CX, m.ticks>>16)
			m.set(x86asm.DX, m.ticks)
			m.set(x86asm.AL, 0)
		}
	default:
		m.carry = true
	}
	return nil
}

func (m *Machine) diskService() error {
	if d := m.get(x86asm.DL); d != drive {
		return m.failed(0x01)
	}
	m.carry = false
	switch ah := m.get(x86asm.AH); ah {
	case 0x00, 0x0D:
	case 0x02:
		return m.readTracks()
	case 0x08:
		m.set(x86asm.CX, 0xFF00|0xC0|sectors)
		m.set(x86asm.DX, (heads-1)<<8|1)
	case 0x15:
		m.set(x86asm.AX, 0x0300)
		m.set(x86asm.CX, 0xFFFF)
		m.set(x86asm.DX, 0xFFFF)
		return nil
	case 0x41:
		m.set(x86asm.BX, 0xAA55)
		m.set(x86asm.AX, 0x3000)
		m.set(x86asm.CX, 7)
		return nil
	case 0x42:
		return m.readPacket()
	case 0x48:
		at := m.linear(x86asm.DS, m.get(x86asm.SI))
		m.store(at+24, 2, sector)
	default:
		return m.failed(0x01)
	}
	m.set(x86asm.AH, 0)
	return nil
}

// failed gives an error back to the code, which may try otherwise.
func (m *Machine) failed(code uint32) error {
	m.carry = true
	m.set(x86asm.AH, code)
	return nil
}

// readTracks reads by cylinder, head and sector.
func (m *Machine) readTracks() error {
	cx := m.get(x86asm.CX)
	cylinder, head, first := int64(cx>>8|cx&0xC0<<2), int64(m.get(x86asm.DH)), int64(cx&0x3F)
	if first == 0 || head >= heads {
		return m.failed(0x04)
	}
	return m.read((cylinder*heads+head)*sectors+first-1, int(m.get(x86asm.AL)), m.linear(x86asm.ES, m.get(x86asm.BX)))
}

// readPacket reads by number of sector, as a packet in memory says.
func (m *Machine) readPacket() error {
	at := m.linear(x86asm.DS, m.get(x86asm.SI))
	if m.load(at, 1) < 0x10 {
		return m.failed(0x01)
	}
	to := (int(m.load(at+6, 2))<<4 + int(m.load(at+4, 2))) % memory
	first := int64(uint64(m.load(at+8, 4)) | uint64(m.load(at+12, 4))<<32)
	return m.read(first, int(m.load(at+2, 2)), to)
}

func (m *Machine) read(first int64, n, to int) error {
	if n == 0 || n > maxRead || to+n*sector > len(m.mem) || first < 0 {
		return m.failed(0x01)
	}
	if to < loadAt+sector && to+n*sector > loadAt && m.linear(x86asm.CS, m.ip) >= loadAt &&
		m.linear(x86asm.CS, m.ip) < loadAt+sector {
		return stuck("it loads something over itself")
	}
	b := make([]byte, n*sector)
	if err := m.disk(first, b); err != nil {
		return fmt.Errorf("sector %d, which the start-up code loads: %w", first, err)
	}
	copy(m.mem[to:], b)
	for i := range b {
		m.from[to+i] = first*sector + int64(i) + 1
	}
	m.carry = false
	m.set(x86asm.AH, 0)
	binary.LittleEndian.PutUint16(m.mem[0x441:], 0)
	return nil
}
