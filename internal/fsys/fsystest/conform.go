// Package fsystest holds the suite that every kind of volume must pass: what counts as used, files, another size there
// and back, and bytes that nobody vouches for.
package fsystest

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// Volume is a volume that the suite is held against.
type Volume struct {
	Image  string // of a part, that holds it
	Sector int    // bytes
	// Files are the sums of its files by path; nil where it holds none.
	Files map[string][32]byte
	// Check has the system's own checker look at such an image; it fails the test.
	Check func(t testing.TB, image string)
	// Mounted mounts such an image by the system and works on it; nil where the system can't.
	Mounted func(t testing.TB, image string, work func(point string))
}

// Conform holds a volume to what everything in the house counts on.
func Conform(t *testing.T, v Volume) {
	t.Run("recognised", func(t *testing.T) { recognised(t, v) })
	t.Run("used", func(t *testing.T) { used(t, v) })
	t.Run("files", func(t *testing.T) { files(t, v) })
	t.Run("there and back", func(t *testing.T) { thereAndBack(t, v) })
	t.Run("hostile bytes", func(t *testing.T) { hostile(t, v) })
}

// Examined opens an image and examines what it holds; the maps must be believed.
func Examined(t testing.TB, image string, sector int) (fsys.Content, *disk.File) {
	t.Helper()
	d, err := disk.Open(image, disk.Identity{Sector: sector})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	c, err := families.Examine(t.Context(), d, d.Size(), sector)
	if err != nil || !c.Maps || !c.Sound {
		t.Fatalf("%v; its maps aren't believed: %s %s", err, c.Why, c.Doubt)
	}
	return c, d
}

// recognised: the same is said of it however often it is looked at, and nothing of it when its start is gone.
func recognised(t *testing.T, v Volume) {
	c, d := Examined(t, v.Image, v.Sector)
	info := c.Info
	if info.Kind == "" || info.Size <= 0 || info.Size > d.Size() || info.Unit <= 0 {
		t.Errorf("it is said to be %+v", info)
	}
	again, err := families.Identify(t.Context(), d, d.Size(), v.Sector)
	if err != nil || again == nil || again.Info() != info {
		t.Errorf("the second time it is %+v: %v", again, err)
	}
	gone, err := disk.NewOverlay(d, []disk.Patch{{Zeros: min(d.Size(), 1<<20)}}, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	if other, err := families.Examine(t.Context(), gone, gone.Size(), v.Sector); err != nil || other.Maps {
		t.Errorf("without its start its maps are believed: %v %+v", err, other.Info)
	}
}

// Kept is a copy of an image in which everything that doesn't count as used is overwritten.
func Kept(t testing.TB, image string, sector int) string {
	t.Helper()
	c, d := Examined(t, image, sector)
	const step = 1 << 20
	out, err := os.Create(filepath.Join(t.TempDir(), "kept"))
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	b := bytes.Repeat([]byte{0xA5}, step)
	for at := int64(0); at < d.Size(); at += step {
		write(t, out, b[:min(step, d.Size()-at)], at)
	}
	at := int64(0)
	for sp, err := range c.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		if sp.Start < at || sp.Empty() || sp.End > d.Size() {
			t.Fatalf("%v is out of order, or beyond the end", sp)
		}
		for from := sp.Start; from < sp.End; from += step {
			piece := b[:min(step, sp.End-from)]
			if err := disk.ReadFull(d, piece, from); err != nil {
				t.Fatal(err)
			}
			write(t, out, piece, from)
		}
		at = sp.End
	}
	return out.Name()
}

// used: everything else may be lost, and the system's checker and the files know no difference.
func used(t *testing.T, v Volume) {
	c, d := Examined(t, v.Image, v.Sector)
	if c.Used <= 0 || c.Used > d.Size() {
		t.Errorf("%d bytes of %d are used", c.Used, d.Size())
	}
	copied := Kept(t, v.Image, v.Sector)
	v.Check(t, copied)
	same(t, v, copied)
}

// same compares the files of an image, as our own reader and as the system see them.
func same(t testing.TB, v Volume, image string) {
	t.Helper()
	if v.Files == nil {
		return
	}
	c, _ := Examined(t, image, v.Sector)
	tree, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	compare(t, v.Files, sums(t, tree), "our own reader")
	if v.Mounted != nil {
		v.Mounted(t, image, func(point string) { SameTree(t, v.Files, point) })
	}
}

func compare(t testing.TB, want, have map[string][32]byte, who string) {
	t.Helper()
	for name, sum := range want {
		if have[name] != sum {
			t.Errorf("%s: %s differs or is missing", who, name)
			return
		}
	}
}

