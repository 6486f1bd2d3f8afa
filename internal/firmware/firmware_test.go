package firmware

import (
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// fake is a folder with the variables of a machine.
func fake(t *testing.T, variables map[string][]byte) Variables {
	t.Helper()
	v := Variables{t.TempDir()}
	for n, b := range variables {
		whole := append(binary.LittleEndian.AppendUint32(nil, kept), b...)
		if err := os.WriteFile(v.path(n), whole, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return v
}

const guid = "7A5E0F10-3B1C-4D5A-9C00-0000000000A1"

func entryOf(t *testing.T, title, file string) []byte {
	t.Helper()
	b, err := Entry{Title: title, File: file, Disk: &Place{Part: 1, Start: 2048, Size: 204800, ID: guid,
		GPT: true}}.build()
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// network is an entry that leads to no disk (a node of another kind, then the end).
func network() []byte {
	path := []byte{3, 11, 8, 0, 1, 2, 3, 4, ends, endsAll, 4, 0}
	b := binary.LittleEndian.AppendUint32(nil, active)
	b = binary.LittleEndian.AppendUint16(b, uint16(len(path)))
	return append(appendText(b, "PXE over the harbour"), path...)
}

// TestEntries: entries are read in the firmware's order; a new one comes first, and is taken back without a trace.
func TestEntries(t *testing.T) {
	before := map[string][]byte{"BootOrder": {7, 0, 1, 0}, "BootCurrent": {1, 0},
		"Boot0001": entryOf(t, "debian", `\EFI\debian\shimx64.efi`), "Boot0007": network(), "Boot000A": {1, 2, 3},
		"BootNext": {0, 0}}
	v := fake(t, before)
	l, err := v.Read()
	if err != nil {
		t.Fatal(err)
	}
	if len(l.Entries) != 2 || l.Entries[0].Title != "PXE over the harbour" || l.Entries[1].Number != 1 ||
		l.Entries[1].File != `\EFI\debian\shimx64.efi` || l.Entries[1].Disk.ID != guid || l.Current != 1 ||
		l.Entries[0].Disk != nil || len(l.Problems) != 1 {
		t.Errorf("%+v", l)
	}
	for i, words := range []string{"isn't a file", `\EFI\debian\shimx64.efi on part 1`} {
		if got := l.Entries[i].Words(); !strings.Contains(got, words) {
			t.Errorf("%q", got)
		}
	}
	place := Place{Part: 2, Start: 4096, Size: 1 << 20, ID: strings.Replace(guid, "A1", "B2", 1), GPT: true}
	u, err := v.Add("Ticket desk", `\EFI\BOOT\BOOTX64.EFI`, place)
	if err != nil {
		t.Fatal(err)
	}
	l, err = v.Read()
	if err != nil || !slices.Equal(l.Order, []uint16{0, 7, 1}) || l.Entries[0].Title != "Ticket desk" ||
		*l.Entries[0].Disk != place || !l.Entries[0].Active {
		t.Errorf("%+v, %v", l, err)
	}
	again, err := v.Add("Ticket desk", `\efi\boot\bootx64.efi`, place)
	if err != nil || again.added != "" {
		t.Errorf("the same again: %+v, %v", again, err)
	}
	if err := v.Undo(u); err != nil {
		t.Fatal(err)
	}
	for n, want := range before {
		if got, err := v.get(n); n != "Boot000A" && (err != nil || !bytes.Equal(got, want)) {
			t.Errorf("%s is % x afterwards, %v", n, got, err)
		}
	}
	if _, err := v.get("Boot0000"); !os.IsNotExist(err) {
		t.Errorf("the new entry is still there: %v", err)
	}
	if _, err := v.Add("Old", `\x.efi`, Place{Part: 1, ID: "00c0ffee"}); err == nil {
		t.Error("an entry on an MBR disk")
	}
}

// TestFirstEntry: a machine without any entry gets one, and loses it again.
func TestFirstEntry(t *testing.T) {
	v := fake(t, nil)
	u, err := v.Add("Ticket desk", `\EFI\BOOT\BOOTX64.EFI`, Place{Part: 1, Start: 1, Size: 2, ID: guid, GPT: true})
	if err != nil {
		t.Fatal(err)
	}
	if l, err := v.Read(); err != nil || len(l.Entries) != 1 || len(l.Order) != 1 {
		t.Errorf("%+v, %v", l, err)
	}
	if err := v.Undo(u); err != nil {
		t.Error(err)
	}
	if left, err := os.ReadDir(v.Dir); err != nil || len(left) != 0 {
		t.Errorf("%v is left, %v", left, err)
	}
	if _, err := (Variables{filepath.Join(v.Dir, "nowhere")}).Read(); !errors.Is(err, ErrNone) {
		t.Errorf("a BIOS: %v", err)
	}
}

func TestSetup(t *testing.T) {
	v := fake(t, map[string][]byte{"OsIndicationsSupported": {1, 0, 0, 0, 0, 0, 0, 0},
		"OsIndications": {4, 0, 0, 0, 0, 0, 0, 0}})
	if err := v.OpenSetup(); err != nil {
		t.Fatal(err)
	}
	if b, err := v.get("OsIndications"); err != nil || b[0] != 5 {
		t.Errorf("% x, %v", b, err)
	}
	if err := fake(t, nil).OpenSetup(); err == nil || !strings.Contains(err.Error(), "F2") {
		t.Errorf("firmware that can't: %v", err)
	}
}

func TestStart(t *testing.T) {
	root := t.TempDir()
	if s := StartOf(root); s.UEFI || s.Words() != "started by a BIOS" {
		t.Errorf("%+v", s)
	}
	dir := filepath.Join(root, "sys/firmware/efi/efivars")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if s := StartOf(root); !s.UEFI || s.SecureTold || !strings.Contains(s.Words(), "unknown") {
		t.Errorf("%+v", s)
	}
	for b, words := range map[byte]string{0: "Secure Boot off", 1: "Secure Boot on"} {
		whole := []byte{6, 0, 0, 0, b}
		if err := os.WriteFile(filepath.Join(dir, "SecureBoot"+global), whole, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, "../fw_platform_size"), []byte("32\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if s := StartOf(root); s.Bits != 32 || !strings.Contains(s.Words(), words) {
			t.Errorf("%+v: %s", s, s.Words())
		}
	}
}

func FuzzEntry(f *testing.F) {
	f.Add(network())
	e, err := Entry{Title: "x", File: `\y`, Disk: &Place{ID: guid, GPT: true}}.build()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(e)
	f.Fuzz(func(t *testing.T, b []byte) {
		e, err := parse(1, b)
		if err != nil {
			if !errors.Is(err, ErrEntry) {
				t.Error(err)
			}
			return
		}
		_ = e.Words()
	})
}
