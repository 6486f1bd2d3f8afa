package keys

import (
	"errors"
	"fmt"
	"os"
	"unicode"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Of the kernel's keyboard (linux/keyboard.h, linux/kd.h): kinds of what a key gives, and ioctls.
const (
	kindLatin, kindDead, kindMeta, kindLetter = 0, 4, 8, 11

	nothing = 0x0200 // K_HOLE
	altGrIs = 0x0701 // K_ALTGR

	setEntry   = 0x4B47 // KDSKBENT
	setMode    = 0x4B45 // KDSKBMODE
	setAccents = 0x4BFB // KDSKBDIACRUC
	unicodes   = 3      // K_UNICODE

	rightAlt              = 100
	controls, meta        = 4, 8 // tables
	mostAccents           = 256
	unicodeMark    uint16 = 0xF000
)

// entry is linux/kd.h, struct kbentry.
type entry struct {
	table, code byte
	value       uint16
}

// value is what the kernel calls what a key types; nothing for what it can't have.
func (k Key) value() uint16 {
	switch {
	case k.Rune == 0:
		return nothing
	case k.Dead:
		for _, a := range accents {
			if a.mark == k.Rune {
				return kindDead<<8 | uint16(a.number)
			}
		}
		return nothing
	case k.Rune < 0x100 && unicode.IsLetter(k.Rune) && unicode.ToUpper(k.Rune) != unicode.ToLower(k.Rune):
		return kindLetter<<8 | uint16(k.Rune)
	case k.Rune < 0x80:
		return kindLatin<<8 | uint16(k.Rune)
	case k.Rune >= 0xF000:
		return nothing
	}
	return uint16(k.Rune) ^ unicodeMark
}

// entries are what the kernel is told of the keys that type characters.
func (m *Map) entries() []entry {
	out := []entry{}
	for _, t := range []byte{Plain, Shift} {
		out = append(out, entry{t, rightAlt, altGrIs})
	}
	for code := range codes {
		if !typing(code) {
			continue
		}
		for t := range m {
			out = append(out, entry{byte(t), byte(code), m[t][code].value()})
		}
		plain := m[Plain][code]
		control, alt := uint16(nothing), uint16(nothing)
		if !plain.Dead && plain.Rune > 0 && plain.Rune < 0x80 {
			alt = kindMeta<<8 | uint16(plain.Rune)
			if c := unicode.ToLower(plain.Rune); c >= 'a' && c <= 'z' || c >= '[' && c <= '_' || c == ' ' {
				control = uint16(c & 0x1F)
			}
		}
		out = append(out, entry{controls, byte(code), control}, entry{meta, byte(code), alt})
	}
	return out
}

// accentPairs are which accent makes what of which letter (linux/kd.h, struct kbdiacruc).
func accentPairs() (out [][3]uint32) {
	for _, a := range accents {
		for _, r := range "AEIOUYaeiouyCGLNRSTZcglnrstzDdHhJjWwÆæØø" {
			if c := composed(r, a.mark); c != 0 && len(out) < mostAccents {
				out = append(out, [3]uint32{uint32(a.alone), uint32(r), uint32(c)})
			}
		}
	}
	return out
}

// ErrNoConsole means that there is no console of the kernel's here.
var ErrNoConsole = errors.New("this is no console of the kernel's: its terminal has the keyboard")

// Use gives the kernel a layout; it applies to all its consoles.
func (m *Map) Use(console *os.File) error {
	if _, err := unix.IoctlGetInt(int(console.Fd()), 0x4B44); err != nil { // KDGKBMODE
		return fmt.Errorf("%w (%w)", ErrNoConsole, err)
	}
	if err := unix.IoctlSetInt(int(console.Fd()), setMode, unicodes); err != nil {
		return fmt.Errorf("the console doesn't take characters: %w", err)
	}
	for _, e := range m.entries() {
		if err := ioctl(console, setEntry, unsafe.Pointer(&e)); err != nil {
			return fmt.Errorf("the kernel doesn't take key %d of table %d (%#x): %w", e.code, e.table, e.value, err)
		}
	}
	var set struct {
		count uint32
		pairs [mostAccents][3]uint32
	}
	set.count = uint32(copy(set.pairs[:], accentPairs()))
	if err := ioctl(console, setAccents, unsafe.Pointer(&set)); err != nil {
		return fmt.Errorf("the kernel doesn't take the accents: %w", err)
	}
	return nil
}

func ioctl(f *os.File, request uintptr, arg unsafe.Pointer) error {
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), request, uintptr(arg)); errno != 0 {
		return errno
	}
	return nil
}
