// Package sizes understands sizes the way people say them: "250 GB",
// "465 GiB", "25%", "rest", "rest/2", "everything used on Ticket desk plus
// half". All results are int64 bytes; nothing is computed in floating point.
package sizes

import (
	"errors"
	"fmt"
	"math/big"
	"strings"
	"unicode"

	"twinshelf/internal/units"
)

// Room is what a size is understood against.
type Room struct {
	Disk int64 // bytes of the whole disk
	Rest int64 // bytes that are still free for it
	// Used gives how many bytes are in use on a machine, by its name; nil when
	// nothing is known.
	Used func(machine string) (int64, error)
}

// Size is a size that was understood.
type Size struct {
	Bytes int64
	// Words echo it in decimal and binary units: "250 GB (233 GiB)".
	Words string
	// Hint points out what is probably a slip; empty when nothing is.
	Hint string
	// Rest says that it is a share of what is left, and so follows the disk.
	Rest bool
}

// ErrNoSize means that a text isn't a size.
var ErrNoSize = errors.New("not a size")

func noSize(format string, args ...any) error {
	return fmt.Errorf("%w: %s; write for instance 250 GB, 465 GiB, 25%%, rest or rest/2", ErrNoSize,
		fmt.Sprintf(format, args...))
}

// Words echo a number of bytes in both kinds of units.
func Words(n int64) string { return fmt.Sprintf("%s (%s)", units.Bytes(n), units.Binary(n)) }

// Parse understands a text. Sizes of zero, beyond any disk and with a share of
// more than everything are errors; whether it fits is the caller's to say.
func Parse(text string, r Room) (Size, error) {
	t := strings.ToLower(strings.Join(strings.Fields(text), " "))
	if t == "" {
		return Size{}, noSize("nothing was written")
	}
	n, rest, err := value(t, r)
	if err != nil {
		return Size{}, err
	}
	if n <= 0 {
		return Size{}, noSize("%q is nothing at all", text)
	}
	size := Size{Bytes: n, Words: Words(n), Rest: rest}
	if t[0] >= '0' && t[0] <= '9' { // a number was typed, and may be a slip
		size.Hint = hint(n, r)
	}
	return size, nil
}

func value(t string, r Room) (n int64, rest bool, err error) {
	switch {
	case t == "rest" || t == "the rest":
		return r.Rest, true, nil
	case strings.HasPrefix(t, "rest/") || strings.HasPrefix(t, "rest /"):
		_, by, _ := strings.Cut(t, "/")
		d, tail, err := number(strings.TrimSpace(by))
		if err != nil || tail != "" || d.Sign() <= 0 {
			return 0, false, noSize("%q doesn't say by what the rest is divided", t)
		}
		n, err = whole(new(big.Rat).Quo(rat(r.Rest), d))
		return n, true, err
	case strings.Contains(t, "used on "):
		n, err = used(t, r)
		return n, false, err
	}
	n, err = amount(t, r.Disk, "the disk")
	return n, false, err
}

// used understands "[as large as] everything used on NAME [plus SOMETHING]".
func used(t string, r Room) (int64, error) {
	_, rest, _ := strings.Cut(t, "used on ")
	name, plus, more := rest, "", false
	if i := strings.LastIndex(rest, " plus "); i >= 0 {
		name, plus, more = rest[:i], rest[i+len(" plus "):], true
	}
	if r.Used == nil {
		return 0, fmt.Errorf("nothing is known about what is used on %q: open a shelf with a twin of it, or put its "+
			"disk on the bench", name)
	}
	n, err := r.Used(strings.TrimSpace(name))
	if err != nil || !more {
		return n, err
	}
	extra, err := amount(strings.TrimSpace(plus), n, name)
	if err != nil {
		return 0, err
	}
	return whole(new(big.Rat).Add(rat(n), rat(extra)))
}

// shares are parts of a whole that have a name.
var shares = map[string]*big.Rat{"half": big.NewRat(1, 2), "a half": big.NewRat(1, 2), "a third": big.NewRat(1, 3),
	"a quarter": big.NewRat(1, 4), "as much again": big.NewRat(1, 1)}

