package ready

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// newlyLaid lays the disk of changing out anew.
func newlyLaid(t *testing.T, img string) Keepsakes {
	t.Helper()
	s, target := looked(t, img, 0)
	d := Anew(s, 0, table.MBR)
	must(t, d.addMade(80*units.MiB, false, "ext4", "tickets"))
	must(t, d.addMade(80*units.MiB, false, "NTFS", "tariffs"))
	return carried(t, d, target)
}

// putBack puts the newest keepsake of a disk back.
func putBack(t *testing.T, keep Keepsakes, img string) error {
	t.Helper()
	target := testkit.Target(t, img)
	all, err := keep.List(target.Identity)
	must(t, err)
	if len(all) == 0 {
		t.Fatal("there is no keepsake")
	}
	r := Return{all[0], target}
	return testkit.Run(t, func(rc *run.Context) error { return r.Run(rc, &disk.Guard{}) })
}

func TestKeepsakePutsBackEveryByte(t *testing.T) {
	img := changing(t)
	before := contents(t, img)
	keep := newlyLaid(t, img)
	if string(before) == string(contents(t, img)) {
		t.Fatal("nothing was written")
	}
	all, err := keep.List(testkit.Target(t, img).Identity)
	must(t, err)
	if k := all[0]; len(k.Held) != 2 || !strings.Contains(k.Held[1], "kiosk") || !k.Finished || k.Incomplete != "" ||
		k.Size() > 4*units.MiB {
		t.Errorf("%+v, %d bytes", k.Held, k.Size())
	}
	must(t, putBack(t, keep, img))
	if string(before) != string(contents(t, img)) {
		t.Error("it isn't as it was")
	}
	must(t, putBack(t, keep, img)) // once more changes nothing
	must(t, all[0].Forget())
	if all, _ := keep.List(testkit.Target(t, img).Identity); len(all) != 0 {
		t.Error("it isn't forgotten")
	}
}

func TestKeepsakeStaysAwayFromUsedDisks(t *testing.T) {
	testkit.Root(t)
	img := changing(t)
	keep := newlyLaid(t, img)
	part := testkit.Loop(t, img, 512)
	must(t, func() error { _, err := testkit.Try("partx", "-u", part); return err }())
	testkit.Mounted(t, []string{"mount", part + "p1"}, func(point string) {
		must(t, os.WriteFile(point+"/ledger", []byte("fares of the day"), 0o600))
	})
	testkit.Do(t, "partx", "-d", part)
	testkit.Detach(part)
	before := contents(t, img)
	err := putBack(t, keep, img)
	var refused *disk.Refusal
	if !errors.As(err, &refused) || !strings.Contains(refused.Reason, "used since") ||
		string(before) != string(contents(t, img)) {
		t.Errorf("%v", err)
	}
}

func TestKeepsakeThatIsDamaged(t *testing.T) {
	img := changing(t)
	keep := newlyLaid(t, img)
	all, err := keep.List(testkit.Target(t, img).Identity)
	must(t, err)
	name := all[0].path + ".tar.zst"
	b, err := os.ReadFile(name)
	must(t, err)
	b[len(b)/2] ^= 0x10
	must(t, os.WriteFile(name, b, 0o600))
	if err := putBack(t, keep, img); err == nil || !strings.Contains(err.Error(), "damaged") &&
		!strings.Contains(err.Error(), "checksum") {
		t.Errorf("%v", err)
	}
	must(t, os.Remove(name))
	if err := putBack(t, keep, img); err == nil || !strings.Contains(err.Error(), "gone") {
		t.Errorf("%v", err)
	}
}

