// Package font makes the font that the full screen has on a machine's own console: the characters of a package's
// console font, and the shapes that the screen draws with and such fonts lack.
package font

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"unicode/utf8"
)

// ErrFormat means that a font can't be read.
var ErrFormat = errors.New("it is no console font")

// Font has its characters as rows of pixels, each row (Width+7)/8 bytes, the leftmost pixel in the highest bit.
type Font struct {
	Width, Height int // pixels
	glyphs        map[rune][]byte
}

// Bounds of what is read: characters of a font, code points of a character, and pixels of each direction.
const (
	mostGlyphs = 4096
	mostNames  = 64
	mostPixels = 32 // the console takes no more
)

// Parse reads a PC screen font, version 1 or 2, with its table of code points (as the kbd tools' psf.h describes it).
func Parse(b []byte) (*Font, error) {
	switch {
	case bytes.HasPrefix(b, []byte{0x36, 0x04}):
		return parse1(b)
	case bytes.HasPrefix(b, []byte{0x72, 0xB5, 0x4A, 0x86}):
		return parse2(b)
	}
	return nil, ErrFormat
}

// Marks of version 1's table: the end of a character's code points, and the beginning of a sequence.
const end1, sequence1 = 0xFFFF, 0xFFFE

func parse1(b []byte) (*Font, error) {
	const head = 4
	if len(b) < head {
		return nil, fmt.Errorf("%w: it ends in its head", ErrFormat)
	}
	mode, size := b[2], int(b[3])
	n := 256
	if mode&1 != 0 {
		n = 512
	}
	if mode&6 == 0 {
		return nil, fmt.Errorf("%w: it doesn't say which characters it has", ErrFormat)
	}
	f, table, err := cut(b, head, n, 8, size, size)
	if err != nil {
		return nil, err
	}
	at := 0
	for i := range n {
		single := true
		for range mostNames {
			if at+2 > len(table) {
				return nil, fmt.Errorf("%w: its table ends early", ErrFormat)
			}
			c := binary.LittleEndian.Uint16(table[at:])
			if at += 2; c == end1 {
				break
			}
			if single = single && c != sequence1; single {
				f.name(rune(c), b[head+i*size:][:size])
			}
		}
	}
	return f, nil
}

// Marks of version 2's table.
const end2, sequence2 = 0xFF, 0xFE

func parse2(b []byte) (*Font, error) {
	const headLeast = 32
	if len(b) < headLeast {
		return nil, fmt.Errorf("%w: it ends in its head", ErrFormat)
	}
	field := func(i int) int { return int(binary.LittleEndian.Uint32(b[4*i:])) }
	head, flags, n, size, height, width := field(2), field(3), field(4), field(5), field(6), field(7)
	if flags&1 == 0 {
		return nil, fmt.Errorf("%w: it doesn't say which characters it has", ErrFormat)
	}
	f, table, err := cut(b, head, n, width, height, size)
	if err != nil {
		return nil, err
	}
	for i := range n {
		line, rest, ended := bytes.Cut(table, []byte{end2})
		if !ended {
			return nil, fmt.Errorf("%w: its table ends early", ErrFormat)
		}
		table = rest
		if at := bytes.IndexByte(line, sequence2); at >= 0 {
			line = line[:at]
		}
		for range mostNames {
			r, k := utf8.DecodeRune(line)
			if k == 0 || r == utf8.RuneError {
				break
			}
			line = line[k:]
			f.name(r, b[head+i*size:][:size])
		}
	}
	return f, nil
}

// cut checks what a head says, and gives the table that comes after the characters.
func cut(b []byte, head, n, width, height, size int) (*Font, []byte, error) {
	if width < 1 || width > mostPixels || height < 1 || height > mostPixels || size != height*((width+7)/8) {
		return nil, nil, fmt.Errorf("%w: characters of %d × %d pixels in %d bytes can't be", ErrFormat, width, height,
			size)
	}
	if n < 1 || n > mostGlyphs || head < 4 || head > len(b) || head+n*size > len(b) {
		return nil, nil, fmt.Errorf("%w: it ends before its %d characters do", ErrFormat, n)
	}
	return &Font{Width: width, Height: height, glyphs: map[rune][]byte{}}, b[head+n*size:], nil
}

func (f *Font) name(r rune, rows []byte) {
	if _, has := f.glyphs[r]; !has {
		f.glyphs[r] = rows
	}
}

// Has says whether the font has a character, of its own or as a shape that is drawn.
func (f *Font) Has(r rune) bool {
	_, has := f.glyphs[r]
	return has || drawn(r, f.Width, f.Height) != nil
}

// glyph is a character's rows; the shapes fill their cell to its edges, so they come first.
func (f *Font) glyph(r rune) []byte {
	if g := drawn(r, f.Width, f.Height); g != nil {
		return g
	}
	return f.glyphs[r]
}

// Small and Large are the fonts of the package console-setup-linux that the screen's are made from, below
// usr/share/consolefonts.
const Small, Large = "Uni2-Terminus16.psf.gz", "Uni2-Terminus32x16.psf.gz"
