package ntfs

import (
	"os"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/testkit"
)

// FuzzProbe overwrites bytes of a real file system: whatever they say, the
// walk ends and stays within the volume.
func FuzzProbe(f *testing.F) {
	testkit.Need(f, "mkntfs")
	img := testkit.Image(f, "seed.img", 2<<20)
	testkit.Do(f, "mkntfs", append([]string{"-q", "-Q", "-F"}, img)...)
	seed, err := os.ReadFile(img)
	if err != nil {
		f.Fatal(err)
	}
	for _, at := range []uint32{11, 13, 40, 48, 64, 4 * 4096, 4*4096 + 20, 4*4096 + 0x100, 4*4096 + 5*1024 + 0x100,
		4*4096 + 6*1024 + 0x100} {
		f.Add(at, []byte{0xFF, 0xFF, 0xFF, 0x7F}, at+8, []byte{0, 0, 0, 0})
	}
	f.Fuzz(func(t *testing.T, at uint32, patch []byte, at2 uint32, patch2 []byte) {
		m := disk.NewMemory(int64(len(seed)), 512)
		copy(m.Bytes, seed)
		copy(m.Bytes[int(at)%len(seed):], patch)
		copy(m.Bytes[int(at2)%len(seed):], patch2)
		v, err := Probe(m, m.Size(), 512)
		if err != nil || v == nil {
			return
		}
		last := int64(0)
		for sp, err := range v.Used() {
			if err != nil {
				break
			}
			if sp.Start < last || sp.End > v.Info().Size || sp.Empty() {
				t.Fatalf("used area %v behind %d in a volume of %d bytes", sp, last, v.Info().Size)
			}
			last = sp.End
		}

	})
}