// TestTargetThatFails lays out a disk that fails at every place in turn: the error says what was done,
// and the keepsake brings everything back.
func TestTargetThatFails(t *testing.T) {
	img := changing(t)
	for _, at := range []int64{0, 512, 34*512 - 1, units.MiB + 1024, 41*units.MiB + 1024, 81 * units.MiB,
		250*units.MiB - 1} {
		before := contents(t, img)
		s, target := looked(t, img, 0)
		d := Anew(s, 0, table.GPT)
		must(t, d.addMade(80*units.MiB, false, "ext4", "tickets"))
		must(t, d.addMade(80*units.MiB, false, "NTFS", "tariffs"))
		p := planOf(t, d, target)
		if !p.written().Overlaps(span.At(at, 1)) {
			t.Fatalf("byte %d isn't written", at)
		}
		keep := Keepsakes{t.TempDir()}
		w, err := (&disk.Guard{}).Open(target)
		must(t, err)
		faulty := &disk.Faulty{Writable: w, BadWrite: span.Of(span.At(at, 1))}
		err = testkit.Run(t, func(rc *run.Context) error { _, err := p.onto(rc, faulty, keep); return err })
		w.Close()
		if !errors.Is(err, disk.ErrMedium) || !strings.Contains(err.Error(), "finished") ||
			!strings.Contains(err.Error(), "Carry the plan out again, or put back") {
			t.Errorf("at %d: %v", at, err)
		}
		if err := putBack(t, keep, img); err != nil {
			t.Errorf("at %d: put back: %v", at, err)
		}
		if string(before) != string(contents(t, img)) {
			t.Errorf("at %d: it isn't as it was", at)
		}
	}
}

// TestDiskThatLies: what reads back differently is found.
func TestDiskThatLies(t *testing.T) {
	img := changing(t)
	s, target := looked(t, img, 0)
	d := Anew(s, 0, table.GPT)
	must(t, d.addMade(80*units.MiB, false, "exFAT", "tickets"))
	p := planOf(t, d, target)
	w, err := (&disk.Guard{}).Open(target)
	must(t, err)
	defer w.Close()
	err = testkit.Run(t, func(rc *run.Context) error {
		_, err := p.onto(rc, forgetful{w, units.MiB + 512}, Keepsakes{t.TempDir()})
		return err
	})
	if err == nil || !strings.Contains(err.Error(), "can't be relied on") {
		t.Errorf("%v", err)
	}
}

// forgetful is a disk that doesn't store one byte.
type forgetful struct {
	*disk.WritableFile
	at int64
}

func (f forgetful) WriteAt(p []byte, off int64) (int, error) {
	if hit := span.At(off, int64(len(p))); hit.Covers(span.At(f.at, 1)) {
		p = append([]byte(nil), p...)
		p[f.at-off] ^= 0xFF
	}
	return f.WritableFile.WriteAt(p, off)
}

func TestCancelInTheMiddle(t *testing.T) {
	img := changing(t)
	before := contents(t, img)
	s, target := looked(t, img, 0)
	d := Anew(s, 0, table.GPT)
	must(t, d.addMade(160*units.MiB, false, "FAT32", "TICKETS"))
	p := planOf(t, d, target)
	keep := Keepsakes{t.TempDir()}
	w, err := (&disk.Guard{}).Open(target)
	must(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	err = run.Start(ctx, "test", p.Phases(), nil, func(rc *run.Context) error {
		_, err := p.onto(rc, cancelling{w, cancel}, keep)
		return err
	}).Wait()
	w.Close()
	if !errors.Is(err, context.Canceled) || !strings.Contains(err.Error(), "stopped in the middle") {
		t.Errorf("%v", err)
	}
	must(t, putBack(t, keep, img))
	if string(before) != string(contents(t, img)) {
		t.Error("it isn't as it was")
	}
}

// cancelling cancels at the first write.
type cancelling struct {
	*disk.WritableFile
	cancel func()
}

func (c cancelling) WriteAt(p []byte, off int64) (int, error) {
	c.cancel()
	return c.WritableFile.WriteAt(p, off)
}

func TestKeepsakeWithoutRoom(t *testing.T) {
	img := changing(t)
	before := contents(t, img)
	s, target := looked(t, img, 0)
	d := Anew(s, 0, table.GPT)
	must(t, d.addMade(160*units.MiB, false, "ext4", "tickets"))
	p := planOf(t, d, target)
	file := t.TempDir() + "/in-the-way"
	must(t, os.WriteFile(file, nil, 0o600))
	err := testkit.Run(t, func(rc *run.Context) error {
		_, err := p.Run(rc, &disk.Guard{}, Keepsakes{file})
		return err
	})
	if err == nil || !strings.Contains(err.Error(), "nothing was written") ||
		string(before) != string(contents(t, img)) {
		t.Errorf("%v", err)
	}
}
