package swap

import (
	"testing"

	"twinshelf/internal/disk"
)

func FuzzProbe(f *testing.F) {
	f.Add([]byte("SWAPSPACE2"), []byte{1, 0, 0, 0, 255, 255, 255, 255})
	f.Add([]byte("S1SUSPEND\x00"), []byte{9, 0, 0, 0, 1, 0, 0, 0})
	f.Fuzz(func(t *testing.T, magic, header []byte) {
		m := disk.NewMemory(256<<10, 512)
		copy(m.Bytes[4086:4096], magic)
		copy(m.Bytes[1024:4000], header)
		v, err := Probe(m, m.Size(), 512)
		if err != nil || v == nil {
			return
		}
		for sp, err := range v.Used() {
			if err != nil || sp.End > m.Size() {
				t.Fatalf("%v %v", sp, err)
			}
		}
	})
}
