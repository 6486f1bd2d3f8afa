// Package swap knows Linux swap areas (mkswap(8), the kernel's
// include/linux/swap.h, union swap_header). Only the header page matters: with it
// the area works again after a restore, and its contents belong to a system
// that no longer runs.
package swap

import (
	"encoding/binary"
	"fmt"
	"io"
	"iter"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Family makes swap areas known.
func Family() fsys.Family { return fsys.Family{Name: "swap", Probe: Probe} }

// Offsets in the header, which begins at byte 1024 (swap_header.info).
const (
	offVersion  = 1024
	offLastPage = 1028
	offUUID     = 1036
	offLabel    = 1052
	magicLen    = 10
)

// hibernated are the signatures that stand in the place of the swap magic while
// a sleeping system is kept in the area.
var hibernated = []string{"S1SUSPEND", "S2SUSPEND", "ULSUSPEND", "LINHIB0001"}

type volume struct {
	info fsys.Info
	page int64
}

// Probe recognises a swap area with pages of 4 to 64 KiB.
func Probe(r io.ReaderAt, size int64, _ int) (fsys.Volume, error) {
	for page := int64(4096); page <= 65536; page *= 2 {
		if size < 2*page {
			return nil, nil
		}
		magic := make([]byte, magicLen)
		if _, err := r.ReadAt(magic, page-magicLen); err != nil {
			return nil, nil // unreadable: for the capture to say
		}
		asleep := ""
		for _, h := range hibernated {
			if strings.HasPrefix(string(magic), h) {
				asleep = "it holds a hibernated system"
			}
		}
		if string(magic) != "SWAPSPACE2" && asleep == "" {
			continue
		}
		h := make([]byte, page)
		if _, err := r.ReadAt(h, 0); err != nil {
			return nil, err
		}
		le := binary.LittleEndian
		if v := le.Uint32(h[offVersion:]); v != 1 && asleep == "" {
			return nil, fmt.Errorf("swap header of version %d is not known", v)
		}
		length := (int64(le.Uint32(h[offLastPage:])) + 1) * page
		u := h[offUUID:]
		return &volume{page: page, info: fsys.Info{
			Kind: "swap", Swap: true, Size: min(length, size), Unit: page, Unclean: asleep,
			ID: fmt.Sprintf("%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:16]),
			Label: units.Visible(strings.ToValidUTF8(strings.TrimRight(string(h[offLabel:offLabel+16]), "\x00"),
				"\uFFFD")),
		}}, nil
	}
	return nil, nil
}

func (v *volume) Info() fsys.Info { return v.info }

// Used yields the header page and nothing else.
func (v *volume) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) { yield(span.Span{End: min(v.page, v.info.Size)}, nil) }
}

// Omissions names the swapped-out memory.
func (v *volume) Omissions() ([]fsys.Omission, error) {
	return []fsys.Omission{{What: "swapped-out memory", Why: "it belongs to a system that no longer runs; the " +
		"header is kept", Bytes: v.info.Size - v.page}}, nil
}