// sums are those of all files of a tree, by path.
func sums(t testing.TB, tree fsys.Tree) map[string][32]byte {
	t.Helper()
	out := map[string][32]byte{}
	each(t, tree, func(path string, _ fsys.Item, e fsys.Entry) {
		if e.Err != nil {
			t.Fatalf("%s: %v", path, e.Err)
		}
		if !e.Mode.IsRegular() {
			return
		}
		c, err := tree.Open(e.Item, "")
		if err != nil {
			t.Fatalf("%s: %v", path, err)
		}
		h := sha256.New()
		if _, err := io.Copy(h, io.NewSectionReader(c, 0, c.Size())); err != nil {
			t.Fatalf("%s: %v", path, err)
		}
		out[path] = [32]byte(h.Sum(nil))
	})
	return out
}

func each(t testing.TB, tree fsys.Tree, do func(path string, folder fsys.Item, e fsys.Entry)) {
	t.Helper()
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	if err := fsys.Walk(tree, root, ".", func(path string, folder fsys.Item, all []fsys.Entry, err error) error {
		for _, e := range all {
			do(fsys.Join(path, e.Name), folder, e)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
}

// files: all are there, each is found by its name, is read alike from anywhere, and lies in what counts as used.
func files(t *testing.T, v Volume) {
	if v.Files == nil {
		t.Skip("it holds no files")
	}
	same(t, v, v.Image)
	c, _ := Examined(t, v.Image, v.Sector)
	var kept span.Set
	for sp, err := range c.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		kept.Add(sp)
	}
	tree, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(13, 2))
	each(t, tree, func(path string, folder fsys.Item, e fsys.Entry) {
		found, err := tree.Lookup(folder, e.Name)
		if err != nil || found.ID != e.ID || found.Size != e.Size || found.Mode != e.Mode {
			t.Errorf("%s: found as %+v: %v", path, found, err)
		}
		if !e.Mode.IsRegular() {
			return
		}
		contents, err := tree.Open(e.Item, "")
		if err != nil {
			t.Fatalf("%s: %v", path, err)
		}
		for _, sp := range contents.Spans() {
			if !kept.Covers(sp) {
				t.Errorf("%s lies at %v, which doesn't count as used", path, sp)
			}
		}
		anywhere(t, path, contents, r)
	})
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tree.Lookup(root, "no such name in any tree"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a name that isn't there: %v", err)
	}
}

// anywhere: a piece of the contents is the same as that of all.
func anywhere(t testing.TB, path string, c fsys.Contents, r *rand.Rand) {
	t.Helper()
	all := make([]byte, c.Size())
	if _, err := c.ReadAt(all, 0); err != nil && !errors.Is(err, io.EOF) {
		t.Errorf("%s: %v", path, err)
	}
	for range 4 {
		off := r.Int64N(c.Size() + 1)
		b := make([]byte, r.Int64N(9000))
		n, err := c.ReadAt(b, off)
		if n < len(b) && !errors.Is(err, io.EOF) || !bytes.Equal(b[:n], all[off:off+int64(n)]) ||
			n < len(b) && off+int64(n) != c.Size() {
			t.Errorf("%s: %d bytes at %d of %d: %d, %v", path, len(b), off, c.Size(), n, err)
		}
	}
	if _, err := c.ReadAt(make([]byte, 1), c.Size()); !errors.Is(err, io.EOF) {
		t.Errorf("%s: at its end: %v", path, err)
	}
}

// thereAndBack makes the volume half as large again, and then as large as it was.
func thereAndBack(t *testing.T, v Volume) {
	c, d := Examined(t, v.Image, v.Sector)
	if _, ok := c.Volume.(fsys.Resizer); !ok {
		t.Skip("it can't become another size")
	}
	size := d.Size()
	larger, change := Resized(t, v.Image, fsys.Bounds{Size: size * 3 / 2 / 4096 * 4096, Sector: v.Sector})
	if change.Size <= c.Info.Size {
		t.Skipf("it keeps its size: %q", change.Notes)
	}
	v.Check(t, larger)
	same(t, v, larger)
	grown, _ := Examined(t, larger, v.Sector)
	if _, ok := grown.Volume.(fsys.Shrinker); !ok {
		return
	}
	back, change := Resized(t, larger, fsys.Bounds{Size: size, Sector: v.Sector})
	if change.Size > size {
		t.Errorf("it has %d bytes on %d", change.Size, size)
	}
	v.Check(t, back)
	same(t, v, back)
}

// hostile overwrites bytes of what the volume needs, here and there, and has everything done to it that can be.
func hostile(t *testing.T, v Volume) {
	const rounds = 80
	c, d := Examined(t, v.Image, v.Sector)
	var spans []span.Span
	for sp, err := range c.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		spans = append(spans, sp)
	}
	r := rand.New(rand.NewPCG(13, uint64(d.Size())))
	for range rounds {
		var patches []disk.Patch
		for range 1 + r.IntN(3) {
			sp := spans[min(r.IntN(len(spans)), r.IntN(len(spans)))] // the first ones hold more that matters
			b := make([]byte, min(1+r.Int64N(16), sp.Len()))
			for i := range b {
				b[i] = [3]byte{0, 0xFF, byte(r.Uint32())}[r.IntN(3)]
			}
			patches = disk.Over([]disk.Patch{{Off: sp.Start + r.Int64N(sp.Len()-int64(len(b))+1), Data: b}}, patches)
		}
		o, err := disk.NewOverlay(d, patches, d.Size())
		if err != nil {
			t.Fatal(err)
		}
		Endure(t, o)
	}
}

