package shelf

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// flaky is a folder that can't list one of its folders for a while.
type flaky struct {
	Backend
	fail string
}

func (f *flaky) List(dir string) ([]string, error) {
	if dir == f.fail {
		return nil, errors.New("stale file handle")
	}
	return f.Backend.List(dir)
}

func oneBlock(t *testing.T, s *Shelf, machine string, b []byte) *Twin {
	c, err := s.Begin(machine)
	if err != nil {
		t.Fatal(err)
	}
	n, _, err := c.Put(b)
	if err != nil {
		t.Fatal(err)
	}
	node, _, err := c.Put(EncodeNode([]BlockRef{{Kind: disk.Data, Name: n}}))
	if err != nil {
		t.Fatal(err)
	}
	tw := &Twin{ID: NewTwinID(time.Now()), Machine: machine, Taken: time.Now(), Disks: []TwinDisk{{Identity: disk.Identity{Model: "m", Size: 1 << 20, Sector: 512}, Table: &table.Table{},
		Regions: []Region{{Span: span.Span{End: 1 << 20}, Captured: true, Nodes: []string{node.String()}}}}}}
	if err := c.Commit(tw); err != nil {
		t.Fatal(err)
	}
	return tw
}

func TestBeginRefusesAStaleIndex(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "s")
	s, err := Create(dir, "x", 0)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	a := &flaky{Backend: Folder(dir)}
	A, err := OpenBackend(a, nil)
	if err != nil {
		t.Fatal(err)
	}
	data := bytes.Repeat([]byte("ferry line "), 1<<20/11+1)[:1<<20]
	first := oneBlock(t, A, "desk", data)
	// somebody else discards the twin and gives the space back
	B, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := B.Discard(first, "test"); err != nil {
		t.Fatal(err)
	}
	f, err := B.GiveBack(context.Background(), false, nil)
	if err != nil {
		t.Fatal(err)
	}
	if f.Removed == 0 {
		t.Fatal("nothing was given back")
	}
	B.Close()
	a.fail = "index"
	if _, err := A.Begin("kiosk"); err == nil || !strings.Contains(err.Error(), "stale file handle") {
		t.Fatal("Begin goes on with a stale index:", err)
	}
	a.fail = ""
	d, err := A.OpenDisk(oneBlock(t, A, "kiosk", data), 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err = d.ReadAt(make([]byte, 512), 0); err != nil {
		t.Error("the committed twin misses its blocks:", err)
	}
}

func TestWhatKilledWritersLeft(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "s")
	s, err := Create(dir, "x", 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	dead := exec.Command("true")
	if err := dead.Run(); err != nil {
		t.Fatal(err)
	}
	mine := fmt.Sprintf("p%s-%d-%d-x", hostTag(), os.Getpid(), startOf(os.Getpid()))
	for _, name := range []string{"0123456789abcdef.index", fmt.Sprintf("p%s-%d-5-x.index", hostTag(), dead.Process.Pid), "0123456789abcdef-1.index", mine} {
		if err := os.WriteFile(filepath.Join(dir, "tmp", name), make([]byte, 1000), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	oneBlock(t, s, "desk", make([]byte, 1<<20-1))
	if _, err := s.GiveBack(context.Background(), false, nil); err != nil {
		t.Fatal(err)
	}
	left, err := os.ReadDir(filepath.Join(dir, "tmp"))
	if err != nil || len(left) != 1 || left[0].Name() != mine {
		t.Errorf("left in tmp: %v %v", left, err)
	}
}

func TestReindexKeepsAllPlaces(t *testing.T) {
	bad := 0
	for try := range 12 {
		dir := filepath.Join(t.TempDir(), fmt.Sprint("s", try))
		s, err := Create(dir, "x", 0)
		if err != nil {
			t.Fatal(err)
		}
		data := bytes.Repeat([]byte{byte(try), 7, 9, 1, 3}, 200000)
		put := func() Name {
			c, err := s.Begin("desk")
			if err != nil {
				t.Fatal(err)
			}
			n, _, err := c.Put(data)
			if err != nil {
				t.Fatal(err)
			}
			if err := c.Finish(); err != nil {
				t.Fatal(err)
			}
			return n
		}
		n := put()
		packs, _ := filepath.Glob(filepath.Join(dir, "packs", "*.pack"))
		b, _ := os.ReadFile(packs[0])
		b[headerLen+entryLen+5] ^= 0xFF // a byte of the block
		os.WriteFile(packs[0], b, 0o600)
		s.Close()
		if s, err = Open(dir); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Block(n, nil); err == nil {
			t.Fatal("not hurt")
		}
		if err := s.forget(map[Name]struct{}{n: {}}); err != nil { // as a refill or the next capture does
			t.Fatal(err)
		}
		put()
		if _, err := s.Block(n, nil); err != nil {
			t.Fatal("after storing again:", err)
		}
		if _, err := s.Reindex(); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Block(n, nil); err != nil {
			bad++
			t.Log("after reindex:", err)
		}
		s.Close()
	}
	if bad > 0 {
		t.Errorf("%d of 12: the index made anew names the hurt copy and not the good one", bad)
	}
}
