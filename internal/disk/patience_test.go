package disk_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/disktest"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// TestPatience: a read that hangs ends in time, what it brings later goes nowhere, the drive is left alone until then,
// and everything else can be read as before.
func TestPatience(t *testing.T) {
	b := bytes.Repeat([]byte("kiosk ticket "), 90_000)[:1<<20]
	const hang = 1500 * time.Millisecond
	d := testkit.StandIn(t, b, &disk.Faults{Stalling: span.Of(span.At(4096, 512)), StallSeconds: hang.Seconds()})
	d.SetPatience(50 * time.Millisecond)
	p := bytes.Repeat([]byte("x"), 8192)
	begun := time.Now()
	n, err := d.ReadAt(p, 0)
	if n != 0 || !errors.Is(err, disk.ErrStalled) || disk.Gone(err) || time.Since(begun) >= hang {
		t.Fatalf("%d bytes after %v: %v", n, time.Since(begun), err)
	}
	if n, err := d.ReadAt(make([]byte, 512), 8192); n != 0 || !errors.Is(err, disk.ErrStalled) {
		t.Errorf("while one hangs another is begun: %d, %v", n, err)
	}
	deadline := time.Now().Add(time.Minute)
	got := make([]byte, 512)
	for {
		if _, err = d.ReadAt(got, 8192); err == nil || time.Now().After(deadline) {
			break
		}
	}
	if err != nil || !bytes.Equal(got, b[8192:8704]) || time.Since(begun) < hang {
		t.Errorf("afterwards, at %v: %v", time.Since(begun), err)
	}
	if !bytes.Equal(p, bytes.Repeat([]byte("x"), 8192)) {
		t.Error("what came late was put where nobody waits for it")
	}
}

// TestPatientReadsConform: reads with a limit are reads, by many at once too.
func TestPatientReadsConform(t *testing.T) {
	b := bytes.Repeat([]byte("kiosk ticket "), 90_000)[:1<<20]
	d := testkit.StandIn(t, b, &disk.Faults{})
	d.SetPatience(time.Minute)
	disktest.Conform(t, d, b)
	var readers sync.WaitGroup
	for i := range 8 {
		readers.Go(func() {
			p := make([]byte, 30_000+i)
			for at := 0; at+len(p) <= len(b); at += len(p) {
				if _, err := d.ReadAt(p, int64(at)); err != nil || !bytes.Equal(p, b[at:at+len(p)]) {
					t.Errorf("byte %d: %v", at, err)
				}
			}
		})
	}
	readers.Wait()
	bad := testkit.StandIn(t, b, &disk.Faults{Unreadable: span.Of(span.At(0, 512))})
	bad.SetPatience(time.Minute)
	if _, err := bad.ReadAt(make([]byte, 512), 0); !errors.Is(err, disk.ErrMedium) {
		t.Errorf("a bad place: %v", err)
	}
}

// BenchmarkPatience reads a file that the kernel holds in memory with and without a limit: the dearest case.
func BenchmarkPatience(b *testing.B) {
	img := filepath.Join(b.TempDir(), "kiosk.img")
	if err := errors.Join(os.WriteFile(img, make([]byte, 256<<20), 0o600),
		os.WriteFile(disk.LabelPath(img), []byte(`{"faults": {}}`), 0o600)); err != nil {
		b.Fatal(err)
	}
	for name, limit := range map[string]time.Duration{"none": 0, "limit": time.Minute} {
		b.Run(name, func(b *testing.B) {
			d, err := disk.Open(img, disk.Identity{})
			if err != nil {
				b.Fatal(err)
			}
			defer d.Close()
			d.SetPatience(limit)
			p := disk.Aligned(1 << 20)
			b.SetBytes(256 << 20)
			for range b.N {
				for at := int64(0); at < d.Size(); at += int64(len(p)) {
					if _, err := d.ReadPassing(p, at); err != nil {
						b.Fatal(err)
					}
				}
			}
		})
	}
}
