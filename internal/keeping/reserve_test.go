package keeping

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
)

// TestFullShelf: on a drive without a free byte dates can still be marked and discarded and their room given back.
func TestFullShelf(t *testing.T) {
	dir, s := onSmallDrive(t, "24m")
	old := shelftest.Commit(t, s, "Ticket desk", shelftest.Content(60, 9))
	kept := shelftest.Commit(t, s, "Kiosk", shelftest.Content(40, 3))
	if _, err := os.Stat(filepath.Join(dir, "oak", store.ReserveFile)); err != nil {
		t.Fatalf("nothing is kept aside: %v", err)
	}
	fillUp(t, filepath.Join(dir, "foreign"))
	again := shelftest.Reopen(t, s)
	if err := again.Keep(t.Context(), kept.ID, "the last of it"); err != nil {
		t.Errorf("a mark: %v", err)
	}
	if err := again.Discard(t.Context(), old, "room"); err != nil {
		t.Fatalf("discarding: %v", err)
	}
	if f := gaveBack(t, again, false); f.Removed == 0 {
		t.Errorf("%+v", f)
	}
	if free, err := again.Backend().Free(t.Context()); err != nil || free < 1<<20 {
		t.Errorf("%d bytes are free (%v)", free, err)
	}
	twins, problems := shelftest.Reopen(t, again).Twins(t.Context())
	if len(twins) != 1 || len(problems) > 0 || twins[0].ID != kept.ID {
		t.Errorf("%v %v", twins, problems)
	}
	if err := os.Remove(filepath.Join(dir, "foreign")); err != nil {
		t.Fatal(err)
	}
	shelftest.Commit(t, again, "Ticket desk", shelftest.Content(10, 5))
	if _, err := os.Stat(filepath.Join(dir, "oak", store.ReserveFile)); err != nil {
		t.Errorf("nothing is kept aside again: %v", err)
	}
}

// fillUp writes a file until not one more byte fits.
func fillUp(t *testing.T, name string) {
	t.Helper()
	f, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for n := 1 << 20; n > 0; {
		if _, err := f.Write(make([]byte, n)); errors.Is(err, unix.ENOSPC) {
			n /= 2
		} else if err != nil {
			t.Fatal(err)
		}
	}
}
