package spool

import (
	"bytes"
	"math/rand/v2"
	"os"
	"sync"
	"testing"
)

// TestSpool: what was written reads back anywhere, before and after it went into a file, which has no name.
func TestSpool(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	s := new(Spool)
	content := make([]byte, 3*inMemory+17)
	_, _ = rand.NewChaCha8([32]byte{3}).Read(content)
	var readers sync.WaitGroup
	for at := 0; at < len(content); at += 300_001 {
		if _, err := s.Write(content[at:min(len(content), at+300_001)]); err != nil {
			t.Fatal(err)
		}
		size := int(s.Size())
		readers.Go(func() {
			p := make([]byte, min(size, 100_000))
			if n, err := s.ReadAt(p, int64(size-len(p))); n < len(p) || !bytes.Equal(p, content[size-len(p):size]) {
				t.Errorf("at %d: %d bytes, %v", size-len(p), n, err)
			}
		})
	}
	readers.Wait()
	if left, err := os.ReadDir(os.TempDir()); err != nil || len(left) > 0 {
		t.Errorf("a file has a name: %v, %v", left, err)
	}
	if err := s.Close(); err != nil {
		t.Error(err)
	}
	t.Setenv("TMPDIR", "/nowhere")
	if _, err := new(Spool).Write(content); err == nil {
		t.Error("it was kept nowhere")
	}
}
