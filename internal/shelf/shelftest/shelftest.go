// Package shelftest serves tests of what stands on a shelf: shelves, twins of made-up blocks, and damage.
package shelftest

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// Block is the size of the blocks of these shelves, in bytes.
const Block = 64 << 10

// Phrase opens the sealed ones, at a Cost that is low.
const Phrase = "salt on the railing"

// Cheap is what one try of a passphrase costs in tests.
var Cheap = store.Cost{Passes: 1, Memory: 64, Threads: 1}

// Give gives a passphrase when it is asked for.
func Give(p string) func() ([]byte, error) {
	return func() ([]byte, error) { return []byte(p), nil }
}

// New makes an open shelf in a folder of the test.
func New(t testing.TB) *shelf.Shelf {
	t.Helper()
	return In(t, filepath.Join(t.TempDir(), "oak"), nil)
}

// NewSealed makes a sealed shelf in a folder of the test.
func NewSealed(t testing.TB) *shelf.Shelf {
	t.Helper()
	return In(t, filepath.Join(t.TempDir(), "oak"), []byte(Phrase))
}

// In makes a shelf in a folder; with a passphrase it is sealed.
func In(t testing.TB, dir string, passphrase []byte) *shelf.Shelf {
	t.Helper()
	s, err := shelf.Create(t.Context(), dir,
		store.New{Name: "Oak", BlockSize: Block, Passphrase: passphrase, Cost: Cheap})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// At opens the shelf at a backend, or makes an open one there.
func At(t testing.TB, b backend.Backend) *shelf.Shelf {
	t.Helper()
	s, err := shelf.OpenAt(t.Context(), b, nil)
	if errors.Is(err, store.ErrNoShelf) {
		s, err = shelf.CreateAt(t.Context(), b, store.New{Name: "Elm", BlockSize: Block})
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// Reopen opens a shelf of these once more.
func Reopen(t testing.TB, s *shelf.Shelf) *shelf.Shelf {
	t.Helper()
	return ReopenBy(t, s, Phrase)
}

// ReopenBy opens a shelf once more, with a passphrase.
func ReopenBy(t testing.TB, s *shelf.Shelf, phrase string) *shelf.Shelf {
	t.Helper()
	again, err := shelf.Open(t.Context(), s.Place(), Give(phrase))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	return again
}

var contents sync.Map

// Content gives n different blocks, some of which can't be packed.
func Content(n int, seed uint64) [][]byte {
	key := fmt.Sprint(n, " ", seed)
	c, ok := contents.Load(key)
	if !ok {
		c, _ = contents.LoadOrStore(key, makeContent(n, seed))
	}
	return slices.Clone(c.([][]byte))
}

func makeContent(n int, seed uint64) [][]byte {
	out := make([][]byte, n)
	for i := range out {
		b := testkit.Noise(seed<<32|uint64(i), Block)
		for j := 0; i%2 == 0 && j < len(b); j++ {
			b[j] = b[j]%5 + 'a'
		}
		out[i] = b
	}
	return out
}

// TwinOf makes a twin of a disk that consists of the blocks.
func TwinOf(t testing.TB, c *shelf.Session, machine string, blocks [][]byte, taken time.Time) *shelf.Twin {
	t.Helper()
	return Describe(blocks, machine, taken, func(b []byte) store.Name {
		n, _, err := c.Put(t.Context(), b)
		if err != nil {
			t.Fatal(err)
		}
		return n
	})
}

// Describe describes a disk of blocks that put names.
func Describe(blocks [][]byte, machine string, taken time.Time, put func([]byte) store.Name) *shelf.Twin {
	size := int64(len(blocks)) * Block
	reg := shelf.Region{Span: span.Span{End: size}, Captured: true}
	for i := 0; i < len(blocks); i += shelf.NodeBlocks {
		var refs []shelf.BlockRef
		for _, b := range blocks[i:min(len(blocks), i+shelf.NodeBlocks)] {
			refs = append(refs, shelf.BlockRef{Kind: disk.Data, Name: put(b)})
		}
		reg.Nodes = append(reg.Nodes, put(shelf.EncodeNode(refs)).String())
	}
	return &shelf.Twin{ID: shelf.NewTwinID(taken), Machine: machine, Taken: taken, Disks: []shelf.TwinDisk{{
		Identity: disk.Identity{Model: "m", Size: size, Sector: 512}, Table: &table.Table{Sector: 512},
		Regions: []shelf.Region{reg}}}}
}

// Begin begins a capture.
func Begin(t testing.TB, s *shelf.Shelf, machine string) *shelf.Session {
	t.Helper()
	c, err := s.Begin(t.Context(), machine)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Commit captures a twin of blocks.
func Commit(t testing.TB, s *shelf.Shelf, machine string, blocks [][]byte) *shelf.Twin {
	t.Helper()
	c := Begin(t, s, "Kiosk")
	tw := TwinOf(t, c, machine, blocks, time.Now())
	if err := c.Commit(t.Context(), tw); err != nil {
		t.Fatal(err)
	}
	return tw
}

// Holds fails the test when a twin doesn't read as its blocks.
func Holds(t testing.TB, s *shelf.Shelf, tw *shelf.Twin, blocks [][]byte) {
	t.Helper()
	d, err := s.OpenDisk(t.Context(), tw, 0)
	if err != nil {
		t.Fatal(err)
	}
	all := bytes.Join(blocks, nil)
	got := make([]byte, len(all))
	if _, err := d.ReadAt(got, 0); err != nil || !bytes.Equal(got, all) {
		t.Fatalf("the twin reads differently: %v", err)
	}
	part := make([]byte, 1000)
	if _, err := d.ReadAt(part, Block-500); err != nil || !bytes.Equal(part, all[Block-500:][:1000]) {
		t.Fatalf("a read over a block's edge differs: %v", err)
	}
}

// List are the names in a folder of a shelf.
func List(t testing.TB, s *shelf.Shelf, folder string) []string {
	t.Helper()
	names, err := s.Backend().List(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	return names
}

// TwinFile is the file of a twin, relative to the shelf.
func TwinFile(t testing.TB, s *shelf.Shelf, id string) string {
	t.Helper()
	files, problems := s.TwinFiles(t.Context())
	for _, f := range files {
		if shelf.FileID(f) == id {
			return f
		}
	}
	t.Fatalf("twin %s has no file (%v)", id, problems)
	return ""
}

// Flip turns a bit of a file over.
func Flip(t testing.TB, path string, at int64) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	b := make([]byte, 1)
	if _, err := f.ReadAt(b, at); err != nil {
		t.Fatal(err)
	}
	b[0] ^= 0x40
	if _, err := f.WriteAt(b, at); err != nil {
		t.Fatal(err)
	}
}

// FlipBoth hurts a small file of a shelf and its copy.
func FlipBoth(t testing.TB, s *shelf.Shelf, file string, at int64) {
	t.Helper()
	Flip(t, filepath.Join(s.Place(), file), at)
	Flip(t, filepath.Join(s.Place(), store.CopyOf(file)), at)
}

// Abandon leaves the only lock of a shelf as a killed process does.
func Abandon(t testing.TB, s *shelf.Shelf) {
	t.Helper()
	names := List(t, s, "locks")
	if len(names) != 1 || !strings.HasSuffix(names[0], ".lock") {
		t.Fatalf("the locks are %v", names)
	}
	file := filepath.Join(s.Place(), "locks", names[0])
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var h store.Holder
	if err := json.Unmarshal(raw, &h); err != nil {
		t.Fatal(err)
	}
	h.PID = 1 << 30
	if raw, err = json.Marshal(h); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, raw, 0o600); err != nil {
		t.Fatal(err)
	}
}

// Frame frames a payload as a whole file that isn't sealed, by docs/shelf-format.md alone.
func Frame(kind, suite uint16, payload []byte) []byte {
	b := make([]byte, 128, 128+len(payload))
	le := binary.LittleEndian
	copy(b, "TWINSHLF")
	le.PutUint16(b[8:], 1)
	le.PutUint16(b[10:], kind)
	le.PutUint16(b[12:], suite)
	le.PutUint16(b[14:], 128)
	le.PutUint64(b[16:], uint64(len(payload)))
	sum := blake3.Sum256(payload)
	copy(b[64:], sum[:])
	le.PutUint32(b[124:], crc32.Checksum(b[:124], crc32.MakeTable(crc32.Castagnoli)))
	return append(b, payload...)
}

// WriteHead puts another head into a shelf, in both of its files.
func WriteHead(t testing.TB, s *shelf.Shelf, h store.Head) {
	t.Helper()
	p, err := json.Marshal(h)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"head", "head.copy"} {
		if err := os.WriteFile(filepath.Join(s.Place(), f), Frame(1, h.Suite, p), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}
