package startup_test

import (
	"errors"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestLoaders: in a system's folder the loader comes first that Secure Boot lets start the others, before the one where
// firmware looks by itself; what loaders use themselves isn't among them, nor is what can't be a program.
func TestLoaders(t *testing.T) {
	testkit.Need(t, "mkfs.fat", "mmd", "mcopy", "grub-mkimage")
	program := t.TempDir() + "/x.efi"
	testkit.Do(t, "grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/x", "-o", program, "fat")
	esp := testkit.Image(t, "esp", 40*units.MiB)
	testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", esp)
	testkit.Do(t, "mmd", "-i", esp, "::EFI", "::EFI/kiosk", "::EFI/BOOT")
	for _, to := range []string{"kiosk/grubx64.efi", "kiosk/shimx64.efi", "kiosk/mmx64.efi", "BOOT/BOOTX64.EFI",
		"BOOT/fbx64.efi"} {
		testkit.Do(t, "mcopy", "-i", esp, program, "::EFI/"+to)
	}
	testkit.Do(t, "sh", "-c", "echo no program | mcopy -i "+esp+" - ::EFI/kiosk/broken.efi")
	const guid = "7A5E0F10-3B1C-4D5A-9C00-0000000000D1"
	img := testkit.Image(t, "disk", 64*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: guid, Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 40*units.MiB), Type: table.TypeESP, GUID: guid[:35] + "2"}}}, 64*units.MiB)
	testkit.Place(t, esp, img, units.MiB)
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	all, err := startup.Loaders(t.Context(), d)
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"EFI/KIOSK/SHIMX64.EFI", "EFI/KIOSK/GRUBX64.EFI", "EFI/BOOT/BOOTX64.EFI"}
	if len(all) != len(want) {
		t.Fatalf("%+v", all)
	}
	for i, l := range all {
		if !strings.EqualFold(l.File, want[i]) || l.Bits != 64 || l.Part.Number != 1 {
			t.Errorf("%d: %+v, not %s", i, l, want[i])
		}
	}
	if all[0].Title != "kiosk" || all[2].Title != "Restored system" {
		t.Errorf("%q, %q", all[0].Title, all[2].Title)
	}
	if _, err := startup.Loaders(t.Context(), disk.NewMemory(1<<20, 512)); !errors.Is(err, startup.ErrNoLoader) {
		t.Errorf("a blank disk: %v", err)
	}
}
