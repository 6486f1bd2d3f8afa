package disk

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/span"
)

// TestOverlayAgainstCopy compares an overlay with a plain copy that was patched.
func TestOverlayAgainstCopy(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 3))
	for range 200 {
		base := NewMemory(int64(4096+r.IntN(4096)), 512)
		for i := range base.Bytes {
			base.Bytes[i] = byte(r.Uint32())
		}
		size := base.Size() + int64(r.IntN(3))*1000
		want := make([]byte, size)
		copy(want, base.Bytes)
		var patches []Patch
		for at := int64(r.IntN(500)); at < size-1; {
			p := Patch{Off: at, Data: make([]byte, min(int64(1+r.IntN(900)), size-at))}
			for i := range p.Data {
				p.Data[i] = byte(r.Uint32())
			}
			copy(want[at:], p.Data)
			patches = append(patches, p)
			at = p.Span().End + int64(r.IntN(900))
		}
		r.Shuffle(len(patches), func(i, j int) { patches[i], patches[j] = patches[j], patches[i] })
		o, err := NewOverlay(base, patches, size)
		if err != nil {
			t.Fatal(err)
		}
		for range 20 {
			off := int64(r.IntN(int(size)))
			got := make([]byte, 1+r.IntN(2000))
			n, err := o.ReadAt(got, off)
			if !bytes.Equal(got[:n], want[off:off+int64(n)]) || n < len(got) && !errors.Is(err, io.EOF) {
				t.Fatalf("%d bytes at %d of %d differ (%v)", len(got), off, size, err)
			}
		}
		at := int64(0)
		for p, err := range o.Pieces() {
			if err != nil || p.Start != at || p.Empty() {
				t.Fatalf("piece %+v behind byte %d: %v", p, at, err)
			}
			at = p.End
		}
		if at != size {
			t.Fatalf("pieces end at %d of %d", at, size)
		}
	}
}

func TestOverlayRefusesWhatOverlaps(t *testing.T) {
	base := NewMemory(4096, 512)
	for _, patches := range [][]Patch{
		{{Off: 0, Data: make([]byte, 10)}, {Off: 9, Data: make([]byte, 10)}},
		{{Off: 4090, Data: make([]byte, 10)}},
	} {
		if _, err := NewOverlay(base, patches, 4096); err == nil {
			t.Errorf("%v was taken", patches)
		}
	}
}

