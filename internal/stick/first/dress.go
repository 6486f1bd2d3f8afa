package first

import (
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/font"
)

// The large font is taken where the screen has room for so many of its characters.
const leastColumns, leastRows = 120, 30

// mostFont bounds a font file, in bytes.
const mostFont = 1 << 20

// awake keeps a console from going dark by itself, in the middle of a run (console_codes(4): blanking, powering down).
const awake = "\x1b[9;0]\x1b[14;0]"

// dress gives the screen's console its font. Without one the kernel's own stays, and the screen is drawn with the few
// characters that every font has.
func dress(path string) error {
	tty, err := os.OpenFile(path, os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		return err
	}
	defer tty.Close()
	if _, err := io.WriteString(tty, awake); err != nil {
		return err
	}
	name, places := fontFor("/sys")
	f, err := readFont(filepath.Join("/", base.FontsDir, name))
	if err == nil {
		err = f.Use(tty, places)
	}
	if err != nil {
		return fmt.Errorf("the screen is drawn with the characters of the kernel's own font: %w", err)
	}
	return nil
}

// screenOf is something that is another one once another driver has the display.
func screenOf(sys string) string {
	name, _ := os.ReadFile(filepath.Join(sys, "class/graphics/fb0/name"))
	size, _ := os.ReadFile(filepath.Join(sys, "class/graphics/fb0/virtual_size"))
	return string(name) + string(size)
}

// fontFor chooses a font by the size of the screen, and how many characters it may have.
func fontFor(sys string) (name string, places int) {
	b, err := os.ReadFile(filepath.Join(sys, "class/graphics/fb0/virtual_size"))
	if err != nil { // text that the hardware draws
		return font.Small, font.FewPlaces
	}
	w, h, _ := strings.Cut(strings.TrimSpace(string(b)), ",")
	wide, _ := strconv.Atoi(w)
	high, _ := strconv.Atoi(h)
	if wide/16 >= leastColumns && high/32 >= leastRows {
		return font.Large, font.Places
	}
	return font.Small, font.Places
}

func readFont(path string) (*font.Font, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		return nil, err
	}
	b, err := io.ReadAll(io.LimitReader(z, mostFont))
	if err != nil {
		return nil, err
	}
	return font.Parse(b)
}

// Sizes of a terminal that doesn't say its own, and those that are believed.
const (
	usualColumns, usualRows = 80, 24
	mostColumns, mostRows   = 500, 200
	// answers is how long a terminal gets to say where its cursor is.
	answers = time.Second
)

// measure asks the terminal at the other end of a serial line how large it is, and tells the kernel.
func measure(tty *os.File) {
	rows, columns := asked(tty)
	_ = unix.IoctlSetWinsize(int(tty.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: uint16(rows), Col: uint16(columns)})
}

// asked sends the cursor as far as it goes and asks where it is (ECMA-48, CUP and DSR).
func asked(tty *os.File) (rows, columns int) {
	fd := int(tty.Fd())
	old, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil {
		return usualRows, usualColumns
	}
	raw := *old
	raw.Lflag &^= unix.ICANON | unix.ECHO
	raw.Cc[unix.VMIN], raw.Cc[unix.VTIME] = 0, 1 // tenths of a second
	if unix.IoctlSetTermios(fd, unix.TCSETS, &raw) != nil {
		return usualRows, usualColumns
	}
	defer func() { _ = unix.IoctlSetTermios(fd, unix.TCSETS, old) }()
	if _, err := io.WriteString(tty, "\x1b7\x1b[999;999H\x1b[6n\x1b8"); err != nil {
		return usualRows, usualColumns
	}
	var said []byte
	b := make([]byte, 32)
	for until := time.Now().Add(answers); time.Now().Before(until); {
		n, _ := unix.Read(fd, b)
		said = append(said, b[:max(0, n)]...)
		if rows, columns, ok := reported(said); ok {
			return rows, columns
		}
	}
	return usualRows, usualColumns
}

// reported reads where a terminal says that its cursor is.
func reported(said []byte) (rows, columns int, ok bool) {
	text := string(said)
	begin := strings.LastIndex(text, "\x1b[")
	end := strings.LastIndexByte(text, 'R')
	if begin < 0 || end < begin {
		return 0, 0, false
	}
	r, c, found := strings.Cut(text[begin+2:end], ";")
	rows, errRows := strconv.Atoi(r)
	columns, errColumns := strconv.Atoi(c)
	ok = found && errRows == nil && errColumns == nil && rows > 0 && columns > 0 && rows <= mostRows &&
		columns <= mostColumns
	return rows, columns, ok
}
