package keeping

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
	"twinshelf/internal/testkit"
)

func TestBlocksAreStoredOnce(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(20, 1)
	tw := shelftest.Commit(t, s, "Ticket desk", append(blocks, blocks...))
	before, _ := s.Stats(t.Context())
	if before.Blocks != 21 { // 20 and the node
		t.Errorf("%d blocks", before.Blocks)
	}
	shelftest.Holds(t, s, tw, append(blocks, blocks...))
	s = shelftest.Reopen(t, s)
	shelftest.Holds(t, s, tw, append(blocks, blocks...))
	blocks[3] = shelftest.Content(1, 99)[0]
	next := shelftest.Commit(t, s, "Harbour kiosk", append(blocks, blocks...))
	after, _ := s.Stats(t.Context())
	if after.Blocks != 23 {
		t.Errorf("%d blocks after a change of one", after.Blocks)
	}
	shelftest.Holds(t, shelftest.Reopen(t, s), next, append(blocks, blocks...))
	twins, problems := s.Twins(t.Context())
	if len(twins) != 2 || len(problems) != 0 || twins[0].Machine != "Harbour kiosk" {
		t.Errorf("%v %v", twins, problems)
	}
}

func TestIndexIsRebuilt(t *testing.T) {
	s := shelftest.New(t)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(30, 1))
	files := shelftest.List(t, s, "index")
	for _, c := range []struct {
		name string
		harm func(path string)
	}{
		{"lost", func(p string) { os.Remove(p) }},
		{"cut off", func(p string) { os.Truncate(p, 1000) }},
		{"damaged directory", func(p string) { shelftest.Flip(t, p, 200) }},
		{"damaged header", func(p string) { shelftest.Flip(t, p, 20) }},
	} {
		s := shelftest.Reopen(t, s)
		p := filepath.Join(s.Place(), "index/"+files[0])
		whole, _ := os.ReadFile(p)
		c.harm(p)
		again := shelftest.Reopen(t, s)
		shelftest.Holds(t, again, tw, shelftest.Content(30, 1))
		if n, err := again.Reindex(t.Context()); n != 31 || err != nil {
			t.Errorf("%s: reindex named %d blocks, %v", c.name, n, err)
		}
		shelftest.Holds(t, shelftest.Reopen(t, s), tw, shelftest.Content(30, 1))
		fresh := shelftest.List(t, s, "index")
		os.Remove(filepath.Join(s.Place(), "index/"+fresh[0]))
		os.WriteFile(p, whole, 0o600)
	}
}

func TestDamageIsNamedAndTheRestIsUsable(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(10, 1)
	tw := shelftest.Commit(t, s, "Kiosk", blocks)
	packs := shelftest.List(t, s, "packs")
	shelftest.Flip(t, filepath.Join(s.Place(), "packs/"+packs[0]), store.HeaderLen+96+500) // in the first block
	s = shelftest.Reopen(t, s)
	d, _ := s.OpenDisk(t.Context(), tw, 0)
	b := make([]byte, 64<<10)
	var hurt *store.HurtError
	if _, err := d.ReadAt(b, 0); !errors.As(err, &hurt) || !strings.Contains(err.Error(), packs[0]) {
		t.Errorf("damaged block: %v", err)
	}
	for i := 1; i < 10; i++ {
		if _, err := d.ReadAt(b, int64(i)*64<<10); err != nil || !bytes.Equal(b, blocks[i]) {
			t.Errorf("block %d beside the damage: %v", i, err)
		}
	}
	os.Remove(filepath.Join(s.Place(), "packs/"+packs[0]))
	s = shelftest.Reopen(t, s)
	d, _ = s.OpenDisk(t.Context(), tw, 0)
	if _, err := d.ReadAt(b, 0); err == nil {
		t.Error("a lost pack is not missed")
	}
	// A damaged twin hides no other.
	other := shelftest.Commit(t, s, "Other", shelftest.Content(3, 7))
	shelftest.FlipBoth(t, s, shelftest.TwinFile(t, s, tw.ID), 300)
	twins, problems := s.Twins(t.Context())
	if len(twins) != 1 || twins[0].ID != other.ID || len(problems) != 1 || !store.IsHurt(problems[0]) {
		t.Errorf("%v %v", twins, problems)
	}
}

