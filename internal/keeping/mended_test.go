package keeping

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/table"
)

// flaky is a folder that can't list one of its folders for a while.
type flaky struct {
	backend.Backend
	fail string
}

func (f *flaky) List(ctx context.Context, dir string) ([]string, error) {
	if dir == f.fail {
		return nil, errors.New("stale file handle")
	}
	return f.Backend.List(ctx, dir)
}

func oneBlock(t *testing.T, s *shelf.Shelf, machine string, b []byte) *shelf.Twin {
	c, err := s.Begin(t.Context(), machine)
	if err != nil {
		t.Fatal(err)
	}
	n, _, err := c.Put(t.Context(), b)
	if err != nil {
		t.Fatal(err)
	}
	node, _, err := c.Put(t.Context(), shelf.EncodeNode([]shelf.BlockRef{{Kind: disk.Data, Name: n}}))
	if err != nil {
		t.Fatal(err)
	}
	tw := &shelf.Twin{ID: shelf.NewTwinID(time.Now()), Machine: machine, Taken: time.Now(),
		Disks: []shelf.TwinDisk{{Identity: disk.Identity{Model: "m", Size: 1 << 20, Sector: 512}, Table: &table.Table{},
			Regions: []shelf.Region{{Span: span.Span{End: 1 << 20}, Captured: true, Nodes: []string{node.String()}}}}}}
	if err := c.Commit(t.Context(), tw); err != nil {
		t.Fatal(err)
	}
	return tw
}

func TestBeginRefusesAStaleIndex(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "s")
	s, err := shelf.Create(t.Context(), dir, store.New{Name: "x", BlockSize: 0})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	a := &flaky{Backend: backend.InFolder(dir)}
	A, err := shelf.OpenAt(t.Context(), a, nil)
	if err != nil {
		t.Fatal(err)
	}
	data := bytes.Repeat([]byte("ferry line "), 1<<20/11+1)[:1<<20]
	first := oneBlock(t, A, "desk", data)
	// somebody else discards the twin and gives the space back
	B, err := shelf.Open(t.Context(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := B.Discard(t.Context(), first, "test"); err != nil {
		t.Fatal(err)
	}
	f, err := GiveBack(t.Context(), B, nil)
	if err != nil {
		t.Fatal(err)
	}
	if f.Removed == 0 {
		t.Fatal("nothing was given back")
	}
	B.Close()
	a.fail = "index"
	if _, err := A.Begin(t.Context(), "kiosk"); err == nil || !strings.Contains(err.Error(), "stale file handle") {
		t.Fatal("Begin goes on with a stale index:", err)
	}
	a.fail = ""
	d, err := A.OpenDisk(t.Context(), oneBlock(t, A, "kiosk", data), 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err = d.ReadAt(make([]byte, 512), 0); err != nil {
		t.Error("the committed twin misses its blocks:", err)
	}
}

func TestReindexKeepsAllPlaces(t *testing.T) {
	bad := 0
	for try := range 12 {
		dir := filepath.Join(t.TempDir(), fmt.Sprint("s", try))
		s, err := shelf.Create(t.Context(), dir, store.New{Name: "x", BlockSize: 0})
		if err != nil {
			t.Fatal(err)
		}
		data := bytes.Repeat([]byte{byte(try), 7, 9, 1, 3}, 200000)
		put := func() store.Name {
			c, err := s.Begin(t.Context(), "desk")
			if err != nil {
				t.Fatal(err)
			}
			n, _, err := c.Put(t.Context(), data)
			if err != nil {
				t.Fatal(err)
			}
			if err := c.Finish(t.Context()); err != nil {
				t.Fatal(err)
			}
			return n
		}
		n := put()
		packs, _ := filepath.Glob(filepath.Join(dir, "packs", "*.pack"))
		b, _ := os.ReadFile(packs[0])
		b[store.HeaderLen+96+5] ^= 0xFF // a byte of the block
		os.WriteFile(packs[0], b, 0o600)
		s.Close()
		if s, err = shelf.Open(t.Context(), dir, nil); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Block(t.Context(), n, nil); err == nil {
			t.Fatal("not hurt")
		}
		// as a refill or the next capture does
		if err := s.Forget(t.Context(), map[store.Name]struct{}{n: {}}); err != nil {
			t.Fatal(err)
		}
		put()
		if _, err := s.Block(t.Context(), n, nil); err != nil {
			t.Fatal("after storing again:", err)
		}
		if _, err := s.Reindex(t.Context()); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Block(t.Context(), n, nil); err != nil {
			bad++
			t.Log("after reindex:", err)
		}
		s.Close()
	}
	if bad > 0 {
		t.Errorf("%d of 12: the index made anew names the hurt copy and not the good one", bad)
	}
}
