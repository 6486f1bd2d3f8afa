package shelf

import (
	"bytes"
	"encoding/binary"
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

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

func newTest(t testing.TB) *Shelf {
	t.Helper()
	s, err := Create(filepath.Join(t.TempDir(), "oak"), "Oak", 64<<10)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func reopen(t testing.TB, s *Shelf) *Shelf {
	t.Helper()
	again, err := Open(s.Place())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	return again
}

var contents sync.Map

// content gives n different blocks, some of which can't be packed.
func content(n int, seed uint64) [][]byte {
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
		b := testkit.Noise(seed<<32|uint64(i), 64<<10)
		for j := 0; i%2 == 0 && j < len(b); j++ {
			b[j] = b[j]%5 + 'a'
		}
		out[i] = b
	}
	return out
}

// twinOf makes a twin of a disk that consists of the blocks.
func twinOf(t testing.TB, c *Session, machine string, blocks [][]byte, taken time.Time) *Twin {
	t.Helper()
	return describeBlocks(blocks, machine, taken, func(b []byte) Name {
		n, _, err := c.Put(b)
		if err != nil {
			t.Fatal(err)
		}
		return n
	})
}

// describeBlocks describes a disk of blocks that put names.
func describeBlocks(blocks [][]byte, machine string, taken time.Time, put func([]byte) Name) *Twin {
	size := int64(len(blocks)) * 64 << 10
	reg := Region{Span: span.Span{End: size}, Captured: true}
	for i := 0; i < len(blocks); i += NodeBlocks {
		var refs []BlockRef
		for _, b := range blocks[i:min(len(blocks), i+NodeBlocks)] {
			refs = append(refs, BlockRef{disk.Data, put(b)})
		}
		reg.Nodes = append(reg.Nodes, put(EncodeNode(refs)).String())
	}
	return &Twin{ID: NewTwinID(taken), Machine: machine, Taken: taken,
		Disks: []TwinDisk{{Identity: disk.Identity{Model: "m", Size: size, Sector: 512}, Table: &table.Table{Sector: 512}, Regions: []Region{reg}}}}
}

func commit(t testing.TB, s *Shelf, machine string, blocks [][]byte) *Twin {
	t.Helper()
	c, err := s.Begin("Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	tw := twinOf(t, c, machine, blocks, time.Now())
	if err := c.Commit(tw); err != nil {
		t.Fatal(err)
	}
	return tw
}

func holds(t testing.TB, s *Shelf, tw *Twin, blocks [][]byte) {
	t.Helper()
	d, err := s.OpenDisk(tw, 0)
	if err != nil {
		t.Fatal(err)
	}
	all := bytes.Join(blocks, nil)
	got := make([]byte, len(all))
	if _, err := d.ReadAt(got, 0); err != nil || !bytes.Equal(got, all) {
		t.Fatalf("the twin reads differently: %v", err)
	}
	part := make([]byte, 1000)
	if _, err := d.ReadAt(part, 64<<10-500); err != nil || !bytes.Equal(part, all[64<<10-500:][:1000]) {
		t.Fatalf("a read over a block's edge differs: %v", err)
	}
}

func TestBlocksAreStoredOnce(t *testing.T) {
	s := newTest(t)
	blocks := content(20, 1)
	tw := commit(t, s, "Ticket desk", append(blocks, blocks...))
	before, _ := s.Stats()
	if before.Blocks != 21 { // 20 and the node
		t.Errorf("%d blocks", before.Blocks)
	}
	holds(t, s, tw, append(blocks, blocks...))
	s = reopen(t, s)
	holds(t, s, tw, append(blocks, blocks...))
	blocks[3] = content(1, 99)[0]
	next := commit(t, s, "Harbour kiosk", append(blocks, blocks...))
	after, _ := s.Stats()
	if after.Blocks != 23 {
		t.Errorf("%d blocks after a change of one", after.Blocks)
	}
	holds(t, reopen(t, s), next, append(blocks, blocks...))
	twins, problems := s.Twins()
	if len(twins) != 2 || len(problems) != 0 || twins[0].Machine != "Harbour kiosk" {
		t.Errorf("%v %v", twins, problems)
	}
}

func TestManySessionsMergeTheIndex(t *testing.T) {
	s := newTest(t)
	var twins []*Twin
	for i := range 12 {
		twins = append(twins, commit(t, s, "Kiosk", content(4, uint64(i))))
	}
	files, _ := s.b.List("index")
	if len(files) > maxSegments {
		t.Errorf("%d segments", len(files))
	}
	s = reopen(t, s)
	for i, tw := range twins {
		holds(t, s, tw, content(4, uint64(i)))
	}
}

func TestIndexIsRebuilt(t *testing.T) {
	s := newTest(t)
	tw := commit(t, s, "Kiosk", content(30, 1))
	files, _ := s.b.List("index")
	for _, c := range []struct {
		name string
		harm func(path string)
	}{
		{"lost", func(p string) { os.Remove(p) }},
		{"cut off", func(p string) { os.Truncate(p, 1000) }},
		{"damaged directory", func(p string) { flip(t, p, 200) }},
		{"damaged header", func(p string) { flip(t, p, 20) }},
	} {
		s := reopen(t, s)
		p := s.b.(folder).path("index/" + files[0])
		whole, _ := os.ReadFile(p)
		c.harm(p)
		again := reopen(t, s)
		holds(t, again, tw, content(30, 1))
		if n, err := again.Reindex(); n != 31 || err != nil {
			t.Errorf("%s: reindex named %d blocks, %v", c.name, n, err)
		}
		holds(t, reopen(t, s), tw, content(30, 1))
		fresh, _ := s.b.List("index")
		os.Remove(s.b.(folder).path("index/" + fresh[0]))
		os.WriteFile(p, whole, 0o600)
	}
}

func flip(t testing.TB, path string, at int64) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	b := make([]byte, 1)
	f.ReadAt(b, at)
	b[0] ^= 0x40
	f.WriteAt(b, at)
}

// flipBoth hurts a small file and its copy.
func flipBoth(t testing.TB, s *Shelf, file string, at int64) {
	t.Helper()
	flip(t, s.b.(folder).path(file), at)
	flip(t, s.b.(folder).path(copyOf(file)), at)
}

func TestDamageIsNamedAndTheRestIsUsable(t *testing.T) {
	s := newTest(t)
	blocks := content(10, 1)
	tw := commit(t, s, "Kiosk", blocks)
	packs, _ := s.b.List("packs")
	flip(t, s.b.(folder).path("packs/"+packs[0]), headerLen+entryLen+500) // in the first block
	s = reopen(t, s)
	d, _ := s.OpenDisk(tw, 0)
	b := make([]byte, 64<<10)
	var hurt *Hurt
	if _, err := d.ReadAt(b, 0); !errors.As(err, &hurt) || !strings.Contains(err.Error(), packs[0]) {
		t.Errorf("damaged block: %v", err)
	}
	for i := 1; i < 10; i++ {
		if _, err := d.ReadAt(b, int64(i)*64<<10); err != nil || !bytes.Equal(b, blocks[i]) {
			t.Errorf("block %d beside the damage: %v", i, err)
		}
	}
	os.Remove(s.b.(folder).path("packs/" + packs[0]))
	s = reopen(t, s)
	d, _ = s.OpenDisk(tw, 0)
	if _, err := d.ReadAt(b, 0); err == nil {
		t.Error("a lost pack is not missed")
	}
	// A damaged twin hides no other.
	other := commit(t, s, "Other", content(3, 7))
	flipBoth(t, s, s.twinPath(tw.Machine, tw.ID), 300)
	twins, problems := s.Twins()
	if len(twins) != 1 || twins[0].ID != other.ID || len(problems) != 1 || !IsHurt(problems[0]) {
		t.Errorf("%v %v", twins, problems)
	}
}

func TestPackWithoutItsTable(t *testing.T) {
	s := newTest(t)
	tw := commit(t, s, "Kiosk", content(10, 1))
	packs, _ := s.b.List("packs")
	index, _ := s.b.List("index")
	p := s.b.(folder).path("packs/" + packs[0])
	st, _ := os.Stat(p)
	os.Truncate(p, st.Size()-100) // the writer was killed before the end of the table
	os.Remove(s.b.(folder).path("index/" + index[0]))
	holds(t, reopen(t, s), tw, content(10, 1))
}

func TestKilledWriterLeavesEarlierTwins(t *testing.T) {
	s := newTest(t)
	tw := commit(t, s, "Kiosk", content(10, 1))
	c, err := s.Begin("Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range content(30, 2) {
		if _, _, err := c.Put(b); err != nil {
			t.Fatal(err)
		}
	}
	c.lock.abandon(t) // the process is gone: the lock is free, its files remain
	again := reopen(t, s)
	if twins, problems := again.Twins(); len(twins) != 1 || len(problems) != 0 {
		t.Errorf("%v %v", twins, problems)
	}
	holds(t, again, tw, content(10, 1))
	next := commit(t, again, "Kiosk", content(30, 2))
	holds(t, reopen(t, s), next, content(30, 2))
	if left, _ := s.b.List("tmp"); len(left) != 0 {
		t.Errorf("left in tmp: %v", left)
	}
}

func TestOneWriter(t *testing.T) {
	s := newTest(t)
	c, err := s.Begin("Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := reopen(t, s).Begin("Kiosk"); !errors.Is(err, ErrBusy) || !strings.Contains(err.Error(), fmt.Sprint(os.Getpid())) {
		t.Errorf("second writer: %v", err)
	}
	c.Abort()
	c2, err := reopen(t, s).Begin("Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	c2.Abort()
}

func TestManyPutters(t *testing.T) {
	s := newTest(t)
	c, err := s.Begin("Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	blocks := content(60, 3)
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for _, b := range blocks {
				if _, _, err := c.Put(b); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	tw := twinOf(t, c, "Kiosk", blocks, time.Now())
	if err := c.Commit(tw); err != nil {
		t.Fatal(err)
	}
	if st, _ := s.Stats(); st.Blocks != 61 {
		t.Errorf("%d blocks", st.Blocks)
	}
	holds(t, s, tw, blocks)
}

// TestFullDisk fills a small file system in the middle of a session.
func TestFullDisk(t *testing.T) {
	testkit.Root(t)
	dir := t.TempDir()
	testkit.Do(t, "mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", dir)
	defer testkit.Do(t, "umount", dir)
	s, err := Create(filepath.Join(dir, "oak"), "Oak", 64<<10)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	tw := commit(t, s, "Kiosk", content(10, 1))
	free, _ := s.Free()
	c, err := s.Begin("Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	var failed error
	for _, b := range content(400, 2) {
		if _, _, failed = c.Put(b); failed != nil {
			break
		}
	}
	if failed == nil || !strings.Contains(failed.Error(), "no space left") || !strings.Contains(failed.Error(), dir) {
		t.Errorf("a full disk: %v", failed)
	}
	if err := c.Commit(&Twin{}); err == nil {
		t.Error("a failed session was committed")
	}
	if now, _ := s.Free(); now < free-64<<10 {
		t.Errorf("%d bytes free of %d: the space wasn't given back", now, free)
	}
	again, err := Open(s.Place())
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	holds(t, again, tw, content(10, 1))
}

func TestNotAShelf(t *testing.T) {
	dir := t.TempDir()
	if _, err := Open(dir); !errors.Is(err, ErrNoShelf) || !strings.Contains(err.Error(), "shelf new") {
		t.Errorf("empty folder: %v", err)
	}
	if _, err := Open(filepath.Join(dir, "missing")); !errors.Is(err, ErrNoShelf) {
		t.Errorf("missing folder: %v", err)
	}
	os.WriteFile(filepath.Join(dir, "letter.txt"), []byte("x"), 0o600)
	if _, err := Create(dir, "Oak", 0); err == nil || !strings.Contains(err.Error(), "not empty") {
		t.Errorf("folder in use: %v", err)
	}
	s := newTest(t)
	if _, err := Create(s.Place(), "Oak", 0); err == nil || !strings.Contains(err.Error(), "already holds") {
		t.Errorf("on top of a shelf: %v", err)
	}
	head := filepath.Join(s.Place(), "head")
	flip(t, head, 200)
	if again, err := Open(s.Place()); err != nil || len(again.Notes()) == 0 {
		t.Errorf("the copy of the head isn't used: %v", err)
	}
	b, _ := os.ReadFile(head)
	binary.LittleEndian.PutUint16(b[offVersion:], 9)
	binary.LittleEndian.PutUint32(b[offCRC:], crc32.Checksum(b[:offCRC], castagnoli))
	os.WriteFile(head, b, 0o600)
	if _, err := Open(s.Place()); !errors.Is(err, ErrNewer) {
		t.Errorf("a newer version: %v", err)
	}
}

func TestFindAndProofs(t *testing.T) {
	s := newTest(t)
	tw := commit(t, s, "Ticket desk", content(2, 1))
	for _, ref := range []string{tw.ID, tw.ID[:12], "ticket DESK"} {
		if got, err := s.Find(ref); err != nil || got.ID != tw.ID {
			t.Errorf("%s: %v", ref, err)
		}
	}
	if _, err := s.Find("Nobody"); !errors.Is(err, ErrNoTwin) {
		t.Errorf("%v", err)
	}
	p := &Proof{Twin: tw.ID, When: time.Now(), Claims: []Claim{{About: "part 1", Holds: true}, {About: "part 2"}}}
	if err := s.SaveProof(p); err != nil {
		t.Fatal(err)
	}
	got, problems := s.Proofs(tw.ID)
	if len(got) != 1 || got[0].Holds() || got[0].Words() != "1 of 2 claims fail" || len(problems) != 0 {
		t.Errorf("%+v %v", got, problems)
	}
	if err := s.SaveProof(&Proof{Twin: "../../etc"}); err == nil {
		t.Error("a proof outside the shelf was written")
	}
	if _, problems := s.Proofs("../x"); len(problems) == 0 {
		t.Error("a proof outside the shelf was read")
	}
}

func TestNodes(t *testing.T) {
	name := checksum([]byte("x"))
	refs := []BlockRef{{disk.Undefined, Name{}}, {disk.Undefined, Name{}}, {disk.Data, name}, {disk.Zero, Name{}}, {disk.Data, name}}
	got, err := DecodeNode(EncodeNode(refs), len(refs))
	if err != nil || fmt.Sprint(got) != fmt.Sprint(refs) {
		t.Errorf("%v %v", got, err)
	}
	for _, bad := range [][]byte{nil, {9, 5, 0}, {2, 5, 0, 1}, {0, 0, 0, 0, 5, 0}, {0, 6, 0}, {0, 5, 0, 1}} {
		if _, err := DecodeNode(bad, 5); err == nil {
			t.Errorf("% x was taken", bad)
		}
	}
}

func FuzzDecodeNode(f *testing.F) {
	f.Add(EncodeNode([]BlockRef{{disk.Zero, Name{}}, {disk.Data, Name{1}}}), 2)
	f.Fuzz(func(t *testing.T, b []byte, n int) {
		n = max(0, min(n, NodeBlocks))
		refs, err := DecodeNode(b, n)
		if err == nil && len(refs) != n {
			t.Fatalf("%d references of %d", len(refs), n)
		}
	})
}

func FuzzFiles(f *testing.F) {
	entry := append(append(header{kind: kindPack}.encode(), (&keyring{}).encodeEntry(Name{1}, codecRaw, []byte("abc"), 3)...), "abc"...)
	f.Add(entry)
	f.Add(append(entry, encodeTable([]packEntry{{Name{1}, headerLen, 3, 3}}, int64(len(entry)))...))
	f.Add((&keyring{}).encodeSegment([]indexRecord{{Name{1}, place{"0011223344556677", 128, 3}}})[:4096])
	f.Add((&keyring{}).document(kindTwin, []byte(`{"id":"a","disks":[{}]}`)))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := memory{bytes.NewReader(b)}
		_, _ = readTable(r, "pack")
		if s, err := (&keyring{}).openSegment("index", r, int64(len(b)), r.Close); err == nil {
			_, _ = s.find(Name{1})
		}
		if p, err := (&keyring{}).payload("twin", b, kindTwin); err == nil && len(p) == 0 {
			t.Log("empty")
		}
	})
}

type memory struct{ *bytes.Reader }

func (memory) Close() error { return nil }

// abandon leaves a lock as a killed process does.
func (l *lock) abandon(t testing.TB) {
	t.Helper()
	l.once.Do(func() {
		close(l.stop)
		l.beats.Wait()
	})
	l.holder.PID = 1 << 30
	if err := l.write(); err != nil {
		t.Fatal(err)
	}
}
