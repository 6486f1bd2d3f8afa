package realmode

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/testkit"
)

// onDisk is a disk of bytes.
func onDisk(b []byte) Disk {
	return func(first int64, to []byte) error {
		if first*sector+int64(len(to)) > int64(len(b)) {
			return errors.New("beyond the end of the disk")
		}
		copy(to, b[first*sector:])
		return nil
	}
}

// staged is a disk whose first sector loads a second stage from sector at on.
func staged(t testing.TB, at int64) (b, core []byte) {
	t.Helper()
	testkit.Need(t, "grub-mkimage")
	out := filepath.Join(t.TempDir(), "core.img")
	testkit.Do(t, "grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub", "-o", out, "biosdisk", "part_msdos", "ext2",
		"normal", "linux")
	core, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	first, err := os.ReadFile("/usr/lib/grub/i386-pc/boot.img")
	if err != nil {
		t.Fatal(err)
	}
	binary.LittleEndian.PutUint64(first[0x5C:], uint64(at))
	binary.LittleEndian.PutUint64(core[0x1F4:], uint64(at+1))
	b = make([]byte, at*sector+int64(len(core))+2*sector)
	copy(b, first)
	copy(b[at*sector:], core)
	return b, core
}

func TestStages(t *testing.T) {
	for _, at := range []int64{1, 2048, 100_000} {
		b, core := staged(t, at)
		m := New(b[:sector], onDisk(b))
		j, err := m.Run(context.Background())
		if err != nil || j.Address != 0x8000 || j.Disk != at*sector {
			t.Fatalf("at sector %d: %+v %v", at, j, err)
		}
		if j, err = m.Run(context.Background()); err != nil || j.Address != 0x8200 || j.Disk != (at+1)*sector {
			t.Fatalf("at sector %d: %+v %v", at, j, err)
		}
		if got := m.Loaded(0x8000); len(got) < len(core) || !bytes.Equal(got[sector:len(core)], core[sector:]) {
			t.Errorf("at sector %d: %d bytes were loaded, not the %d of the second stage", at, len(got), len(core))
		}
	}
}

// TestDamagedCode: random and zeroed bytes in the code that runs end it with a reason, or don't matter.
func TestDamagedCode(t *testing.T) {
	b, core := staged(t, 2048)
	r := rand.New(rand.NewPCG(3, 4))
	for i := range 60 {
		d := slices.Clone(b)
		from, n := 0, 440
		if i%2 == 1 {
			from, n = 2048*sector, 400
		}
		for k := range n {
			d[from+k] = 0
			if i%4 < 2 {
				d[from+k] = byte(r.Uint32())
			}
		}
		m := New(d[:sector], onDisk(d))
		_, err := m.Run(context.Background())
		if err == nil {
			_, err = m.Run(context.Background())
		}
		whole := err == nil && bytes.HasPrefix(m.Loaded(0x8000)[sector:], core[sector:2*sector])
		if whole || err != nil && !errors.Is(err, ErrStuck) && !errors.Is(err, ErrUnknown) &&
			!strings.Contains(err.Error(), "sector") {
			t.Errorf("damage %d: %v", i, err)
		}
	}
}

func TestActivePart(t *testing.T) {
	b := make([]byte, 200*sector)
	copy(b, testkit.TableCode)
	b[446+16] = 0x80
	binary.LittleEndian.PutUint32(b[446+16+8:], 100)
	copy(b[100*sector:], "\xEB\xFEthe boot sector")
	m := New(b[:sector], onDisk(b))
	if j, err := m.Run(context.Background()); err != nil || j.Address != 0x7C00 || j.Disk != 100*sector {
		t.Errorf("%+v %v", j, err)
	}
	if _, err := m.Run(context.Background()); !errors.Is(err, ErrStuck) || !strings.Contains(err.Error(), "for ever") {
		t.Errorf("a loop without an end: %v", err)
	}
	b[446+16] = 0
	if _, err := New(b[:sector], onDisk(b)).Run(context.Background()); !errors.Is(err, ErrStuck) ||
		!strings.Contains(err.Error(), "gives up") {
		t.Errorf("no active part: %v", err)
	}
	b[446+16] = 0x80
	binary.LittleEndian.PutUint32(b[446+16+8:], 9999)
	if _, err := New(b[:sector], onDisk(b)).Run(context.Background()); err == nil ||
		!strings.Contains(err.Error(), "sector 9999") {
		t.Errorf("beyond the end: %v", err)
	}
}

func FuzzRun(f *testing.F) {
	b, _ := staged(f, 1)
	f.Add(b[:sector])
	f.Add(testkit.TableCode)
	f.Fuzz(func(t *testing.T, code []byte) {
		first := make([]byte, sector)
		copy(first, code)
		m := New(first, onDisk(b))
		for range 3 {
			if _, err := m.Run(context.Background()); err != nil {
				return
			}
		}
	})
}
