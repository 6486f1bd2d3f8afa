package workshop

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestShelvesAreFoundUnmounted: shelves are found in the uppermost folder of a drive and in those in it, without
// mounting it; folders that only look a little like one aren't.
func TestShelvesAreFoundUnmounted(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	dir := t.TempDir()
	s, err := shelf.Create(t.Context(), filepath.Join(dir, "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	for name, text := range map[string]string{"letters/head": "Dear Maud", "photos/2026/head": "x"} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	img := testkit.Image(t, "store.img", 64*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-d", dir, img)
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	sv, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	var found []string
	for i := range sv.Areas {
		found = append(found, shelfFolders(t.Context(), &sv.Areas[i])...)
	}
	if !slices.Equal(found, []string{"oak"}) {
		t.Errorf("%q", found)
	}
}

func TestWithin(t *testing.T) {
	for name, want := range map[string]bool{"/run/twinshelf": true, "/run/twinshelf/oak": true,
		"/run/twinshelf2": false,
		"/run":            false, "/run/twinshelf/../other": false} {
		if within(name, "/run/twinshelf") != want {
			t.Errorf("%s: %v", name, !want)
		}
	}
	if firstOf("harbour-store/oak/x") != "harbour-store" || firstOf("oak") != "oak" {
		t.Error(firstOf("harbour-store/oak/x"), firstOf("oak"))
	}
}
