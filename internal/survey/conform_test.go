package survey

import (
	"os"
	"testing"

	"twinshelf/internal/disk/disktest"
)

// TestMappedConforms: a surveyed disk reads as the disk, and its pieces are in order.
func TestMappedConforms(t *testing.T) {
	img := kiosk(t)
	want, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	disktest.Conform(t, looked(t, img, nil).Mapped(), want)
}
