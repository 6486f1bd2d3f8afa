// Package windows reads what a Windows says of itself in its registry: which letters its drives have, which drivers it
// loads when it starts, what it is and when it was used. It changes some of that in place.
package windows

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"

	"twinshelf/internal/hive"
	"twinshelf/internal/startup/bcd"
	"twinshelf/internal/table"
)

var le = binary.LittleEndian

// A Windows' list of what its letters and volumes are: the signature of a disk and the first byte of a part on an MBR,
// or a mark and the GUID of a part on a GPT.
const (
	mounted    = "MountedDevices"
	byLetter   = `\DosDevices\`
	letterMBR  = 12 // bytes
	letterMark = "DMIO:ID:"
	letterGPT  = len(letterMark) + 16
)

// Drive is something in that list. On a GPT the disk isn't named.
type Drive struct {
	bcd.Place
	Letter string // "C:"; empty where the volume only has a name
	v      hive.Value
}

// Drives are those parts of disks that a Windows knows, by its registry file SYSTEM; fs.ErrNotExist where it has no
// list.
func Drives(h *hive.Hive) ([]Drive, error) {
	k, err := h.Find(mounted)
	if err != nil {
		return nil, err
	}
	all, err := k.Values()
	if err != nil {
		return nil, err
	}
	var out []Drive
	for _, v := range all {
		b, err := v.Bytes()
		if err != nil {
			return nil, err
		}
		d := Drive{v: v}
		if rest, is := strings.CutPrefix(v.Name(), byLetter); is {
			d.Letter = rest
		}
		switch {
		case len(b) == letterMBR:
			d.Place = bcd.Place{Kind: table.MBR, Disk: fmt.Sprintf("%08x", le.Uint32(b)),
				At: int64(min(le.Uint64(b[4:]), 1<<62))}
		case len(b) == letterGPT && string(b[:len(letterMark)]) == letterMark:
			d.Place = bcd.Place{Kind: table.GPT, Part: table.GUIDString(b[len(letterMark):])}
		default:
			continue // a drive for discs, or one of another kind
		}
		out = append(out, d)
	}
	return out, nil
}

// Set has the letter or name mean another place, of the same kind of table.
func (d Drive) Set(to bcd.Place) error {
	if to.Kind != d.Kind {
		return fmt.Errorf("%s can't stand where a drive on another kind of table does", to)
	}
	if to.Kind == table.GPT {
		id, err := table.GUIDBytes(to.Part)
		if err != nil {
			return err
		}
		return d.v.Set(append([]byte(letterMark), id...))
	}
	id, err := hex.DecodeString(to.Disk)
	if err != nil || len(id) != 4 {
		return fmt.Errorf("%q can't be the signature of a disk", to.Disk)
	}
	return d.v.Set(le.AppendUint64(le.AppendUint32(nil, binary.BigEndian.Uint32(id)), uint64(to.At)))
}
