package capture

import (
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/units"
)

// counted counts how much is read of a sparse disk.
type counted struct {
	*disk.File
	bytes int64
}

func (c *counted) ReadAt(p []byte, off int64) (int, error) {
	c.bytes += int64(len(p))
	return c.File.ReadAt(p, off)
}

func (c *counted) ReadPassing(p []byte, off int64) (int, error) {
	c.bytes += int64(len(p))
	return c.File.ReadPassing(p, off)
}

// TestSamplesAreFew: of a large disk that has to be read whole, and holds next to nothing, only some blocks are read to
// estimate what it adds, whether its holes are known or it really holds zeros.
func TestSamplesAreFew(t *testing.T) {
	img := filepath.Join(t.TempDir(), "gannet.img")
	f, err := os.Create(img)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	const size = 300 * units.GB
	if err := f.Truncate(size); err != nil {
		t.Fatal(err)
	}
	for i := range int64(40) { // letters here and there
		if _, err := f.WriteAt([]byte("a forgotten letter"), i*size/40+4096); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := f.WriteAt(make([]byte, 400*units.MiB), 2*units.GiB); err != nil { // zeros that were written
		t.Fatal(err)
	}
	file, err := disk.Open(img, disk.Identity{Model: "Gannet"})
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	d := &counted{File: file}
	p := planOf(t, "Weighbridge", false, disk.NewMemory(units.MiB, 512))
	p.Sources[0].Survey.Device.(*disk.Memory).Bytes[1000] = 1
	if _, err := carryOut(p); err != nil { // a shelf with a twin of another machine
		t.Fatal(err)
	}
	q := planOf(t, "Crew room", false, d)
	q.Shelf = p.Shelf
	d.bytes = 0
	if err := q.Sample(t.Context()); err != nil {
		t.Fatal(err)
	}
	if most := int64(2*samples+mostZeros) * units.MiB; d.bytes > most {
		t.Errorf("%s were read, %s at the most", units.Bytes(d.bytes), units.Bytes(most))
	}
}
