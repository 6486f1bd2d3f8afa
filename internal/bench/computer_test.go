package bench

import (
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/disk"
)

// TestComputer: what the firmware tells is read, and what its maker never filled in is nothing.
func TestComputer(t *testing.T) {
	root := t.TempDir()
	dir := filepath.Join(root, "sys/class/dmi/id")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for file, text := range map[string]string{"sys_vendor": "Ternworks \n", "product_name": "W2 \x1b[31m",
		"product_serial": "Default string\n"} {
		if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	b := &Bench{Host: disk.Host{Root: root}}
	got := b.Computer()
	if got.Maker != "Ternworks" || got.Serial != "" || len(got.Model) < 3 || got.Model[:2] != "W2" ||
		got.Model[3] == 0x1b {
		t.Errorf("%q", got)
	}
	if got := (&Bench{Host: disk.Host{Root: t.TempDir()}}).Computer(); got != (Computer{}) {
		t.Errorf("%q", got)
	}
}
