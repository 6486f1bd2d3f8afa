package hfsplus

import (
	"debug/elf"
	"encoding/binary"
	"path/filepath"
	"slices"
	"testing"
	"unicode/utf16"

	"twinshelf/internal/testkit"
)

// TestFoldsLikeTheKernel: every character counts as what the kernel's driver takes it for.
func TestFoldsLikeTheKernel(t *testing.T) {
	modules, _ := filepath.Glob("/lib/modules/*/kernel/fs/hfsplus/hfsplus.ko")
	if len(modules) == 0 {
		testkit.Lacks(t, "hfsplus.ko of linux-image-amd64")
	}
	table := kernelTable(t, modules[0], "hfsplus_case_fold_table")
	for c := range 1 << 16 {
		want := uint16(c)
		if page := table(c >> 8); page != 0 { // the first 256 entries say where the others are
			want = table(int(page) + c&0xFF)
		}
		if got := foldTo(uint16(c)); got != want {
			t.Errorf("U+%04X counts as U+%04X, and the kernel takes it for U+%04X", c, got, want)
		}
	}
}

// kernelTable reads a table of 16-bit words from a module.
func kernelTable(t *testing.T, module, symbol string) func(i int) uint16 {
	t.Helper()
	f, err := elf.Open(module)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	symbols, err := f.Symbols()
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(symbols, func(s elf.Symbol) bool { return s.Name == symbol })
	if i < 0 {
		t.Fatalf("%s has no %s", module, symbol)
	}
	data, err := f.Sections[symbols[i].Section].Data()
	if err != nil {
		t.Fatal(err)
	}
	data = data[symbols[i].Value:]
	return func(i int) uint16 { return binary.LittleEndian.Uint16(data[2*i:]) }
}

// TestNamesAreAlike: names are found however they are composed, and in their own case only where that counts.
func TestNamesAreAlike(t *testing.T) {
	units := func(s string) []uint16 { return utf16.Encode([]rune(s)) }
	any, own := &tree{v: &Volume{catalog: catalog{folds: true}}}, &tree{v: &Volume{}}
	for _, c := range []struct {
		have, asked string
		any, own    bool
	}{
		{"fares", "fares", true, true},
		{"fares", "FARES", true, false},
		{"U\u0308berfahrt", "\u00DCberfahrt", true, true},
		{"u\u0308berfahrt", "\u00DCberfahrt", true, false},
		{"\u03B9\u030D", "\u03AF", true, true}, // the older mark for the tonos
		{"pier/berth", "pier:berth", true, true},
		{"\uFEFFfares", "fares", true, false},
		{"fares", "fare", false, false},
		{"\u0130", "i\u0307", true, false},
		{"stra\u00DFe", "strasse", false, false},
	} {
		if got := any.alike(units(c.have), c.asked); got != c.any {
			t.Errorf("%q, asked for as %q, whatever the case: %v", c.have, c.asked, got)
		}
		if got := own.alike(units(c.have), c.asked); got != c.own {
			t.Errorf("%q, asked for as %q, in its own case: %v", c.have, c.asked, got)
		}
	}
}
