package disk_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/disktest"
	"twinshelf/internal/span"
)

const conformSize = 3<<20 + 512

// someBytes has data, holes and an odd end.
func someBytes() []byte {
	b := make([]byte, conformSize)
	for i := range b {
		if i%(1<<20) < 1<<19 {
			b[i] = byte(i * 31 >> 3)
		}
	}
	return b
}

func memory(t *testing.T, b []byte) *disk.Memory {
	t.Helper()
	m := disk.NewMemory(int64(len(b)), 512)
	if _, err := m.WriteAt(b, 0); err != nil {
		t.Fatal(err)
	}
	return m
}

func TestMemoryConforms(t *testing.T) { disktest.Conform(t, memory(t, someBytes()), someBytes()) }

// TestUntil: until its context is done such a Device is like its own; then nothing more is read.
func TestUntil(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	d := disk.Until(ctx, memory(t, someBytes()))
	disktest.Conform(t, d, someBytes())
	cancel()
	if _, err := d.ReadAt(make([]byte, 1), 0); !errors.Is(err, context.Canceled) {
		t.Errorf("read after the end: %v", err)
	}
}

func TestFileConforms(t *testing.T) {
	disktest.Conform(t, holed(t), someBytes())
}

// packedPatch is a patch whose bytes are packed.
func packedPatch(t *testing.T) disk.Patch {
	t.Helper()
	var packer disk.Packer
	p := packer.Patch(2<<20-100, bytes.Repeat([]byte("tide and ebb "), 3000), "packed")
	if p.Data != nil || p.Kind() != disk.Data || p.Span() != span.At(2<<20-100, 39_000) {
		t.Fatalf("it isn't packed: %v", p.Span())
	}
	return p
}

// TestPatchedConforms: patches over a device that knows its holes, and over one that doesn't; one of them fills a hole.
func TestPatchedConforms(t *testing.T) {
	patches := []disk.Patch{{Off: 700_000, Data: []byte("in a hole")}, {Off: 4096, Zeros: 8192},
		{Off: conformSize - 4, Data: []byte("last")}, {Off: 1<<20 - 3, Data: []byte("across")}, packedPatch(t)}
	want := someBytes()
	for _, p := range patches {
		copy(want[p.Off:], append(bytes.Clone(p.Bytes()), make([]byte, p.Zeros)...))
	}
	for _, base := range []disk.Device{memory(t, someBytes()), holed(t)} {
		d, err := disk.Patched(base, patches)
		if err != nil {
			t.Fatal(err)
		}
		if _, knew := base.(disk.Sparse); knew {
			if _, knows := d.(disk.Sparse); !knows {
				t.Error("its holes aren't known any more")
			}
		}
		disktest.Conform(t, d, want)
	}
	if _, err := disk.Patched(holed(t), append(patches, disk.Patch{Off: 4097, Zeros: 1})); err == nil {
		t.Error("patches that overlap are laid over it")
	}
}

// holed is a file of some bytes with holes where there are none.
func holed(t *testing.T) *disk.File {
	t.Helper()
	want := someBytes()
	path := filepath.Join(t.TempDir(), "disk.img")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	for off := 0; off < len(want); off += 1 << 19 { // every other half MiB is a hole
		if off%(1<<20) == 0 {
			if _, err := f.WriteAt(want[off:min(off+1<<19, len(want))], int64(off)); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := f.Truncate(int64(len(want))); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	d, err := disk.Open(path, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

func TestOverlayConforms(t *testing.T) {
	want := someBytes()
	base := memory(t, want)
	patches := []disk.Patch{{Off: 0, Data: []byte("first")}, {Off: 700_000, Zeros: 5000},
		{Off: 1<<20 - 3, Data: []byte("across")},
		packedPatch(t), {Off: conformSize - 4, Data: []byte("last")}}
	for _, p := range patches {
		copy(want[p.Off:], append(bytes.Clone(p.Bytes()), make([]byte, p.Zeros)...))
	}
	for _, size := range []int64{conformSize, conformSize + 1<<20} { // as large as its base, and larger
		o, err := disk.NewOverlay(base, patches, size)
		if err != nil {
			t.Fatal(err)
		}
		disktest.Conform(t, o, append(want, make([]byte, size-conformSize)...))
	}
}

func TestArrangedConforms(t *testing.T) {
	from := someBytes()
	moves := []disk.Move{{From: span.Span{Start: 1 << 20, End: 2 << 20}, To: 0},
		{From: span.Span{Start: 100, End: 5000}, To: 2<<20 + 7}, {From: span.Span{End: 512}, To: 4<<20 - 512}}
	want := make([]byte, 4<<20)
	for _, m := range moves {
		copy(want[m.To:], from[m.From.Start:m.From.End])
	}
	a, err := disk.Arrange(memory(t, from), int64(len(want)), moves)
	if err != nil {
		t.Fatal(err)
	}
	disktest.Conform(t, a, want)
}
