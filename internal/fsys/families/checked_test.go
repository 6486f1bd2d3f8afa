package families_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// TestExamineChecked: of a part that was compared before the same bytes matter, and nothing is said of the comparison.
func TestExamineChecked(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	dir := t.TempDir()
	for _, name := range []string{"fares", "tides"} {
		if err := os.WriteFile(filepath.Join(dir, name), make([]byte, 300_000), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	img := testkit.Image(t, "kiosk.img", 32<<20)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-d", dir, img)
	spans := func(c fsys.Content) (all []span.Span) {
		for sp, err := range c.Spans() {
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, sp)
		}
		return all
	}
	d := opened(t, img)
	compared, err := families.Examine(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	checked, err := families.ExamineChecked(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	if !compared.Sound || !checked.Maps || checked.Sound || checked.Used != compared.Used ||
		!slices.Equal(spans(checked), spans(compared)) {
		t.Errorf("%d bytes of %d, sound %v", checked.Used, compared.Used, checked.Sound)
	}
}
