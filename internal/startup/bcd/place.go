package bcd

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"

	"twinshelf/internal/table"
)

var le = binary.LittleEndian

// An element that says where something is begins with the ID of an object with options, and goes on with a device. A
// device is its kind, flags and length, and what the kind needs; of a part on a disk that is the part (its GUID, or its
// first byte on the disk), and the disk: a hard one, the kind of its table, and its GUID or signature. Files on parts
// and images in memory have such devices in themselves.
const (
	deviceKind   = 16 // in the element
	deviceHead   = 32
	devicePart   = 6
	deviceBoot   = 5
	deviceLocate = 8

	// From the device's beginning.
	partFlags = 4
	partLen   = 8
	partZero  = 12
	partID    = 16
	partDisk  = 32
	partTable = 36
	partOwner = 40
	partSize  = 72
	tableGPT  = 0
	tableMBR  = 1
)

// Place is a part of a disk as a store names it.
type Place struct {
	Kind table.Kind // GPT or MBR
	Disk string     // its GUID, or its signature in eight hex digits
	Part string     // its GUID on a GPT
	At   int64      // its first byte on an MBR
}

// String names it in words.
func (p Place) String() string {
	if p.Kind == table.GPT {
		return "the part " + p.Part
	}
	return fmt.Sprintf("the part at byte %d of the disk %s", p.At, p.Disk)
}

// places finds devices that are parts, anywhere in an element.
func places(b []byte) (out []int) {
	for at := deviceKind; at+partSize <= len(b); at += 4 {
		d := b[at:]
		t := le.Uint32(d[partTable:])
		if le.Uint32(d) == devicePart && le.Uint32(d[partLen:]) == partSize && le.Uint32(d[partZero:]) == 0 &&
			le.Uint32(d[partDisk:]) == 0 && (t == tableGPT || t == tableMBR) {
			out = append(out, at)
		}
	}
	return out
}

func placeAt(d []byte) Place {
	if le.Uint32(d[partTable:]) == tableGPT {
		return Place{Kind: table.GPT, Disk: table.GUIDString(d[partOwner:]), Part: table.GUIDString(d[partID:])}
	}
	return Place{Kind: table.MBR, Disk: fmt.Sprintf("%08x", le.Uint32(d[partOwner:])),
		At: int64(min(le.Uint64(d[partID:]), 1<<62))}
}

// put writes a place over another one. Both are of the same kind of table.
func (p Place) put(d []byte) error {
	if p.Kind == table.MBR && le.Uint32(d[partTable:]) == tableMBR {
		id, err := hex.DecodeString(p.Disk)
		if err != nil || len(id) != 4 {
			return fmt.Errorf("%q can't be the signature of a disk", p.Disk)
		}
		le.PutUint64(d[partID:], uint64(p.At))
		le.PutUint32(d[partOwner:], binary.BigEndian.Uint32(id))
		return nil
	}
	disk, err := table.GUIDBytes(p.Disk)
	if err != nil {
		return err
	}
	part, err := table.GUIDBytes(p.Part)
	if err != nil {
		return err
	}
	if p.Kind != table.GPT || le.Uint32(d[partTable:]) != tableGPT {
		return fmt.Errorf("%s can't stand where it should", p)
	}
	copy(d[partID:], part)
	copy(d[partOwner:], disk)
	return nil
}
