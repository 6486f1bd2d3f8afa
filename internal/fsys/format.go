package fsys

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/units"
)

// Form says what a new file system shall be like.
type Form struct {
	Kind   string // as in Info
	Label  string
	Unit   int64 // allocation unit in bytes; 0 takes the default
	Size   int64 // of the part, bytes
	Sector int   // bytes
	Start  int64 // where the part begins on its disk, bytes
	// ID is random; the family takes from it what its identity needs.
	ID  [16]byte
	Now time.Time
}

// Maker makes new file systems of one kind.
type Maker struct {
	Kind string
	// About says in a few words who reads and writes it.
	About string
	// Systems are the systems that read and write it without help, in words of
	// the trade: "Windows", "macOS", "Linux", "older devices".
	Systems []string
	// UsualFor is the one of them that makes this kind by itself; empty for none.
	UsualFor string
	// Shared is the rank among the kinds that a shared drive takes, from 1; 0 for none.
	Shared int
	// Succeeds are older kinds that this one takes the place of today.
	Succeeds []string
	// Firmware says that a machine's firmware reads it.
	Firmware bool
	// FileLimit is the largest file in bytes; 0 when only the volume limits it.
	FileLimit int64
	// Min and Max are the sizes of volume that are possible with sectors of the
	// given size, in bytes.
	Min, Max func(sector int) int64
	// Units are the allocation units in bytes to choose from, and the one taken
	// without a choice.
	Units func(size int64, sector int) (choice []int64, byDefault int64)
	// Label says, with a reason and a remedy, what is wrong with a label.
	Label func(label string) error
	// Written is a label as it is written; nil for as it is.
	Written func(label string) string
	// GPTType and MBRType are the part types that go with it.
	GPTType, MBRType string
	// RoomAfter is what its systems leave free after a large part of it on a GPT, in bytes, for what they may want to
	// do with it later.
	RoomAfter int64
	// Make gives the structures of the new file system as patches relative to
	// the part. What no patch covers may hold anything.
	Make func(Form) ([]disk.Patch, error)
}

// Makers are the kinds that can be made, by name.
func (f Families) Makers() []Maker {
	var out []Maker
	for _, family := range f {
		out = append(out, family.Makers...)
	}
	slices.SortFunc(out, func(a, b Maker) int {
		return strings.Compare(strings.ToLower(a.Kind), strings.ToLower(b.Kind))
	})
	return out
}

// MakerOf finds a kind, whatever the case of its letters.
func (f Families) MakerOf(kind string) (Maker, error) {
	var known []string
	for _, m := range f.Makers() {
		if strings.EqualFold(m.Kind, kind) {
			return m, nil
		}
		known = append(known, m.Kind)
	}
	return Maker{}, fmt.Errorf("a file system of kind %q can't be made; choose %s", kind, units.Choices(known))
}

// UsualFor is the kind that a system, as in Maker.Systems, makes by itself; false where there is none.
func (f Families) UsualFor(system string) (Maker, bool) {
	for _, m := range f.Makers() {
		if strings.EqualFold(m.UsualFor, system) {
			return m, true
		}
	}
	return Maker{}, false
}

// Today is the kind that is made today where an older one of the family was; otherwise the kind itself.
func (f Families) Today(kind string) string {
	for _, m := range f.Makers() {
		if slices.Contains(m.Succeeds, kind) {
			return m.Kind
		}
	}
	return kind
}

// Check says what is wrong with a form, before anything is made.
func (m Maker) Check(f Form) error {
	if f.Sector != 512 && f.Sector != 4096 {
		return fmt.Errorf("sectors of %d bytes are not possible; disks have 512 or 4096", f.Sector)
	}
	if low := m.Min(f.Sector); f.Size < low {
		return fmt.Errorf("a part of %s is too small for %s; it needs at least %s", units.Bytes(f.Size), m.Kind,
			units.Bytes(low))
	}
	if high := m.Max(f.Sector); f.Size > high {
		return fmt.Errorf("a part of %s is too large for %s; it reaches up to %s", units.Bytes(f.Size), m.Kind,
			units.Bytes(high))
	}
	if err := m.Label(f.Label); err != nil {
		return err
	}
	choice, _ := m.Units(f.Size, f.Sector)
	if f.Unit != 0 && !slices.Contains(choice, f.Unit) {
		words := make([]string, len(choice))
		for i, n := range choice {
			words[i] = units.Binary(n)
		}
		return fmt.Errorf("%s of %s can't have allocation units of %s; choose %s", m.Kind, units.Bytes(f.Size),
			units.Binary(f.Unit), units.Choices(words))
	}
	return nil
}

// Format checks the form and gives the patches of the new file system, ascending.
func (m Maker) Format(f Form) ([]disk.Patch, error) {
	if err := m.Check(f); err != nil {
		return nil, err
	}
	if f.Unit == 0 {
		_, f.Unit = m.Units(f.Size, f.Sector)
	}
	patches, err := m.Make(f)
	if err != nil {
		return nil, err
	}
	return disk.SortPatches(patches, f.Size)
}

// PlainLabel refuses labels longer than max characters and with control
// characters; the families add their own rules.
func PlainLabel(kind, label string, max int) error {
	if n := len([]rune(label)); n > max {
		return fmt.Errorf("the label %q has %d characters; %s takes up to %d", label, n, kind, max)
	}
	for _, r := range label {
		if r < ' ' || r == 0x7F || r == '\uFFFD' {
			return fmt.Errorf("the label %q holds a character that can't be shown; leave it out", label)
		}
	}
	return nil
}

// PowersOfTwo lists the powers of two from low to high.
func PowersOfTwo(low, high int64) []int64 {
	var out []int64
	for n := low; n <= high; n *= 2 {
		out = append(out, n)
	}
	return out
}
