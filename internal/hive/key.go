package hive

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/units"
)

// Key is a key of a hive.
type Key struct {
	h *Hive
	b []byte
}

// Root is the topmost key.
func (h *Hive) Root() (Key, error) { return h.key(le.Uint32(h.head[headRoot:])) }

func (h *Hive) key(at uint32) (Key, error) {
	b, err := h.cell(at, keyName, keyMark)
	if err != nil {
		return Key{}, err
	}
	if n := int(le.Uint16(b[keyNameLen:])); n > mostName || keyName+n > len(b) {
		return Key{}, fmt.Errorf("the name of the key at %#x has %d bytes", at, n)
	}
	return Key{h, b}, nil
}

// Name is the key's name.
func (k Key) Name() string {
	n := int(le.Uint16(k.b[keyNameLen:]))
	return text(k.b[keyName:keyName+n], le.Uint16(k.b[keyFlags:])&keyNarrow != 0)
}

// text is a name: of characters of one byte (ISO 8859-1), or of UTF-16.
func text(b []byte, narrow bool) string {
	if narrow {
		out := make([]rune, len(b))
		for i, c := range b {
			out[i] = rune(c)
		}
		return string(out)
	}
	return Wide(b)
}

// Wide is text in UTF-16, up to its end or the first NUL.
func Wide(b []byte) string {
	out := make([]uint16, 0, len(b)/2)
	for i := 0; i+1 < len(b); i += 2 {
		c := le.Uint16(b[i:])
		if c == 0 {
			break
		}
		out = append(out, c)
	}
	return string(utf16.Decode(out))
}

// Keys are those below the key, in the file's order.
func (k Key) Keys() ([]Key, error) {
	n, at := le.Uint32(k.b[keyCount:]), le.Uint32(k.b[keyList:])
	if n == 0 {
		return nil, nil
	}
	if n > mostKeys {
		return nil, fmt.Errorf("%q has %d keys", units.Visible(k.Name()), n)
	}
	places, err := k.h.list(at, int(n), 0)
	if err != nil {
		return nil, err
	}
	if len(places) != int(n) {
		return nil, fmt.Errorf("%q lists %d keys, and should have %d", units.Visible(k.Name()), len(places), n)
	}
	out := make([]Key, len(places))
	for i, at := range places {
		if out[i], err = k.h.key(at); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// list reads a list of at most so many keys (Index leaf, Fast leaf, Hash leaf, Index root).
func (h *Hive) list(at uint32, most, depth int) ([]uint32, error) {
	b, err := h.cell(at, listEntries, "")
	if err != nil {
		return nil, err
	}
	n, step := int(le.Uint16(b[listCount:])), 4
	mark := string(b[:2])
	if mark == "lf" || mark == "lh" {
		step = 8
	}
	if listEntries+n*step > len(b) || n > most {
		return nil, fmt.Errorf("the list of keys at %#x has %d entries", at, n)
	}
	var out []uint32
	for i := range n {
		e := le.Uint32(b[listEntries+i*step:])
		switch {
		case mark == "lf" || mark == "lh" || mark == "li":
			out = append(out, e)
		case mark == "ri" && depth == 0:
			some, err := h.list(e, most-len(out), depth+1)
			if err != nil {
				return nil, err
			}
			out = append(out, some...)
		default:
			return nil, fmt.Errorf("at %#x there is no list of keys, but %q", at, mark)
		}
	}
	return out, nil
}

// Find is the key at a path below, whose names stand between backslashes; fs.ErrNotExist where there is none. Upper and
// lower case are the same.
func (k Key) Find(path string) (Key, error) {
	for name := range strings.SplitSeq(path, `\`) {
		all, err := k.Keys()
		if err != nil {
			return Key{}, err
		}
		i := slices.IndexFunc(all, func(x Key) bool { return strings.EqualFold(x.Name(), name) })
		if i < 0 {
			return Key{}, fmt.Errorf("%s: %w", path, fs.ErrNotExist)
		}
		k = all[i]
	}
	return k, nil
}

// Find is the key at a path from the root on; see Key.Find.
func (h *Hive) Find(path string) (Key, error) {
	root, err := h.Root()
	if err != nil {
		return Key{}, err
	}
	return root.Find(path)
}