func TestPackWithoutItsTable(t *testing.T) {
	s := shelftest.New(t)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(10, 1))
	packs := shelftest.List(t, s, "packs")
	index := shelftest.List(t, s, "index")
	p := filepath.Join(s.Place(), "packs/"+packs[0])
	st, _ := os.Stat(p)
	os.Truncate(p, st.Size()-100) // the writer was killed before the end of the table
	os.Remove(filepath.Join(s.Place(), "index/"+index[0]))
	shelftest.Holds(t, shelftest.Reopen(t, s), tw, shelftest.Content(10, 1))
}

func TestKilledWriterLeavesEarlierTwins(t *testing.T) {
	s := shelftest.New(t)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(10, 1))
	c, err := s.Begin(t.Context(), "Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range shelftest.Content(30, 2) {
		if _, _, err := c.Put(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	shelftest.Abandon(t, s) // the process is gone: the lock is free, its files remain
	again := shelftest.Reopen(t, s)
	if twins, problems := again.Twins(t.Context()); len(twins) != 1 || len(problems) != 0 {
		t.Errorf("%v %v", twins, problems)
	}
	shelftest.Holds(t, again, tw, shelftest.Content(10, 1))
	next := shelftest.Commit(t, again, "Kiosk", shelftest.Content(30, 2))
	shelftest.Holds(t, shelftest.Reopen(t, s), next, shelftest.Content(30, 2))
	if left := shelftest.List(t, s, "tmp"); len(left) != 0 {
		t.Errorf("left in tmp: %v", left)
	}
}

func TestOneWriter(t *testing.T) {
	s := shelftest.New(t)
	c, err := s.Begin(t.Context(), "Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := shelftest.Reopen(t, s).Begin(t.Context(), "Kiosk"); !errors.Is(err, store.ErrBusy) ||
		!strings.Contains(err.Error(), fmt.Sprint(os.Getpid())) {
		t.Errorf("second writer: %v", err)
	}
	c.Abort(t.Context())
	c2, err := shelftest.Reopen(t, s).Begin(t.Context(), "Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	c2.Abort(t.Context())
}

func TestManyPutters(t *testing.T) {
	s := shelftest.New(t)
	c, err := s.Begin(t.Context(), "Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	blocks := shelftest.Content(60, 3)
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for _, b := range blocks {
				if _, _, err := c.Put(t.Context(), b); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	tw := shelftest.TwinOf(t, c, "Kiosk", blocks, time.Now())
	if err := c.Commit(t.Context(), tw); err != nil {
		t.Fatal(err)
	}
	if st, _ := s.Stats(t.Context()); st.Blocks != 61 {
		t.Errorf("%d blocks", st.Blocks)
	}
	shelftest.Holds(t, s, tw, blocks)
}

// TestFullDisk fills a small file system in the middle of a session.
func TestFullDisk(t *testing.T) {
	testkit.Root(t)
	dir := t.TempDir()
	testkit.Do(t, "mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", dir)
	defer testkit.Do(t, "umount", dir)
	s, err := shelf.Create(t.Context(), filepath.Join(dir, "oak"), store.New{Name: "Oak", BlockSize: 64 << 10})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(10, 1))
	free, _ := s.Free(t.Context())
	c, err := s.Begin(t.Context(), "Kiosk")
	if err != nil {
		t.Fatal(err)
	}
	var failed error
	for _, b := range shelftest.Content(400, 2) {
		if _, _, failed = c.Put(t.Context(), b); failed != nil {
			break
		}
	}
	if failed == nil || !strings.Contains(failed.Error(), "no space left") || !strings.Contains(failed.Error(), dir) {
		t.Errorf("a full disk: %v", failed)
	}
	if err := c.Commit(t.Context(), &shelf.Twin{}); err == nil {
		t.Error("a failed session was committed")
	}
	if now, _ := s.Free(t.Context()); now < free-64<<10 {
		t.Errorf("%d bytes free of %d: the space wasn't given back", now, free)
	}
	again, err := shelf.Open(t.Context(), s.Place(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	shelftest.Holds(t, again, tw, shelftest.Content(10, 1))
}

func TestNotAShelf(t *testing.T) {
	dir := t.TempDir()
	if _, err := shelf.Open(t.Context(), dir, nil); !errors.Is(err, store.ErrNoShelf) ||
		!strings.Contains(err.Error(), "shelf new") {
		t.Errorf("empty folder: %v", err)
	}
	if _, err := shelf.Open(t.Context(), filepath.Join(dir, "missing"), nil); !errors.Is(err, store.ErrNoShelf) {
		t.Errorf("missing folder: %v", err)
	}
	os.WriteFile(filepath.Join(dir, "letter.txt"), []byte("x"), 0o600)
	if _, err := shelf.Create(t.Context(), dir, store.New{Name: "Oak", BlockSize: 0}); err == nil ||
		!strings.Contains(err.Error(), "not empty") {
		t.Errorf("folder in use: %v", err)
	}
	s := shelftest.New(t)
	if _, err := shelf.Create(t.Context(), s.Place(), store.New{Name: "Oak", BlockSize: 0}); err == nil ||
		!strings.Contains(err.Error(), "already holds") {
		t.Errorf("on top of a shelf: %v", err)
	}
	head := filepath.Join(s.Place(), "head")
	shelftest.Flip(t, head, 200)
	if again, err := shelf.Open(t.Context(), s.Place(), nil); err != nil || len(again.Notes()) == 0 {
		t.Errorf("the copy of the head isn't used: %v", err)
	}
	b, _ := os.ReadFile(head)
	binary.LittleEndian.PutUint16(b[8:], 9)
	binary.LittleEndian.PutUint32(b[124:], crc32.Checksum(b[:124], crc32.MakeTable(crc32.Castagnoli)))
	os.WriteFile(head, b, 0o600)
	if _, err := shelf.Open(t.Context(), s.Place(), nil); !errors.Is(err, store.ErrNewer) {
		t.Errorf("a newer version: %v", err)
	}
}

func TestFindAndProofs(t *testing.T) {
	s := shelftest.New(t)
	tw := shelftest.Commit(t, s, "Ticket desk", shelftest.Content(2, 1))
	for _, ref := range []string{tw.ID, tw.ID[:12], "ticket DESK"} {
		if got, err := s.Find(t.Context(), ref); err != nil || got.ID != tw.ID {
			t.Errorf("%s: %v", ref, err)
		}
	}
	if _, err := s.Find(t.Context(), "Nobody"); !errors.Is(err, shelf.ErrNoTwin) {
		t.Errorf("%v", err)
	}
	p := &shelf.Proof{Twin: tw.ID, When: time.Now(),
		Claims: []shelf.Claim{{About: "part 1", Holds: true}, {About: "part 2"}}}
	if err := s.SaveProof(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	got, problems := s.Proofs(t.Context(), tw.ID)
	if len(got) != 1 || got[0].Holds() || got[0].Words() != "1 of 2 claims fail" || len(problems) != 0 {
		t.Errorf("%+v %v", got, problems)
	}
	if err := s.SaveProof(t.Context(), &shelf.Proof{Twin: "../../etc"}); err == nil {
		t.Error("a proof outside the shelf was written")
	}
	if _, problems := s.Proofs(t.Context(), "../x"); len(problems) == 0 {
		t.Error("a proof outside the shelf was read")
	}
}
