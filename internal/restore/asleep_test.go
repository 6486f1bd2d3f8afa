package restore_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/container/bitlocker/bitlockertest"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/ntfs"
	"twinshelf/internal/lock"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

// asleep makes an NTFS with files whose system sleeps, with 6 MiB in its hibernation file.
func asleep(t *testing.T) (img string, sums map[string][32]byte) {
	t.Helper()
	img, sums = bitlockertest.Plain(t)
	file := filepath.Join(t.TempDir(), "image")
	if err := os.WriteFile(file, testkit.Noise(7, 6<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "ntfscp", img, file, "hiberfil.sys")
	putToSleep(t, img)
	return img, sums
}

// putToSleep makes a volume with a hibernation file look as a system leaves it that sleeps.
func putToSleep(t *testing.T, img string) {
	t.Helper()
	d := opened(t, img)
	v, err := families.Identify(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	log, err := ntfs.NewLog(256<<10, 2, 5)
	if err != nil {
		t.Fatal(err)
	}
	log.Work(15_000, 9)
	patches, err := ntfs.PutToSleep(v, time.Date(2026, 11, 20, 17, 2, 0, 0, time.UTC), true, log)
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, p := range patches {
		if _, err := f.WriteAt(p.Data, p.Off); err != nil {
			t.Fatal(err)
		}
	}
}

// TestRecordsOfSleepersProveNothing: a file that was written in place shows no change in its record on the disk while
// that is only in the log. A sleeping volume is read, even where NTFS's records are trusted.
func TestRecordsOfSleepersProveNothing(t *testing.T) {
	img, _ := bitlockertest.Plain(t)
	file := filepath.Join(t.TempDir(), "f")
	noise := testkit.Noise(21, 8<<20)
	if err := os.WriteFile(file, noise, 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "ntfscp", img, file, "hiberfil.sys")
	testkit.Do(t, "ntfscp", img, file, "scans.zip")
	sh := newShelf(t)
	taken := func(cut map[int]bool) *shelf.Twin {
		s, err := survey.Of(t.Context(), labelled(t, img), nil)
		if err == nil {
			s, err = s.AsCut(t.Context(), cut)
		}
		if err != nil {
			t.Fatal(err)
		}
		p := capture.Plan{Shelf: sh, Machine: "Booking office", Tool: "test", Trust: capture.TrustMost,
			Sources: []capture.Source{{Survey: s}}}
		var tw *shelf.Twin
		if err := testkit.Run(t, func(rc *run.Context) (err error) {
			tw, err = p.Run(rc)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return tw
	}
	taken(nil)
	if again := taken(nil); again.Disks[0].Regions[0].Trusted == 0 {
		t.Error("nothing is trusted of a quiet volume, so this tells nothing")
	}
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	changed := testkit.Noise(22, 4096)
	for at := 0; ; { // in both files that hold it
		i := bytes.Index(b[at:], noise[5<<20:][:4096])
		if i < 0 {
			break
		}
		testkit.Write(t, img, []disk.Patch{{Off: int64(at + i), Data: changed}})
		at += i + 4096
	}
	putToSleep(t, img)
	r := taken(map[int]bool{1: true}).Disks[0].Regions[0]
	if r.Trusted != 0 || !r.AsCut {
		t.Errorf("%d bytes aren't read: %+v", r.Trusted, r)
	}
}

// asCut captures a disk of one volume as if the power had been cut, and restores it onto a target that is full of what
// looks like a system to wake up from.
func asCut(ctx context.Context, t *testing.T, img string) (sh *shelf.Shelf, twin *shelf.Twin, target string) {
	t.Helper()
	s, err := survey.Of(ctx, opened(t, img), nil)
	if err != nil {
		t.Fatal(err)
	}
	halted := s.Halted()
	if r := halted[1]; r.State != fsys.FastStart || len(halted) != 1 || s.Used() < 60<<20 || len(s.Warnings()) != 1 {
		t.Fatalf("%+v, %d used, %q", halted, s.Used(), s.Warnings())
	}
	cut, err := s.AsCut(ctx, map[int]bool{1: true})
	if err != nil {
		t.Fatal(err)
	}
	if cut.Used() > 20<<20 || len(cut.Warnings()) > 0 || s.Used() < 60<<20 {
		t.Errorf("%d used, %q", cut.Used(), cut.Warnings())
	}
	sh = newShelf(t)
	p := capture.Plan{Shelf: sh, Machine: "Booking office", Tool: "test", Sources: []capture.Source{{Survey: cut}}}
	if err := testkit.Run(t, func(rc *run.Context) (err error) {
		twin, err = p.Run(rc)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if r := twin.Disks[0].Regions[0]; !r.AsCut || r.Rest != fsys.FastStart || r.Whole != "" || len(r.Omitted) != 1 {
		t.Errorf("%+v", r)
	}
	target = sleepy(t)
	proof, err := putBack(t, sh, twin, target)
	if err != nil {
		t.Fatal(err)
	}
	wantHolds(t, proof)
	return sh, twin, target
}

// sleepy is a target in which everything looks like a system to wake up from.
func sleepy(t *testing.T) string {
	t.Helper()
	img := filepath.Join(t.TempDir(), "target.img")
	if err := os.WriteFile(img, bytes.Repeat([]byte("HIBR\x00\x00\x00\x00"), 64<<17), 0o600); err != nil {
		t.Fatal(err)
	}
	return img
}

// TestAsCutDoesNotWakeUp: a volume whose system sleeps is captured as if the power had been cut, in the open and
// encrypted. What is restored has all files, nothing wakes up from it, and the image of the memory isn't in it.
func TestAsCutDoesNotWakeUp(t *testing.T) {
	plain, sums := asleep(t)
	locked, bek := bitlockertest.Locked(t, plain, bitlocker.XTS256)
	ring := &lock.Keyring{}
	t.Cleanup(ring.Wipe)
	s, err := survey.Of(t.Context(), opened(t, locked), nil)
	if err != nil || len(s.Locked()) != 1 || len(s.Halted()) != 0 {
		t.Fatalf("%v %+v", err, s)
	}
	k, err := s.Locked()[0].Unlock(t.Context(), lock.Secret{Text: []byte(bitlockertest.Recovery)})
	if err != nil {
		t.Fatal(err)
	}
	ring.Add(k)
	for name, c := range map[string]struct {
		img string
		ctx context.Context
	}{"open": {plain, t.Context()}, "encrypted": {locked, lock.With(t.Context(), ring)}} {
		t.Run(name, func(t *testing.T) {
			sh, twin, target := asCut(c.ctx, t, c.img)
			if c.img == locked {
				withoutEncryption(c.ctx, t, sh, twin, sums)
				open := filepath.Join(t.TempDir(), "open.img")
				testkit.Do(t, "dislocker-file", "-q", "-V", target, "-f", bek, "--", open)
				target = open
			}
			judgeAwake(t, target, sums)
		})
	}
}

// withoutEncryption restores the twin of a locked volume without its encryption.
func withoutEncryption(ctx context.Context, t *testing.T, sh *shelf.Shelf, twin *shelf.Twin,
	sums map[string][32]byte) {
	t.Helper()
	src, err := sh.OpenDisk(ctx, twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	r, err := survey.Reveal(ctx, src)
	if err != nil {
		t.Fatal(err)
	}
	target := sleepy(t)
	p, err := planned(t, r, testkit.Target(t, target), &disk.Guard{}, kept())
	if err != nil {
		t.Fatal(err)
	}
	if err := testkit.Run(t, p.Run); err != nil {
		t.Fatal(err)
	}
	judgeAwake(t, target, sums)
}

// TestSleepingIsNotRevealed: a twin that keeps a sleeping system isn't written without its encryption, since nobody
// knows which of its clusters matter.
func TestSleepingIsNotRevealed(t *testing.T) {
	plain, _ := asleep(t)
	locked, _ := bitlockertest.Locked(t, plain, bitlocker.CBC128)
	d := opened(t, locked)
	s, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	k, err := s.Locked()[0].Unlock(t.Context(), lock.Secret{Text: []byte(bitlockertest.Recovery)})
	if err != nil {
		t.Fatal(err)
	}
	ring := &lock.Keyring{}
	t.Cleanup(ring.Wipe)
	ring.Add(k)
	ctx := lock.With(t.Context(), ring)
	if _, err := survey.Reveal(ctx, s.Mapped()); err == nil || !strings.Contains(err.Error(), "its system sleeps") {
		t.Errorf("%v", err)
	}
	open, err := survey.Of(ctx, d, nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		s    *survey.Survey
		says string
	}{
		"taken whole": {whole(open), ""},
		"in use":      {inUse(ctx, t, d), "it is mounted"},
		"locked":      {s, "that isn't known of"},
	} {
		_, err := c.s.AsCut(ctx, map[int]bool{1: true})
		if n := len(c.s.Halted()); n != 0 || c.says != "" && (!errors.Is(err, fsys.ErrNotAsCut) ||
			!strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %d parts are offered: %v", name, n, err)
		}
	}
}

// whole is a survey of which everything is wanted.
func whole(s *survey.Survey) *survey.Survey {
	all := *s
	all.Areas = slices.Clone(s.Areas)
	all.TakeWhole("it was wanted")
	return &all
}

// inUse is the survey of a disk whose volume somebody has mounted.
func inUse(ctx context.Context, t *testing.T, d disk.Device) *survey.Survey {
	t.Helper()
	s, err := survey.Of(ctx, d, map[int]string{0: "it is mounted"})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// judgeAwake has the system's tools look at a volume that slept.
func judgeAwake(t *testing.T, img string, sums map[string][32]byte) {
	t.Helper()
	for name, want := range sums {
		if got := sha256.Sum256([]byte(testkit.Do(t, "ntfscat", "-f", img, name))); got != want {
			t.Errorf("%s differs", name)
		}
	}
	hiber := []byte(testkit.Do(t, "ntfscat", "-f", img, "hiberfil.sys"))
	if len(hiber) != 6<<20 || bytes.Count(hiber[:4096], []byte{0}) != 4096 ||
		bytes.Contains(hiber, testkit.Noise(7, 6<<20)[1<<20:][:64]) {
		t.Errorf("%d bytes of a hibernation file, it begins with %q", len(hiber), hiber[:8])
	}
	d := opened(t, img)
	v, err := families.Identify(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	if r, _ := fsys.RestOf(v); r.State != fsys.CutOff || r.Asleep() || !r.Log {
		t.Errorf("%+v", r)
	}
	testkit.Do(t, "ntfsfix", img) // it empties the log, as a start does
	testkit.Mounted(t, []string{"ntfs-3g", img}, func(point string) {
		if b, err := os.ReadFile(filepath.Join(point, "small.txt")); err != nil ||
			sha256.Sum256(b) != sums["small.txt"] {
			t.Errorf("small.txt: %v", err)
		}
	})
}
