package demo

import (
	"debug/pe"
	"encoding/binary"
	"math/rand/v2"
)

// Loader is a stand-in for a start-up loader: an EFI application of n bytes (PE/COFF specification; UEFI Specification
// 2.1.1) that returns to the firmware at once, with data that depend on seed.
func Loader(seed uint64, n int) []byte {
	const (
		peAt, codeAt, dataAt = 0x80, 0x400, 0x600
		optionalLen          = 240
		code                 = dataAt - codeAt
	)
	b := make([]byte, max(n, 2*codeAt))
	r := rand.New(rand.NewPCG(seed, 7))
	for i := dataAt; i < len(b); i++ {
		b[i] = byte(r.Uint32())
	}
	data := uint32(len(b) - dataAt)
	le := binary.LittleEndian
	copy(b, "MZ")
	le.PutUint32(b[0x3C:], peAt)
	copy(b[peAt:], "PE\x00\x00")
	h := b[peAt+4:]
	le.PutUint16(h[0:], pe.IMAGE_FILE_MACHINE_AMD64)
	le.PutUint16(h[2:], 2) // sections
	le.PutUint16(h[16:], optionalLen)
	le.PutUint16(h[18:], pe.IMAGE_FILE_EXECUTABLE_IMAGE|pe.IMAGE_FILE_LARGE_ADDRESS_AWARE)
	o := h[20:]
	le.PutUint16(o[0:], 0x20B) // PE32+
	le.PutUint32(o[4:], code)
	le.PutUint32(o[16:], 0x1000) // entry
	le.PutUint32(o[20:], 0x1000)
	le.PutUint32(o[32:], 0x1000) // alignment in memory
	le.PutUint32(o[36:], 0x200)  // and in the file
	le.PutUint32(o[56:], 0x2000+(data+0xFFF)/0x1000*0x1000)
	le.PutUint32(o[60:], codeAt)
	le.PutUint16(o[68:], pe.IMAGE_SUBSYSTEM_EFI_APPLICATION)
	le.PutUint32(o[108:], 16) // data directories, all empty
	section := func(s []byte, name string, size, memory, at, flags uint32) {
		copy(s, name)
		le.PutUint32(s[8:], size)
		le.PutUint32(s[12:], memory)
		le.PutUint32(s[16:], size)
		le.PutUint32(s[20:], at)
		le.PutUint32(s[36:], flags)
	}
	section(o[optionalLen:], ".text", code, 0x1000, codeAt,
		pe.IMAGE_SCN_CNT_CODE|pe.IMAGE_SCN_MEM_EXECUTE|pe.IMAGE_SCN_MEM_READ)
	section(o[optionalLen+40:], ".data", data, 0x2000, dataAt, pe.IMAGE_SCN_CNT_INITIALIZED_DATA|pe.IMAGE_SCN_MEM_READ)
	copy(b[codeAt:], []byte{0x31, 0xC0, 0xC3}) // xor eax, eax; ret: success
	return b
}
