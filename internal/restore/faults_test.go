package restore

import (
	"context"
	"errors"
	"iter"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/rehearse"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
)

// planned is a plan that copies a memory disk onto one of the same size.
func planned(t *testing.T, src *disk.Memory) *Plan {
	t.Helper()
	f, err := fit.Make(src, src.Identity(), fit.Wish{})
	if err != nil {
		t.Fatal(err)
	}
	o, err := rehearse.Compose(mapped{src}, f)
	if err != nil {
		t.Fatal(err)
	}
	return &Plan{Fit: f, planned: o, toWrite: src.Size(), Source: mapped{src}}
}

// mapped is a memory disk as one piece of data per MiB.
type mapped struct{ *disk.Memory }

func (m mapped) Pieces() iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		for at := int64(0); at < m.Size(); at += 1 << 20 {
			if !yield(disk.Piece{Span: span.At(at, 1<<20), Kind: disk.Data}, nil) {
				return
			}
		}
	}
}

// TestTargetThatFails: whatever goes wrong in the middle, the target's start stays cleared.
func TestTargetThatFails(t *testing.T) {
	src := disk.NewMemory(16<<20, 512)
	for i := range src.Bytes {
		src.Bytes[i] = byte(i>>9) | 1
	}
	src.Bytes[510], src.Bytes[511] = 0, 0
	for _, c := range []struct {
		name   string
		target *disk.Faulty
		want   error
	}{
		{"a place that can't be written", &disk.Faulty{BadWrite: span.Of(span.At(7<<20+5000, 512))}, disk.ErrMedium},
		{"pulled out", &disk.Faulty{GoneAfter: 9 << 20}, disk.ErrGone},
	} {
		m := disk.NewMemory(src.Size(), 512)
		copy(m.Bytes, "an old table")
		c.target.Writable = m
		p := planned(t, src)
		err := run.Start(context.Background(), "t", Phases, 0, func(rc *run.Context) error { return p.writeTo(rc, c.target) }).Wait()
		if !errors.Is(err, c.want) {
			t.Errorf("%s: %v", c.name, err)
		}
		if strings.Trim(string(m.Bytes[:head]), "\x00") != "" {
			t.Errorf("%s: the start of the target isn't empty", c.name)
		}
	}
	m := disk.NewMemory(src.Size(), 512)
	p := planned(t, src)
	if err := run.Start(context.Background(), "t", Phases, 0, func(rc *run.Context) error { return p.writeTo(rc, m) }).Wait(); err != nil || string(m.Bytes) != string(src.Bytes) {
		t.Errorf("a sound target: %v", err)
	}
}

// TestCancelledRestore stops within a block and leaves no table.
func TestCancelledRestore(t *testing.T) {
	src := disk.NewMemory(16<<20, 512)
	src.Bytes[5<<20] = 1
	p := planned(t, src)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	m := disk.NewMemory(src.Size(), 512)
	copy(m.Bytes, "an old table")
	err := run.Start(ctx, "t", Phases, 0, func(rc *run.Context) error { return p.writeTo(rc, m) }).Wait()
	if !errors.Is(err, context.Canceled) || m.Bytes[0] != 0 {
		t.Errorf("%v, first byte %d", err, m.Bytes[0])
	}
}
