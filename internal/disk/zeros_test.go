package disk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"twinshelf/internal/span"
)

// sparse makes an image of 64 MiB with data at 1 MiB and at 40 MiB, open for writing.
func sparse(t *testing.T) *WritableFile {
	t.Helper()
	path := filepath.Join(t.TempDir(), "pier.img")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	f.Truncate(64 << 20)
	f.WriteAt(bytes.Repeat([]byte{7}, 100_000), 1<<20)
	f.WriteAt(bytes.Repeat([]byte{8}, 9<<20), 40<<20)
	f.Close()
	d, err := open(path, Identity{}, os.O_RDWR)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return &WritableFile{d}
}

func allocatedOf(t *testing.T, w *WritableFile) int64 {
	t.Helper()
	st, err := os.Stat(w.Path())
	if err != nil {
		t.Fatal(err)
	}
	return st.Sys().(*syscall.Stat_t).Blocks * 512
}

func TestWriteZerosLeavesHoles(t *testing.T) {
	w := sparse(t)
	before := allocatedOf(t, w)
	var all, written span.Set
	sp := span.Span{Start: 512, End: 60 << 20}
	if err := WriteZeros(w, sp, func(s span.Span, did bool) error {
		if all.Overlaps(s) {
			t.Errorf("%s comes twice", s)
		}
		all.Add(s)
		if did {
			written.Add(s)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if !all.Equal(span.Of(sp)) {
		t.Errorf("stretches %v", all)
	}
	if n := written.Total(); n < 9<<20 || n > 10<<20 {
		t.Errorf("%d bytes were written", n)
	}
	if after := allocatedOf(t, w); after > before {
		t.Errorf("it takes %d bytes and took %d", after, before)
	}
	b := make([]byte, w.Size())
	if err := ReadFull(w, b, 0); err != nil || bytes.Count(b, []byte{0}) != len(b) {
		t.Errorf("not all zeros: %v", err)
	}
	stop := errors.New("stop")
	if err := WriteZeros(w, sp, func(span.Span, bool) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("it doesn't stop: %v", err)
	}
	m := NewMemory(10<<20, 512)
	for i := range m.Bytes {
		m.Bytes[i] = 1
	}
	if err := WriteZeros(m, span.Span{Start: 5, End: 9<<20 + 1}, nil); err != nil ||
		bytes.Count(m.Bytes, []byte{1}) != 5+1<<20-1 {
		t.Errorf("%v, %d bytes are left", err, bytes.Count(m.Bytes, []byte{1}))
	}
}

func TestChunks(t *testing.T) {
	for _, c := range []struct {
		sp   span.Span
		want string
	}{{span.Span{}, "[]"}, {span.Span{Start: 3, End: 4}, "[[3, 4)]"},
		{span.Span{Start: 3, End: 25}, "[[3, 10) [10, 20) [20, 25)]"}, {span.Span{Start: 10, End: 20}, "[[10, 20)]"}} {
		var got []span.Span
		for s := range Chunks(c.sp, 10) {
			got = append(got, s)
		}
		if fmt.Sprint(got) != c.want {
			t.Errorf("%s: %v", c.sp, got)
		}
	}
}

func TestPatchWrites(t *testing.T) {
	m := NewMemory(20<<20, 512)
	for i := range m.Bytes {
		m.Bytes[i] = 1
	}
	data := bytes.Repeat([]byte("fares"), 1<<20)
	stretches := 0
	step := func(span.Span, bool) error { stretches++; return nil }
	for _, p := range []Patch{{Off: 7, Data: data}, {Off: 10 << 20, Zeros: 4096}} {
		if err := p.Write(m, step); err != nil {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(m.Bytes[7:7+len(data)], data) || m.Bytes[6] != 1 || m.Bytes[7+len(data)] != 1 ||
		bytes.Count(m.Bytes[10<<20:], []byte{0}) != 4096 || stretches != 3 {
		t.Errorf("%d stretches", stretches)
	}
	f := &Faulty{Writable: m, BadWrite: span.Of(span.At(5<<20, 1))}
	if err := (Patch{Off: 7, Data: data}).Write(f, nil); !errors.Is(err, ErrMedium) {
		t.Errorf("%v", err)
	}
}

func TestDiscardOfAnImage(t *testing.T) {
	w := sparse(t)
	if err := w.Discard(span.Span{End: w.Size()}); err != nil {
		t.Fatal(err)
	}
	if n := allocatedOf(t, w); n != 0 {
		t.Errorf("%d bytes are left", n)
	}
}

// TestReadingInPassing: what wasn't in the kernel's memory isn't there afterwards, what was stays.
func TestReadingInPassing(t *testing.T) {
	w := sparse(t)
	if err := w.Sync(); err != nil {
		t.Fatal(err)
	}
	told := true // older kernels can't tell what they hold: then the bytes must be right, and nothing is dropped
	held := func(off, n int64) uint64 {
		var c unix.Cachestat_t
		err := unix.Cachestat(uint(w.file().Fd()), &unix.CachestatRange{Off: uint64(off), Len: uint64(n)}, &c, 0)
		if told = err == nil; !told && !errors.Is(err, unix.ENOSYS) && !errors.Is(err, unix.EPERM) {
			t.Fatal(err)
		}
		return c.Cache
	}
	b := make([]byte, 1<<20)
	for _, before := range []bool{false, true} {
		w.Forget()
		if before {
			if err := ReadFull(w, b, 41<<20); err != nil {
				t.Fatal(err)
			}
		}
		d, err := Open(w.Path(), Identity{})
		if err != nil {
			t.Fatal(err)
		}
		if err := ReadFullPassing(d, b, 41<<20); err != nil || b[0] != 8 {
			t.Fatal(err, b[0])
		}
		d.Close()
		if got := held(41<<20, 1<<20) > 0; told && got != before {
			t.Errorf("held before %v, after %v", before, got)
		}
	}
	if err := ReadFullPassing(NewMemory(1<<20, 512), b, 0); err != nil {
		t.Error(err)
	}
}

// telling is a device that says of its holes what a test wants.
type telling struct {
	*Memory
	data span.Span
	err  error
}

func (d telling) NextData(int64) (span.Span, error) { return d.data, d.err }

// TestHoles: only a device that says so holds zeros; one that can't tell has data everywhere.
func TestHoles(t *testing.T) {
	m := NewMemory(1<<20, 512)
	for i, c := range []struct {
		d    Device
		hole span.Span
	}{
		{m, span.Span{}},
		{telling{Memory: m, data: span.At(8192, 512)}, span.Span{Start: 4096, End: 8192}},
		{telling{Memory: m, data: span.At(4096, 512)}, span.Span{Start: 4096, End: 4096}},
		{telling{Memory: m, err: io.EOF}, span.Span{Start: 4096, End: 1 << 20}},
		{telling{Memory: m, err: ErrGone}, span.Span{}},
	} {
		if got := HoleFrom(c.d, 4096); got != c.hole {
			t.Errorf("device %d: %v, want %v", i, got, c.hole)
		}
	}
}
