package hfsplus

import (
	"encoding/binary"
	"slices"
)

// folds are characters that count as others where case doesn't count (TN1150, Unicode Subtleties, case-folding table):
// from first to last, every step-th one, shifted by so much. No later character of Unicode is folded.
var folds = []struct {
	first, last, step uint16
	by                int32
}{
	{0x0041, 0x005A, 1, 32}, {0x00C6, 0x00C6, 1, 32}, {0x00D0, 0x00D0, 1, 32}, {0x00D8, 0x00D8, 1, 32},
	{0x00DE, 0x00DE, 1, 32}, {0x0110, 0x0110, 1, 1}, {0x0126, 0x0126, 1, 1}, {0x0132, 0x0132, 1, 1},
	{0x013F, 0x0141, 2, 1}, {0x014A, 0x014A, 1, 1}, {0x0152, 0x0152, 1, 1}, {0x0166, 0x0166, 1, 1},
	{0x0181, 0x0181, 1, 210}, {0x0182, 0x0184, 2, 1}, {0x0186, 0x0186, 1, 206}, {0x0187, 0x0187, 1, 1},
	{0x0189, 0x018A, 1, 205}, {0x018B, 0x018B, 1, 1}, {0x018E, 0x018E, 1, 79}, {0x018F, 0x018F, 1, 202},
	{0x0190, 0x0190, 1, 203}, {0x0191, 0x0191, 1, 1}, {0x0193, 0x0193, 1, 205}, {0x0194, 0x0194, 1, 207},
	{0x0196, 0x0196, 1, 211}, {0x0197, 0x0197, 1, 209}, {0x0198, 0x0198, 1, 1}, {0x019C, 0x019C, 1, 211},
	{0x019D, 0x019D, 1, 213}, {0x019F, 0x019F, 1, 214}, {0x01A2, 0x01A4, 2, 1}, {0x01A7, 0x01A7, 1, 1},
	{0x01A9, 0x01A9, 1, 218}, {0x01AC, 0x01AC, 1, 1}, {0x01AE, 0x01AE, 1, 218}, {0x01B1, 0x01B2, 1, 217},
	{0x01B3, 0x01B5, 2, 1}, {0x01B7, 0x01B7, 1, 219}, {0x01B8, 0x01B8, 1, 1}, {0x01BC, 0x01BC, 1, 1},
	{0x01C4, 0x01C4, 1, 2}, {0x01C5, 0x01C5, 1, 1}, {0x01C7, 0x01C7, 1, 2}, {0x01C8, 0x01C8, 1, 1},
	{0x01CA, 0x01CA, 1, 2}, {0x01CB, 0x01CB, 1, 1}, {0x01E4, 0x01E4, 1, 1}, {0x01F1, 0x01F1, 1, 2},
	{0x01F2, 0x01F2, 1, 1}, {0x0391, 0x03A1, 1, 32}, {0x03A3, 0x03A9, 1, 32}, {0x03E2, 0x03EE, 2, 1},
	{0x0402, 0x0404, 2, 80}, {0x0405, 0x0406, 1, 80}, {0x0408, 0x040B, 1, 80}, {0x040F, 0x040F, 1, 80},
	{0x0410, 0x0418, 1, 32}, {0x041A, 0x042F, 1, 32}, {0x0460, 0x0474, 2, 1}, {0x0478, 0x0480, 2, 1},
	{0x0490, 0x04BE, 2, 1}, {0x04C3, 0x04C3, 1, 1}, {0x04C7, 0x04C7, 1, 1}, {0x04CB, 0x04CB, 1, 1},
	{0x0531, 0x0556, 1, 48}, {0x10A0, 0x10C5, 1, 48}, {0x2160, 0x216F, 1, 16}, {0xFF21, 0xFF3A, 1, 32},
}

// ignored are characters that don't count in names.
var ignored = [][2]uint16{{0x200C, 0x200F}, {0x202A, 0x202E}, {0x206A, 0x206F}, {0xFEFF, 0xFEFF}}

// foldTo is what a character of a name counts as; 0 for nothing.
func foldTo(c uint16) uint16 {
	if c == 0 {
		return 0xFFFF // the names of the volume's own folders come last
	}
	i, _ := slices.BinarySearchFunc(folds, c, func(f struct {
		first, last, step uint16
		by                int32
	}, c uint16) int {
		if f.last < c {
			return -1
		}
		return 1
	})
	if i < len(folds) && c >= folds[i].first && (c-folds[i].first)%folds[i].step == 0 {
		return uint16(int32(c) + folds[i].by)
	}
	for _, r := range ignored {
		if c >= r[0] && c <= r[1] {
			return 0
		}
	}
	return c
}

// folded is a name as it counts where case doesn't.
func folded(name []uint16) []uint16 {
	out := make([]uint16, 0, len(name))
	for _, c := range name {
		if c = foldTo(c); c != 0 {
			out = append(out, c)
		}
	}
	return out
}

// unitsOf decodes n characters.
func unitsOf(b []byte, n int) []uint16 {
	out := make([]uint16, n)
	for i := range out {
		out[i] = binary.BigEndian.Uint16(b[2*i:])
	}
	return out
}