// Resized makes an image of the volume of another one as it is after a change, over junk.
func Resized(t testing.TB, from string, b fsys.Bounds) (path string, c *fsys.Change) {
	t.Helper()
	content, src := Examined(t, from, b.Sector)
	c, err := content.Volume.(fsys.Resizer).Resize(b)
	if err != nil {
		t.Fatal(err)
	}
	size := b.Size
	if size == 0 {
		size = src.Size()
	}
	path = testkit.Image(t, "resized.img", size)
	to, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	sparse := b.Size > 1<<30
	if !sparse { // where groups begin, among other places
		junk := bytes.Repeat([]byte{0xE5, 0x5A, 0x01, 0x99}, 1<<18)
		for at := int64(0); at < b.Size; at += 4 * int64(len(junk)) {
			write(t, to, junk[:min(int64(len(junk)), b.Size-at)], at)
		}
	}
	moveKept(t, &content, src, c, to)
	for _, q := range c.Patches {
		if q.Span().End > size {
			t.Fatalf("patch %s (%s) lies beyond the part of %d bytes", q.Span(), q.Why, size)
		}
		data := q.Bytes()
		if data == nil && sparse {
			continue // it is a hole
		} else if data == nil {
			data = make([]byte, q.Zeros)
		}
		write(t, to, data, q.Off)
	}
	return path, c
}

// moveKept writes what a twin would hold to where a change puts it.
func moveKept(t testing.TB, content *fsys.Content, src disk.Device, c *fsys.Change, to *os.File) {
	t.Helper()
	moves := c.Moves
	if len(moves) == 0 {
		moves = []disk.Move{{From: span.Span{End: content.Info.Size}}}
	}
	for sp, err := range content.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range moves {
			for hit := range disk.Chunks(sp.Intersect(m.From), 1<<20) {
				b := make([]byte, hit.Len())
				if err := disk.ReadFull(src, b, hit.Start); err != nil {
					t.Fatal(err)
				}
				write(t, to, b, hit.Start+m.Shift())
			}
		}
	}
}

func write(t testing.TB, f *os.File, b []byte, at int64) {
	t.Helper()
	if _, err := f.WriteAt(b, at); err != nil {
		t.Fatal(err)
	}
}

// SumsOf gives the sums of all files in a folder, by path.
func SumsOf(t testing.TB, dir string) map[string][32]byte {
	t.Helper()
	out := map[string][32]byte{}
	if err := filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		b, err := os.ReadFile(p)
		rel, _ := filepath.Rel(dir, p)
		out[rel] = sha256.Sum256(b)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

// SameTree compares what is mounted at a point with what was put in.
func SameTree(t testing.TB, want map[string][32]byte, point string) {
	t.Helper()
	compare(t, want, SumsOf(t, point), "the system")
}

// Lives holds a volume that became another size to what it must be then: sound for the system's checker and for our own
// reader, its files as they were, and so many bytes of room that can be written. use, where it is given, does more
// while it is mounted.
func Lives(t testing.TB, v Volume, image string, change *fsys.Change, room int64, use func(point string)) {
	t.Helper()
	v.Check(t, image)
	if c, _ := Examined(t, image, v.Sector); c.Info.Size != change.Size {
		t.Errorf("our own reader sees %d bytes, and it became %d", c.Info.Size, change.Size)
	}
	if v.Mounted == nil {
		return
	}
	v.Mounted(t, image, func(point string) {
		SameTree(t, v.Files, point)
		if use != nil {
			use(point)
		}
		fill(t, filepath.Join(point, "new room"), room)
	})
	v.Check(t, image)
	Examined(t, image, v.Sector)
}

// fill writes n bytes into a new file, for which there is room only where the volume grew.
func fill(t testing.TB, name string, n int64) {
	t.Helper()
	f, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	b := bytes.Repeat([]byte("gull"), 1<<18)
	for at := int64(0); at < n; at += int64(len(b)) {
		if _, err := f.Write(b[:min(int64(len(b)), n-at)]); err != nil {
			t.Fatalf("the new room can't be written: %v", err)
		}
	}
	if err := f.Sync(); err != nil {
		t.Fatal(err)
	}
}
