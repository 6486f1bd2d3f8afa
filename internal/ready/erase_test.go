package ready

import (
	"bytes"
	"context"
	"errors"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

func erasing(t *testing.T, path string, way Way, m Medium) *Erase {
	t.Helper()
	s, target := looked(t, path, 0)
	e, err := NewErase(context.Background(), s, target, way, m, 10*units.GB)
	must(t, err)
	if len(e.Loses) == 0 && !s.Blank() {
		t.Error("it doesn't say what is lost")
	}
	return e
}

func TestEraseLeavesNothingToRecognise(t *testing.T) {
	testkit.Need(t, "blkid")
	for _, way := range []Way{Quick, Zeros, Random, Discard} {
		t.Run(string(way), func(t *testing.T) {
			img := changing(t)
			before := contents(t, img)
			e := erasing(t, img, way, Medium{Image: true, Discards: true})
			keep := Keepsakes{t.TempDir()}
			must(t, testkit.Run(t, func(rc *run.Context) error {
				_, err := e.Run(rc, &disk.Guard{}, keep)
				return err
			}))
			for _, at := range []string{"0", "1048576", "42991616"} {
				if out, err := testkit.Try("blkid", "-p", "-O", at, img); err == nil {
					t.Errorf("recognised at %s: %s", at, out)
				}
			}
			after := contents(t, img)
			zeros := bytes.Count(after, []byte{0})
			switch way {
			case Zeros, Discard:
				if zeros != len(after) {
					t.Errorf("%d bytes aren't zero", len(after)-zeros)
				}
			case Random:
				if share := float64(zeros) / float64(len(after)); share > 0.005 {
					t.Errorf("%.3f of it are zeros", share)
				}
			case Quick:
				must(t, putBack(t, keep, img))
				if string(before) != string(contents(t, img)) {
					t.Error("it isn't as it was")
				}
			}
		})
	}
}

func TestEraseOfAFailingDisk(t *testing.T) {
	for _, way := range []Way{Zeros, Random} {
		size := int64(40*units.MiB + 4096)
		m := disk.NewMemory(size, 512)
		for i := range m.Bytes {
			m.Bytes[i] = 0x77
		}
		bad := span.Of(span.At(9*units.MiB+512, 512), span.At(20*units.MiB, 8192))
		deaf := span.Of(span.At(30*units.MiB, 10))
		f := &disk.Faulty{Writable: m, BadWrite: bad, BadRead: deaf}
		e := &Erase{Way: way, Target: disk.Target{Identity: m.Identity()}}
		err := testkit.Run(t, func(rc *run.Context) error { return e.overwrite(rc, f) })
		if !errors.Is(err, ErrNotErased) || !strings.Contains(err.Error(), "16.4 kB in 3 places") ||
			!strings.Contains(err.Error(), "byte 9437184") {
			t.Errorf("%s: %v", way, err)
		}
		kept := bytes.Count(m.Bytes, []byte{0x77, 0x77, 0x77, 0x77})
		if kept != 3*4096/4 {
			t.Errorf("%s: %d words are left", way, kept)
		}
		f = &disk.Faulty{Writable: m, GoneAfter: 12 * units.MiB}
		err = testkit.Run(t, func(rc *run.Context) error { return e.overwrite(rc, f) })
		if !errors.Is(err, disk.ErrGone) || !strings.Contains(err.Error(), "overwritten up to byte") {
			t.Errorf("%s: %v", way, err)
		}
	}
}

func TestEraseCancelled(t *testing.T) {
	m := disk.NewMemory(64*units.MiB, 512)
	ctx, cancel := context.WithCancel(context.Background())
	e := &Erase{Way: Random, Target: disk.Target{Identity: m.Identity()}}
	err := run.Start(ctx, "test", e.Phases(), nil, func(rc *run.Context) error {
		rc.Phase("x", 1)
		cancel()
		return e.overwrite(rc, m)
	}).Wait()
	if !errors.Is(err, context.Canceled) || !strings.Contains(err.Error(), "erase again") {
		t.Errorf("%v", err)
	}
}

func TestEraseRefuses(t *testing.T) {
	img := changing(t)
	s, target := looked(t, img, 0)
	if _, err := NewErase(context.Background(), s, target, Discard, Medium{}, 0); err == nil {
		t.Error("discard without the ability")
	}
	if _, err := NewErase(context.Background(), s, target, Random, Medium{Image: true}, units.MiB); err == nil ||
		!strings.Contains(err.Error(), "room") {
		t.Error("random bytes without room")
	}
	for _, m := range []Medium{{}, {Rotational: true}, {Discards: true}} {
		for _, w := range Ways(m) {
			flash := strings.Contains(w.About(m), "Flash keeps spare areas")
			if (w == Zeros || w == Random) && flash == m.Rotational {
				t.Errorf("%s, rotating %v: %s", w, m.Rotational, w.About(m))
			}
			if w.Title() == "" {
				t.Errorf("%s has no title", w)
			}
		}
	}
}

// TestEraseReadsBackWhatItWrote: the read-back finds a disk that doesn't store.
func TestEraseReadsBackWhatItWrote(t *testing.T) {
	m := disk.NewMemory(16*units.MiB, 512)
	e := &Erase{Way: Random, Target: disk.Target{Identity: m.Identity()}}
	err := testkit.Run(t, func(rc *run.Context) error { return e.overwrite(rc, lossy{m}) })
	if !errors.Is(err, ErrNotErased) {
		t.Errorf("%v", err)
	}
}

// lossy loses what is written at 5 MiB.
type lossy struct{ *disk.Memory }

func (l lossy) WriteAt(p []byte, off int64) (int, error) {
	n, err := l.Memory.WriteAt(p, off)
	clear(l.Bytes[5*units.MiB : 5*units.MiB+100])
	return n, err
}
