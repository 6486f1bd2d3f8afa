package first

import (
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/stick/font"
)

// TestFontFor: the large font is for screens with room for two panes of its characters; where the hardware draws text
// there are but few.
func TestFontFor(t *testing.T) {
	for size, want := range map[string]string{"": font.Small, "800,600\n": font.Small, "1280,800\n": font.Small,
		"1920,1080\n": font.Large, "3840,2160\n": font.Large, "1920,900\n": font.Small, "wide\n": font.Small} {
		sys := t.TempDir()
		if size != "" {
			dir := filepath.Join(sys, "class/graphics/fb0")
			if err := os.MkdirAll(dir, 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, "virtual_size"), []byte(size), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		name, places := fontFor(sys)
		if name != want || (places == font.FewPlaces) != (size == "") {
			t.Errorf("%q: %s with %d characters", size, name, places)
		}
	}
}

func TestReported(t *testing.T) {
	for said, want := range map[string][2]int{"\x1b[43;132R": {43, 132}, "noise\x1b[24;80Rmore": {24, 80},
		"\x1b[0;80R":     {},
		"\x1b[24;99999R": {}, "\x1b[24R": {}, "": {}, "R\x1b[": {}} {
		rows, columns, ok := reported([]byte(said))
		if ok != (want[0] > 0) || ok && (rows != want[0] || columns != want[1]) {
			t.Errorf("%q: %d rows, %d columns, %v", said, rows, columns, ok)
		}
	}
}

// TestStickParts: a stick's parts are found by their names; without one, or with several, records stay in memory.
func TestStickParts(t *testing.T) {
	class := t.TempDir()
	put := func(name, uevent string) {
		dir := filepath.Join(class, name)
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, "uevent"), []byte(uevent), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put("sda", "DEVNAME=sda\n")
	put("sda1", "DEVNAME=sda1\nPARTNAME=Twin Shelf start code\n")
	put("sda2", "DEVNAME=sda2\nPARTNAME=Twin Shelf start\n")
	put("sda3", "DEVNAME=sda3\nPARTNAME=Twin Shelf data\n")
	system, data := stickParts(class)
	if len(system) != 1 || system[0] != "sda2" || len(data) != 1 || data[0] != "sda3" {
		t.Errorf("%v, %v", system, data)
	}
	put("sdb2", "DEVNAME=sdb2\nPARTNAME=Twin Shelf start\n")
	var s stick
	if err := s.find(t.Context(), class); err == nil || s.state != fleeting {
		t.Errorf("two sticks: %v, records in %s", err, s.state)
	}
}

// TestTold: what the full screen says the machine is to do is said once.
func TestTold(t *testing.T) {
	file := filepath.Join(t.TempDir(), "end")
	if err := os.WriteFile(file, []byte("restart\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := told(file); got != "restart" {
		t.Errorf("%q", got)
	}
	if got := told(file); got != "" {
		t.Errorf("again: %q", got)
	}
}

// TestStickElsewhere: a stick that doesn't turn up on what is driven first is looked for once more with everything
// that the machine has, an SD reader on its board for one.
func TestStickElsewhere(t *testing.T) {
	class, asked := t.TempDir(), 0
	s := stick{rest: func() {
		asked++
		dir := filepath.Join(class, "mmcblk0p1")
		if err := os.Mkdir(dir, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, "uevent"), []byte("PARTNAME=Twin Shelf start\n"),
			0o600); err != nil {
			t.Fatal(err)
		}
	}}
	if err := s.find(t.Context(), class); err != nil || s.system != "/dev/mmcblk0p1" || asked != 1 {
		t.Errorf("%q, asked %d times, %v", s.system, asked, err)
	}
}
