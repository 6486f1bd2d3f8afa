package sheet

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/settings"
	"twinshelf/internal/testkit"
)

// TestCard: the card is one page on both papers, and has the keys and what to do where a machine doesn't start.
func TestCard(t *testing.T) {
	testkit.Need(t, "pdftotext")
	for _, paper := range []string{"A4", "Letter"} {
		c := Card{Head: Head{Shop: settings.Shop{Name: "Ternhouse Repairs", Paper: paper}, Made: time.Now()},
			Tool: "Twin Shelf v1"}
		b, err := c.PDF()
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(t.TempDir(), "card.pdf")
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		text := strings.Join(strings.Fields(testkit.Do(t, "pdftotext", "-layout", file, "-")), " ")
		for _, words := range []string{"starts a PC into Twin Shelf v1", "F12", "Option (Alt)", "Secure Boot",
			"UEFI or BIOS?", "AHCI", "page 1 of 1", "Ternhouse Repairs"} {
			if !strings.Contains(text, words) {
				t.Errorf("%s: nothing is said of %q:\n%s", paper, words, text)
			}
		}
	}
}
