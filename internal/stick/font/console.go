package font

import (
	"fmt"
	"os"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Screen are the characters beyond ASCII that the full screen draws with, the letters of names aside.
const Screen = "·×°…–—‘’“”•»«‹›‼←↑→↓↵⇥↹⋯≈≠≤≥−√⏸─━│" +
	"┃┆┈┌┐└┘├┤┬┴┼╌╎╭╮╯╰╳╴╶▀▁▂▃▄▅▆▇█▌▏▐░" +
	"▒▓▔▕▚▞■□▪▲▶▸►▼▾◀◂◄◆○●◐✓✗⧗�"

// letters are those of names, the most usual ones first.
func letters(yield func(rune) bool) {
	for _, block := range [][2]rune{{0xA1, 0xFF}, {0x100, 0x17F}, {0x401, 0x45F}, {0x386, 0x3CE}, {0x218, 0x21B}} {
		for r := block[0]; r <= block[1]; r++ {
			if !yield(r) {
				return
			}
		}
	}
}

// pair is a character's place in the console's font and its code point (linux/kd.h, struct unipair).
type pair struct{ code, place uint16 }

// rowsOf is how many rows a character has in what the console takes, however high it is.
const rowsOf = 32

// layOut puts the font together for a console that takes so many characters: ASCII at its own places, those of the
// screen, and as many letters as there is room for.
func (f *Font) layOut(most int) (data []byte, pairs []pair) {
	size := (f.Width + 7) / 8
	data = make([]byte, most*rowsOf*size)
	placed := map[rune]bool{}
	put := func(place int, r rune) {
		copy(data[place*rowsOf*size:], f.glyph(r))
		pairs = append(pairs, pair{uint16(r), uint16(place)})
		placed[r] = true
	}
	for r := ' '; r <= '~'; r++ {
		if f.Has(r) {
			put(int(r), r)
		}
	}
	free := 0
	add := func(r rune) bool {
		if free == ' ' {
			free = 0x7F // the places of ASCII are taken
		}
		if placed[r] || !f.Has(r) {
			return true
		}
		if free >= most {
			return false
		}
		put(free, r)
		free++
		return true
	}
	for _, r := range Screen {
		add(r)
	}
	letters(add)
	return data, pairs
}

// operation is linux/kd.h, struct console_font_op.
type operation struct {
	op, flags, width, height, count uint32
	data                            unsafe.Pointer
}

// mapping is linux/kd.h, struct unimapdesc.
type mapping struct {
	count uint16
	pairs unsafe.Pointer
}

// Of the console's ioctls (linux/kd.h).
const (
	fontOp       = 0x4B72
	clearMapping = 0x4B68
	setMapping   = 0x4B67
)

// Places are how many characters consoles take: one that shows text without drawing it needs a bit of each character's
// colour for more.
const Places, FewPlaces = 512, 256

// Use gives a console the font.
func (f *Font) Use(tty *os.File, places int) error {
	data, pairs := f.layOut(places)
	var pin runtime.Pinner
	defer pin.Unpin()
	pin.Pin(&data[0])
	pin.Pin(&pairs[0])
	op := operation{width: uint32(f.Width), height: uint32(f.Height), count: uint32(places),
		data: unsafe.Pointer(&data[0])}
	if err := ioctl(tty, fontOp, unsafe.Pointer(&op)); err != nil {
		return fmt.Errorf("the console takes no font of %d × %d pixels: %w", f.Width, f.Height, err)
	}
	var hints [3]uint16
	_ = ioctl(tty, clearMapping, unsafe.Pointer(&hints))
	m := mapping{count: uint16(len(pairs)), pairs: unsafe.Pointer(&pairs[0])}
	if err := ioctl(tty, setMapping, unsafe.Pointer(&m)); err != nil {
		return fmt.Errorf("the console doesn't take which characters its font has: %w", err)
	}
	return nil
}

func ioctl(tty *os.File, request uintptr, arg unsafe.Pointer) error {
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, tty.Fd(), request, uintptr(arg)); errno != 0 {
		return errno
	}
	return nil
}
