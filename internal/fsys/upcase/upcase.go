// Package upcase makes the table that exFAT and NTFS keep on every volume: the
// upper-case form of each of the 65,536 UTF-16 units, by which names are compared.
//
// The mapping is Unicode's simple upper-case mapping (UnicodeData.txt, field 12)
// where it stays within one unit. Pairs that Unicode added after its version 5.2
// are left out, as the systems that read these volumes do.
package upcase

import (
	"sync"
	"unicode"
)

// later are the stretches whose case pairs are younger than Unicode 5.2 or that
// no current system folds.
var later = [][2]rune{
	{0x023F, 0x0240}, {0x0252, 0x0252}, {0x025C, 0x025C}, {0x0261, 0x0261}, {0x0265, 0x0266}, {0x026A, 0x026A},
	{0x026C, 0x026C},
	{0x0282, 0x0282}, {0x0287, 0x0287}, {0x029D, 0x029E}, {0x0345, 0x0345}, {0x03F3, 0x03F3},
	{0x0524, 0x052F}, {0x10D0, 0x10FF}, {0x13F8, 0x13FD}, {0x1C80, 0x1C8F}, {0x1D8E, 0x1D8E}, {0x1E9B, 0x1E9B},
	{0x1FBE, 0x1FBE},
	{0x2C2F, 0x2C2F}, {0x2C5F, 0x2C5F}, {0x2CEB, 0x2CF3}, {0x2D27, 0x2D2D}, {0xA660, 0xA661}, {0xA698, 0xA721},
	{0xA78D, 0xABBF},
}

// single are units that have an upper case and keep their own: folding
// them would make two different old names equal.
var single = map[rune]bool{0x00B5: true, 0x0131: true, 0x017F: true, 0x03C2: true, 0x03D0: true, 0x03D1: true,
	0x03D5: true, 0x03D6: true, 0x03F0: true, 0x03F1: true, 0x03F5: true,
	0x01C5: true, 0x01C8: true, 0x01CB: true, 0x01F2: true}

var table = sync.OnceValue(func() *[1 << 16]uint16 {
	t := new([1 << 16]uint16)
	for i := range t {
		r := rune(i)
		t[i] = uint16(i)
		if up := unicode.ToUpper(r); up != r && up < 1<<16 && !isLater(r) && !single[r] {
			t[i] = uint16(up)
		}
	}
	return t
})

func isLater(r rune) bool {
	for _, s := range later {
		if r >= s[0] && r <= s[1] {
			return true
		}
	}
	return false
}

// Table gives the upper-case unit of every UTF-16 unit. It must not be changed.
func Table() *[1 << 16]uint16 { return table() }