// amount understands a number with a unit or a percentage, or a named share, of a whole.
func amount(t string, of int64, what string) (int64, error) {
	if s, ok := shares[t]; ok {
		return whole(new(big.Rat).Mul(rat(of), s))
	}
	n, unit, err := number(t)
	if err != nil {
		return 0, err
	}
	if unit == "%" || unit == "percent" {
		if n.Cmp(big.NewRat(100, 1)) > 0 && what == "the disk" {
			return 0, noSize("%q is more than all of %s", t, what)
		}
		return whole(new(big.Rat).Mul(rat(of), n.Quo(n, big.NewRat(100, 1))))
	}
	factor, ok := factors[unit]
	if !ok {
		if unit == "" {
			return 0, noSize("%q has no unit", t)
		}
		return 0, noSize("%q is no unit that is known", unit)
	}
	return whole(n.Mul(n, rat(factor)))
}

var factors = map[string]int64{
	"b": 1, "byte": 1, "bytes": 1,
	"k": units.KB, "kb": units.KB, "m": units.MB, "mb": units.MB, "g": units.GB, "gb": units.GB, "t": units.TB,
	"tb": units.TB, "pb": 1000 * units.TB,
	"kib": units.KiB, "mib": units.MiB, "gib": units.GiB, "tib": units.TiB, "pib": 1024 * units.TiB,
}

// number splits a text into a decimal number, with a point or a comma, and what follows.
func number(t string) (*big.Rat, string, error) {
	end := strings.IndexFunc(t, func(r rune) bool { return !unicode.IsDigit(r) && r != '.' && r != ',' && r != ' ' })
	if end < 0 {
		end = len(t)
	}
	digits := strings.ReplaceAll(strings.ReplaceAll(t[:end], " ", ""), ",", ".")
	if strings.Count(digits, ".") > 1 {
		return nil, "", noSize("%q can be read in more than one way; write it without separators",
			strings.TrimSpace(t[:end]))
	}
	if len(digits) > 30 || digits == "" || digits == "." {
		return nil, "", noSize("%q doesn't begin with a number", t)
	}
	for _, r := range digits {
		if r != '.' && (r < '0' || r > '9') {
			return nil, "", noSize("%q holds digits that aren't 0 to 9", t)
		}
	}
	n, ok := new(big.Rat).SetString(digits)
	if !ok {
		return nil, "", noSize("%q doesn't begin with a number", t)
	}
	return n, strings.TrimSpace(t[end:]), nil
}

func rat(n int64) *big.Rat { return new(big.Rat).SetInt64(n) }

// most is the largest size that is understood: far beyond any disk, and safe to add up.
const most = 1 << 60

func whole(r *big.Rat) (int64, error) {
	n := new(big.Int).Quo(r.Num(), r.Denom())
	if !n.IsInt64() || n.Int64() > most || n.Sign() < 0 {
		return 0, noSize("no disk is that large")
	}
	return n.Int64(), nil
}

// hint points out a value that is off by a factor of about a thousand from what
// would fit: GB for TB, or MB for GB.
func hint(n int64, r Room) string {
	const k = 1000
	switch {
	case r.Rest <= 0:
		return ""
	case n > r.Rest && n/k <= r.Rest && n > r.Disk && n/k >= r.Rest/200:
		return fmt.Sprintf("%s is more than the whole disk; was %s meant?", units.Bytes(n), units.Bytes(n/k))
	case n < r.Rest/k && n <= most/k && n*k <= r.Rest && n < units.GB && r.Rest > 50*units.GB && n != 0 && !usual(n):
		return fmt.Sprintf("%s is very little on this disk; was %s meant?", units.Bytes(n), units.Bytes(n*k))
	}
	return ""
}

// usual: start-up and reserved parts are small on purpose.
func usual(n int64) bool {
	for _, u := range []int64{16, 32, 100, 128, 200, 256, 300, 500, 512, 550} {
		if n == u*units.MiB || n == u*units.MB {
			return true
		}
	}
	return false
}