func TestFilesThatAreNoDisks(t *testing.T) {
	dir := t.TempDir()
	empty := filepath.Join(dir, "empty.img")
	if err := os.WriteFile(empty, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{empty: "is empty", dir: "neither a disk",
		filepath.Join(dir, "none"): "no such file"} {
		if _, err := Open(path, Identity{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if err := os.WriteFile(LabelPath(empty), []byte(`{"model":"X","sector":1000}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadLabel(empty); err == nil || !strings.Contains(err.Error(), "512 or 4096") {
		t.Errorf("%v", err)
	}
}

// image makes an image file of n bytes and the guard's description of it.
func image(t *testing.T, n int64) (string, Target) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "heron.img")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(f.Truncate(n), f.Close()); err != nil {
		t.Fatal(err)
	}
	d, err := Open(path, Identity{Model: "Heron"})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	print, err := Fingerprint(d)
	if err != nil {
		t.Fatal(err)
	}
	return path, Target{path, d.Identity(), print}
}

func TestGuardLetsThroughWhatIsAsPlanned(t *testing.T) {
	path, target := image(t, 1<<20)
	w, err := new(Guard).Open(target)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if _, err := w.WriteAt([]byte("x"), 1<<20); err == nil || !strings.Contains(err.Error(), "beyond its end") {
		t.Errorf("%v", err)
	}
	if _, err := w.WriteAt([]byte("quay"), 4096); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(w.Sync(), w.Reread(nil)); err != nil {
		t.Error(err)
	}
	b, err := os.ReadFile(path)
	if err != nil || string(b[4096:4100]) != "quay" {
		t.Errorf("%v", err)
	}
	sp, err := w.NextData(0)
	if err != nil || !sp.Covers(span.At(4096, 4)) {
		t.Errorf("data %v, %v", sp, err)
	}
	if _, err := w.NextData(sp.End); !errors.Is(err, io.EOF) && err != nil {
		t.Errorf("%v", err)
	}
}

func TestGuardRefusesWhatChanged(t *testing.T) {
	path, target := image(t, 3<<20)
	for _, c := range []struct {
		name   string
		change func()
		word   string
	}{
		{"its end", func() {
			f, _ := os.OpenFile(path, os.O_RDWR, 0)
			f.WriteAt([]byte{1}, 3<<20-1)
			f.Close()
		}, "contents changed"},
		{"its size", func() { os.Truncate(path, 2<<20) }, "when the plan was made"},
		{"gone", func() { os.Remove(path) }, "can't be opened"},
	} {
		c.change()
		if _, err := new(Guard).Open(target); err == nil || !strings.Contains(err.Error(), c.word) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

func TestGuardSeesLoopDevices(t *testing.T) {
	path, target := image(t, 1<<20)
	root := t.TempDir()
	dir := filepath.Join(root, "sys/block/loop7/loop")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "backing_file"), []byte(path+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	g := &Guard{Host: Host{Root: root}}
	var refused *Refusal
	if err := g.Check(target); !errors.As(err, &refused) || !strings.Contains(err.Error(), "attached as /dev/loop7") {
		t.Errorf("%v", err)
	}
}

// TestGuardThatCantTell: where the kernel's tables can't be read, or don't know the disk, nothing is called free.
func TestGuardThatCantTell(t *testing.T) {
	_, target := image(t, 1<<20)
	g := &Guard{Host: Host{Root: t.TempDir()}}
	var refused *Refusal
	if err := g.Check(target); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), "what is mounted can't be told") {
		t.Errorf("without a mount table: %v", err)
	}
	g = &Guard{Host: mountedAt(t, "22 1 8:1 / / rw - ext4 /dev/sda1 rw")}
	if err := g.Check(target); err != nil {
		t.Errorf("with one: %v", err)
	}
}

// TestLongMountLines: what stands after a line of a hundred layers in the mount table is seen.
func TestLongMountLines(t *testing.T) {
	path, target := image(t, 1<<20)
	layers := strings.Repeat("/srv/a layer with a long name:", 10_000)
	layers = strings.ReplaceAll(layers, " ", `\040`)
	g := &Guard{Host: mountedAt(t, "22 1 0:31 / / rw - overlay overlay rw,lowerdir="+layers,
		"23 22 0:32 / /mnt rw - fuse "+path+" rw")}
	var refused *Refusal
	if err := g.Check(target); !errors.As(err, &refused) || !strings.Contains(err.Error(), "is mounted at /mnt") {
		t.Errorf("%v", err)
	}
}

// mountedAt is a host with the given lines as its mount table.
func mountedAt(t *testing.T, lines ...string) Host {
	t.Helper()
	root := t.TempDir()
	if err := os.MkdirAll(filepath.Join(root, "proc/self"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(root, "proc/self/mountinfo"), []byte(strings.Join(lines, "\n")+"\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	return Host{Root: root}
}

func TestFaultyStandIn(t *testing.T) {
	f := &Faulty{Writable: NewMemory(1<<20, 512), BadRead: span.Of(span.At(4096, 512)),
		BadWrite: span.Of(span.At(8192, 512)), GoneAfter: 64 << 10}
	b := make([]byte, 512)
	for _, c := range []struct {
		do   func() error
		want error
	}{
		{func() error { _, err := f.ReadAt(b, 0); return err }, nil},
		{func() error { _, err := f.ReadAt(b, 4200); return err }, ErrMedium},
		{func() error { _, err := f.WriteAt(b, 4200); return err }, nil},
		{func() error { _, err := f.WriteAt(b, 8192); return err }, ErrMedium},
		{func() error { _, err := f.ReadAt(make([]byte, 64<<10), 0); return err }, ErrGone},
	} {
		if err := c.do(); !errors.Is(err, c.want) {
			t.Errorf("%v instead of %v", err, c.want)
		}
	}
}
