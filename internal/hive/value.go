package hive

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/units"
)

// Value is a value of a key.
type Value struct {
	h  *Hive
	at uint32
	b  []byte
}

// Values are those of the key, in the file's order.
func (k Key) Values() ([]Value, error) {
	n, at := le.Uint32(k.b[keyValues:]), le.Uint32(k.b[keyValueAt:])
	if n == 0 {
		return nil, nil
	}
	if n > mostValues {
		return nil, fmt.Errorf("%q has %d values", units.Visible(k.Name()), n)
	}
	list, err := k.h.cell(at, 4*int(n), "")
	if err != nil {
		return nil, err
	}
	out := make([]Value, n)
	for i := range out {
		at := le.Uint32(list[4*i:])
		b, err := k.h.cell(at, valueName, valueMark)
		if err != nil {
			return nil, err
		}
		if n := int(le.Uint16(b[valueNameLen:])); valueName+n > len(b) {
			return nil, fmt.Errorf("the name of the value at %#x has %d bytes", at, n)
		}
		out[i] = Value{k.h, at, b}
	}
	return out, nil
}

// Value is one of the key's values, by its name in whatever case; fs.ErrNotExist where there is none.
func (k Key) Value(name string) (Value, error) {
	all, err := k.Values()
	if err != nil {
		return Value{}, err
	}
	i := slices.IndexFunc(all, func(v Value) bool { return strings.EqualFold(v.Name(), name) })
	if i < 0 {
		return Value{}, fmt.Errorf("%s in %s: %w", name, units.Visible(k.Name()), fs.ErrNotExist)
	}
	return all[i], nil
}

// Name is the value's name; empty for the key's own one.
func (v Value) Name() string {
	n := int(le.Uint16(v.b[valueNameLen:]))
	return text(v.b[valueName:valueName+n], le.Uint16(v.b[valueFlags:])&valueNarrow != 0)
}

// Kind is what its bytes are, such as Text.
func (v Value) Kind() uint32 { return le.Uint32(v.b[valueKind:]) }

// Bytes is what it holds.
func (v Value) Bytes() ([]byte, error) {
	out := []byte{}
	err := v.pieces(func(_ int64, b []byte) error {
		out = append(out, b...)
		return nil
	})
	return out, err
}

// pieces calls do with all of its bytes, and where in the bins they lie.
func (v Value) pieces(do func(at int64, b []byte) error) error {
	n, at := le.Uint32(v.b[valueLen:]), le.Uint32(v.b[valueAt:])
	switch {
	case n&valueHere != 0:
		if n &^= valueHere; n > 4 {
			return fmt.Errorf("the value %q has %d bytes in the place of four", units.Visible(v.Name()), n)
		}
		return do(int64(v.at)+cellHead+valueAt, v.b[valueAt:valueAt+n])
	case n == 0:
		return nil
	case n > mostCell:
		return fmt.Errorf("the value %q has %d bytes", units.Visible(v.Name()), n)
	case n > bigSegment && le.Uint32(v.h.head[headMinor:]) >= minorBig:
		return v.segments(int64(n), at, do)
	}
	b, err := v.h.cell(at, int(n), "")
	if err != nil {
		return err
	}
	return do(int64(at)+cellHead, b[:n])
}

// segments are the pieces of a large value.
func (v Value) segments(n int64, at uint32, do func(at int64, b []byte) error) error {
	big, err := v.h.cell(at, bigLen, bigMark)
	if err != nil {
		return err
	}
	count := int64(le.Uint16(big[bigCount:]))
	if want := (n + bigSegment - 1) / bigSegment; count != want {
		return fmt.Errorf("the value %q of %d bytes lies in %d segments", units.Visible(v.Name()), n, count)
	}
	list, err := v.h.cell(le.Uint32(big[bigList:]), int(4*count), "")
	if err != nil {
		return err
	}
	for i := range count {
		some, at := min(bigSegment, n-i*bigSegment), le.Uint32(list[4*i:])
		b, err := v.h.cell(at, int(some), "")
		if err != nil {
			return err
		}
		if err := do(int64(at)+cellHead, b[:some]); err != nil {
			return err
		}
	}
	return nil
}

// ErrKind means that a value isn't of the kind that was asked for.
var ErrKind = errors.New("the value is of another kind")

// Text is a text.
func (v Value) Text() (string, error) {
	b, err := v.Bytes()
	if err == nil && v.Kind() != Text && v.Kind() != Expand {
		err = fmt.Errorf("%s: %w", v.Name(), ErrKind)
	}
	return Wide(b), err
}

// Texts are several ones.
func (v Value) Texts() ([]string, error) {
	b, err := v.Bytes()
	if err == nil && v.Kind() != Texts {
		err = fmt.Errorf("%s: %w", v.Name(), ErrKind)
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for len(b) > 1 {
		s := Wide(b)
		if s == "" {
			break
		}
		out = append(out, s)
		b = b[min(len(b), 2*len(utf16.Encode([]rune(s)))+2):]
	}
	return out, nil
}

// Word is a number of 32 bits.
func (v Value) Word() (uint32, error) {
	b, err := v.Bytes()
	if err == nil && (v.Kind() != Word || len(b) != 4) {
		err = fmt.Errorf("%s: %w", v.Name(), ErrKind)
	}
	if err != nil {
		return 0, err
	}
	return le.Uint32(b), nil
}
