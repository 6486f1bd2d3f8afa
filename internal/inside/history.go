package inside

import (
	"bytes"
	"context"
	"errors"
	"hash"
	"io"
	"io/fs"

	"github.com/zeebo/blake3"

	"twinshelf/internal/fsys"
	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
)

// Sight is what became of an item at a date.
type Sight struct {
	Twin  *shelf.Twin
	Entry names.Entry
	There bool
	// Version counts from 1: dates in a row with the same one have the item unchanged. 0 where it isn't there.
	Version int
	// Why says why nobody knows; empty when it is known.
	Why string
}

// History follows a path over the dates of a machine, oldest first. partKey says in which part (Part.Key); one with
// another identity at the same place counts where none has that.
func (l *Library) History(ctx context.Context, twins []*shelf.Twin, partKey string, disk, part int,
	path string) ([]Sight, error) {
	out := make([]Sight, len(twins))
	version := 0
	var last *names.Entry
	for i, t := range twins {
		out[i].Twin = t
		all, err := l.Of(ctx, t)
		if err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			out[i].Why = err.Error()
			continue
		}
		x := partOf(all, partKey, disk, part)
		if x == nil || x.Index == nil {
			if out[i].Why = "that part isn't in this twin"; x != nil {
				out[i].Why = x.Why
			}
			continue
		}
		e, err := x.Index.Find(ctx, path)
		if errors.Is(err, fs.ErrNotExist) {
			last = nil
			continue
		}
		if err != nil {
			out[i].Why = err.Error()
			continue
		}
		if last == nil || !last.Same(e) {
			version++
		}
		out[i].Entry, out[i].There, out[i].Version = e, true, version
		last = &out[i].Entry
	}
	return out, nil
}

// partOf finds a part among those of a twin.
func partOf(all []*Listed, partKey string, disk, part int) *Listed {
	var atPlace *Listed
	for _, x := range all {
		if x.Key() == partKey {
			return x
		}
		if x.Disk == disk && x.Part == part {
			atPlace = x
		}
	}
	return atPlace
}

// Opened is a file that can be read, with where it comes from.
type Opened struct {
	Part     *Part
	Item     fsys.Item
	Contents fsys.Contents
}

// Open finds a file of a part and opens it.
func (p *Part) Open(ctx context.Context, path string) (*Opened, error) {
	t, err := p.Tree(ctx)
	if err != nil {
		return nil, err
	}
	item, err := fsys.Find(t, path)
	if err != nil {
		return nil, err
	}
	c, err := t.Open(item, "")
	if err != nil {
		return nil, err
	}
	return &Opened{p, item, c}, nil
}

// SameContents says whether two files hold the same bytes. Files that lie at the same places in blocks of the same
// names needn't be read.
func SameContents(ctx context.Context, a, b *Opened) (bool, error) {
	if a.Contents.Size() != b.Contents.Size() {
		return false, nil
	}
	if sameBlocks(a, b) {
		return true, nil
	}
	x, err := sum(ctx, a.Contents)
	if err != nil {
		return false, err
	}
	y, err := sum(ctx, b.Contents)
	return bytes.Equal(x, y), err
}

// sameBlocks looks whether both lie at the same places of their parts, and the blocks there are the same.
func sameBlocks(a, b *Opened) bool {
	x, ok := a.Part.Device.(*shelf.Disk)
	y, ok2 := b.Part.Device.(*shelf.Disk)
	if !ok || !ok2 {
		return false
	}
	p, q := a.Contents.Spans(), b.Contents.Spans()
	if len(p) != len(q) || len(p) == 0 {
		return false
	}
	size := x.BlockSize()
	for i := range p {
		if p[i] != q[i] {
			return false
		}
		for at := p[i].Start / size * size; at < p[i].End; at += size {
			r, err1 := x.RefAt(a.Part.Span.Start + at)
			s, err2 := y.RefAt(b.Part.Span.Start + at)
			if err1 != nil || err2 != nil || r != s {
				return false
			}
		}
	}
	return true
}

func sum(ctx context.Context, c fsys.Contents) ([]byte, error) {
	h := blake3.New()
	_, err := io.CopyBuffer(hashing{ctx, h}, io.NewSectionReader(c, 0, c.Size()), make([]byte, 1<<20))
	return h.Sum(nil), err
}

// hashing stops when the work is cancelled.
type hashing struct {
	ctx context.Context
	h   hash.Hash
}

func (h hashing) Write(p []byte) (int, error) {
	if err := h.ctx.Err(); err != nil {
		return 0, err
	}
	return h.h.Write(p)
}
