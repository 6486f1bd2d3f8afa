package rescue_test

import (
	"context"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// hurtFile is a file of a FUSE file system whose reads fail or hang in some places.
type hurtFile struct {
	fs.Inode
	data   *os.File
	size   int64
	bad    span.Set
	hangs  span.Set
	long   time.Duration
	failed atomic.Int64
}

func (f *hurtFile) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	out.Mode, out.Size = 0o444, uint64(f.size)
	return 0
}

func (f *hurtFile) Open(context.Context, uint32) (fs.FileHandle, uint32, syscall.Errno) {
	return nil, fuse.FOPEN_DIRECT_IO, 0 // nothing is kept by the kernel
}

func (f *hurtFile) Read(_ context.Context, _ fs.FileHandle, b []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	sp := span.At(off, int64(len(b)))
	if f.hangs.Overlaps(sp) {
		time.Sleep(f.long)
	}
	if f.bad.Overlaps(sp) {
		f.failed.Add(1)
		return nil, syscall.EIO
	}
	n, err := f.data.ReadAt(b, off)
	if err != nil && n == 0 {
		return nil, syscall.EIO
	}
	return fuse.ReadResultData(b[:n]), 0
}

// onLoop gives an image as a block device of the kernel that fails where the file does.
func onLoop(t *testing.T, f *hurtFile, img string) string {
	t.Helper()
	testkit.Root(t)
	data, err := os.Open(img)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { data.Close() })
	st, err := data.Stat()
	if err != nil {
		t.Fatal(err)
	}
	f.data, f.size = data, st.Size()
	dir := t.TempDir()
	root := &fs.Inode{}
	server, err := fs.Mount(dir, root, &fs.Options{OnAdd: func(ctx context.Context) {
		root.AddChild("drive", root.NewPersistentInode(ctx, f, fs.StableAttr{Mode: syscall.S_IFREG}), true)
	}})
	if err != nil {
		testkit.Lacks(t, "FUSE: "+err.Error())
	}
	t.Cleanup(func() {
		for range 100 {
			if server.Unmount() == nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
	return testkit.LoopOf(t, "-r", filepath.Join(dir, "drive"))
}

// TestThroughTheKernel: errors and hangs as the kernel gives them, through a block device, by direct reads: a read that
// hangs is left, the drive gets rest, and all that is good is got all the same.
func TestThroughTheKernel(t *testing.T) {
	img := crane(t)
	want := used(t, opened(t, img))
	bad := scattered(3, want, 5)
	f := &hurtFile{bad: bad, hangs: span.Of(span.At(45*units.MiB, 4096)), long: 1100 * time.Millisecond}
	dev, err := disk.OpenDirect(onLoop(t, f, img), disk.Identity{Model: "Petrel P 32", Serial: "PT32-9C04"})
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	s := newShelf(t)
	p := planOf(s, dev)
	p.Sources[0].Physical = 4096
	stalls := 0
	p.Sources[0].Drive = careful.Options{Patience: 600 * time.Millisecond,
		Stalled: func(span.Span) { stalls++ },
		Sleep:   func(ctx context.Context, _ time.Duration) error { return ctx.Err() }}
	twin, err := sit(t, t.Context(), p)
	if err != nil {
		t.Fatal(err)
	}
	holds(t, s, twin, opened(t, img), want)
	// The hanging place is 4 KiB; no read of it ever ends in time.
	lost, hangs := twin.Disks[0].Missing, span.Of(span.At(45*units.MiB, 4096))
	if over := lost.Subtract(bad).Subtract(hangs).Total(); over > 64<<10 {
		t.Errorf("%d good bytes are missing: %v, bad are %v", over, lost, bad)
	}
	if must := want.Intersect(bad); !must.Subtract(lost).Empty() {
		t.Errorf("%v can't be read, and isn't missing", must.Subtract(lost))
	}
	if f.failed.Load() == 0 || want.Overlaps(span.At(45*units.MiB, 4096)) && stalls == 0 {
		t.Errorf("%d reads failed, %d hung", f.failed.Load(), stalls)
	}
}
