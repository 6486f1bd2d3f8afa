package ready

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestSurface: a check finds the bad places to the sector, says so, and writes nothing.
func TestSurface(t *testing.T) {
	for _, bad := range []span.Set{{}, span.Of(span.At(5*units.MiB+512, 1024), span.At(20*units.MiB, 512))} {
		m := disk.NewMemory(32*units.MiB, 512)
		copy(m.Bytes[7:], "what lies here stays")
		before := string(m.Bytes)
		s := &Surface{Device: &disk.Faulty{Writable: m, BadRead: bad}}
		err := testkit.Run(t, func(rc *run.Context) error { return s.Run(rc) })
		if errors.Is(err, ErrSurface) == bad.Empty() || err != nil && bad.Empty() {
			t.Errorf("%v: %v", bad, err)
		}
		if !s.Found.Bad.Equal(bad) || s.Found.Bytes != 32*units.MiB || string(m.Bytes) != before {
			t.Errorf("%v: %+v", bad, s.Found)
		}
		if words := strings.Join(s.Found.Words("read"), "\n"); strings.Contains(words, "every sector") != bad.Empty() {
			t.Error(words)
		}
	}
}

// TestHolesOfAnImage: what was never written of an image file isn't read, and that is said.
func TestHolesOfAnImage(t *testing.T) {
	img := testkit.Image(t, "sparse", 300*units.MiB)
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err == nil {
		_, err = f.WriteAt(testkit.Noise(2, 5<<20), 100<<20)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	s := &Surface{Device: d}
	if err := testkit.Run(t, func(rc *run.Context) error { return s.Run(rc) }); err != nil {
		t.Fatal(err)
	}
	if s.Found.Holes < 290*units.MiB || s.Found.Holes > 295*units.MiB ||
		!strings.Contains(strings.Join(s.Found.Words("read"), " "), "are holes of the image file") {
		t.Errorf("%+v", s.Found)
	}
}

// liar keeps only as much as it has, whatever it says: what is written beyond that lands at the beginning again.
type liar struct {
	*disk.Memory
	has int64
}

func (l liar) WriteAt(p []byte, off int64) (int, error) { return l.Memory.WriteAt(p, off%l.has) }
func (l liar) ReadAt(p []byte, off int64) (int, error)  { return l.Memory.ReadAt(p, off%l.has) }

// TestALiarIsFound: a drive that has less room than it says is found out by the check that writes.
func TestALiarIsFound(t *testing.T) {
	for _, has := range []int64{64 * units.MiB, 16 * units.MiB} {
		m := liar{disk.NewMemory(64*units.MiB, 512), has}
		e := &Erase{Way: Check, Target: disk.Target{Path: filepath.Join(t.TempDir(), "x")}}
		err := testkit.Run(t, func(rc *run.Context) error { return e.overwrite(rc, m) })
		if lies := has < 64*units.MiB; lies != (err != nil) {
			t.Errorf("it has %d bytes: %v", has, err)
		}
	}
}
