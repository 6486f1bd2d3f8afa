package shelf_test

import (
	"bytes"
	"testing"

	"twinshelf/internal/disk/disktest"
	"twinshelf/internal/shelf/shelftest"
)

func TestTwinsDiskConforms(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(30, 1)
	clear(blocks[7])
	tw := shelftest.Commit(t, s, "Kiosk", blocks)
	d, err := s.OpenDisk(t.Context(), tw, 0)
	if err != nil {
		t.Fatal(err)
	}
	disktest.Conform(t, d, bytes.Join(blocks, nil))
}
