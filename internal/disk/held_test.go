package disk

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"golang.org/x/sys/unix"

	"twinshelf/internal/span"
)

// TestWholeDiskInPassing: a disk that is read from its beginning to its end leaves the kernel's memory as it was,
// though the kernel reads ahead; also where several read it at once, and here and there.
func TestWholeDiskInPassing(t *testing.T) {
	const size, piece = 96 << 20, 1 << 20
	path := filepath.Join(t.TempDir(), "pier.img")
	content := make([]byte, size)
	for i := 0; i < size; i += 512 {
		content[i] = byte(i >> 9)
	}
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
	kept := span.Of(span.At(20<<20, piece), span.At(70<<20, 2*piece)) // what somebody else has use for
	for name, read := range map[string]func(d *File) error{
		"in order": func(d *File) error {
			b := make([]byte, piece)
			for off := int64(0); off < size; off += piece {
				if err := ReadFullPassing(d, b, off); err != nil {
					return err
				}
			}
			return nil
		},
		"several at once": func(d *File) error {
			var all sync.WaitGroup
			errs := make([]error, size/piece)
			places := make(chan int64)
			for range 4 {
				all.Go(func() {
					for off := range places {
						errs[off/piece] = ReadFullPassing(d, make([]byte, piece), off)
					}
				})
			}
			for off := int64(0); off < size; off += piece {
				places <- off
			}
			close(places)
			all.Wait()
			return errors.Join(errs...)
		},
		"here and there": func(d *File) error {
			b := make([]byte, piece)
			for _, k := range rand.New(rand.NewPCG(3, 4)).Perm(size / piece) {
				if err := ReadFullPassing(d, b, int64(k)*piece); err != nil {
					return err
				}
			}
			return nil
		},
	} {
		d, err := Open(path, Identity{})
		if err != nil {
			t.Fatal(err)
		}
		if err := d.Sync(); err != nil {
			t.Fatal(err)
		}
		d.Forget()
		for sp := range kept.All() {
			for off := sp.Start; off < sp.End; off += 4096 { // not in order: nothing is read ahead
				if _, err := d.ReadAt(make([]byte, 1), sp.Start+(sp.End-4096-off)); err != nil {
					t.Fatal(err)
				}
			}
		}
		before, told := cached(t, d, span.Span{End: size})
		if err := read(d); err != nil {
			t.Fatal(err)
		}
		d.Close()
		if d, err = Open(path, Identity{}); err != nil {
			t.Fatal(err)
		}
		after, _ := cached(t, d, span.Span{End: size})
		if told && (after > before+size/64 || after < before) {
			t.Errorf("%s: %d KiB are held, %d KiB were before", name, after>>10, before>>10)
		}
		d.Close()
	}
}

// cached is how much of a stretch the kernel holds, in bytes; told is false where it can't say.
func cached(t *testing.T, d *File, sp span.Span) (n int64, told bool) {
	t.Helper()
	var c unix.Cachestat_t
	err := unix.Cachestat(uint(d.fd()), &unix.CachestatRange{Off: uint64(sp.Start), Len: uint64(sp.Len())}, &c, 0)
	if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) {
		return 0, false
	}
	if err != nil {
		t.Fatal(err)
	}
	return int64(c.Cache) * int64(os.Getpagesize()), true
}
