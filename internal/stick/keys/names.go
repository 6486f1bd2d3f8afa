package keys

import (
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/unicode/norm"
)

func isLetter(r rune) bool { return unicode.IsLetter(r) }

func upperOf(r rune) rune { return unicode.ToUpper(r) }

// named are characters by the names that layouts call them.
var named = map[string]rune{"space": ' ', "exclam": '!', "quotedbl": '"', "numbersign": '#', "dollar": '$',
	"percent": '%', "ampersand": '&', "apostrophe": '\'', "parenleft": '(', "parenright": ')', "asterisk": '*',
	"plus": '+', "comma": ',', "minus": '-', "period": '.', "slash": '/', "zero": '0', "one": '1', "two": '2',
	"three": '3', "four": '4', "five": '5', "six": '6', "seven": '7', "eight": '8', "nine": '9', "colon": ':',
	"semicolon": ';', "less": '<', "equal": '=', "greater": '>', "question": '?', "at": '@', "bracketleft": '[',
	"backslash": '\\', "bracketright": ']', "asciicircum": '^', "underscore": '_', "grave": '`', "braceleft": '{',
	"bar": '|', "braceright": '}', "asciitilde": '~', "nobreakspace": 0xA0, "exclamdown": '¡', "cent": '¢',
	"sterling": '£', "currency": '¤', "yen": '¥', "brokenbar": '¦', "section": '§', "diaeresis": '¨', "copyright": '©',
	"ordfeminine": 'ª', "guillemotleft": '«', "notsign": '¬', "hyphen": 0xAD, "registered": '®', "macron": '¯',
	"degree": '°', "plusminus": '±', "twosuperior": '²', "threesuperior": '³', "acute": '´', "mu": 'µ',
	"paragraph": '¶', "periodcentered": '·', "cedilla": '¸', "onesuperior": '¹', "masculine": 'º',
	"guillemotright": '»', "onequarter": '¼', "onehalf": '½', "threequarters": '¾', "questiondown": '¿', "AE": 'Æ',
	"ae": 'æ', "ETH": 'Ð', "eth": 'ð', "THORN": 'Þ', "thorn": 'þ', "ssharp": 'ß', "multiplication": '×',
	"multiply": '×', "division": '÷', "Ooblique": 'Ø', "Oslash": 'Ø', "oslash": 'ø', "ooblique": 'ø', "euro": '€',
	"Lstroke": 'Ł', "lstroke": 'ł', "Dstroke": 'Đ', "dstroke": 'đ', "idotless": 'ı', "Iabovedot": 'İ', "tilde": '~',
	"caron": 'ˇ', "breve": '˘', "abovedot": '˙', "doubleacute": '˝', "ogonek": '˛', "OE": 'Œ', "oe": 'œ'}

// accents are the marks by the ends of names, and what stands for each alone: the character that the kernel has for
// an accent that waits (drivers/tty/vt/keyboard.c, ret_diacr), with its number.
var accents = []struct {
	name   string
	mark   rune // combining
	alone  rune
	number int // of the kernel's dead keys
}{
	{"grave", 0x300, '`', 0}, {"acute", 0x301, '\'', 1}, {"circumflex", 0x302, '^', 2}, {"tilde", 0x303, '~', 3},
	{"diaeresis", 0x308, '"', 4}, {"cedilla", 0x327, 0xB8, 5}, {"macron", 0x304, '_', 6}, {"breve", 0x306, 'U', 7},
	{"abovedot", 0x307, '.', 8}, {"ring", 0x30A, '*', 9}, {"doubleacute", 0x30B, '=', 10}, {"caron", 0x30C, 'c', 11},
	{"ogonek", 0x328, 'k', 12},
}

// charsets are those in which layouts give characters as numbers.
var charsets = map[string]*charmap.Charmap{"iso-8859-1": charmap.ISO8859_1, "iso-8859-2": charmap.ISO8859_2,
	"iso-8859-9": charmap.ISO8859_9, "iso-8859-15": charmap.ISO8859_15}

// meant is what a name stands for; nothing for names of other keys.
func (r *reader) meant(name string) Key {
	name = strings.TrimPrefix(name, "+") // a letter, to which Caps Lock applies; that follows from the character
	if dead, ok := strings.CutPrefix(name, "dead_"); ok {
		for _, a := range accents {
			if a.name == dead {
				return Key{Rune: a.mark, Dead: true}
			}
		}
		return Key{}
	}
	return Key{Rune: r.character(name)}
}

func (r *reader) character(name string) rune {
	if c, ok := named[name]; ok {
		return c
	}
	if len(name) == 1 && name[0] > ' ' && name[0] < 0x7F {
		return rune(name[0])
	}
	if hex, ok := strings.CutPrefix(name, "U+"); ok {
		if n, err := strconv.ParseUint(hex, 16, 16); err == nil && n >= ' ' {
			return rune(n)
		}
		return 0
	}
	if hex, ok := strings.CutPrefix(name, "0x"); ok {
		n, err := strconv.ParseUint(hex, 16, 8)
		set := charsets[r.charset]
		if err != nil || n < ' ' {
			return 0
		}
		if set == nil {
			return rune(n)
		}
		return set.DecodeByte(byte(n))
	}
	if len(name) < 2 || name[0] >= 0x80 || !isLetter(rune(name[0])) {
		return 0
	}
	for _, a := range accents { // such as eacute
		if name[1:] == a.name {
			return composed(rune(name[0]), a.mark)
		}
	}
	return 0
}

// composed is a letter with a mark as one character; 0 where there is none.
func composed(letter, mark rune) rune {
	s := []rune(norm.NFC.String(string([]rune{letter, mark})))
	if len(s) != 1 {
		return 0
	}
	return s[0]
}
