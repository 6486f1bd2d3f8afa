package near

import (
	"context"
	"os"
	"path/filepath"

	"twinshelf/internal/store/backend"
)

// first is what whoever opens a shelf reads first: with it, the rest is asked for.
const first = "head"

// looked are the folders that opening looks into.
var looked = []string{"index", "packs", backend.LockFolder, machines, "marks", "proofs"}

// machines is a folder with a folder for each machine.
const machines = "twins"

// dated are the folders that whoever reads dates looks into next.
var dated = []string{"proofs", "marks"}

// mostFolders bounds how many folders of machines are asked for ahead.
const mostFolders = 200

// openFirst opens the head. Over a connection the rest is asked for together with it; elsewhere once it is there, since
// each question would meet a far side that doesn't answer by itself.
func (b *Backend) openFirst(ctx context.Context) (backend.Object, error) {
	if d, dials := b.far.(backend.Dialler); dials {
		if err := d.Dial(ctx); err != nil {
			return nil, err
		}
		b.warmed.Do(func() { b.warm(ctx) })
	}
	o, err := b.far.Open(ctx, first)
	if err == nil {
		b.warmed.Do(func() { b.warm(ctx) })
	}
	return o, err
}

// warm asks for what opening needs at once; what asks for it afterwards waits for the answers under way.
func (b *Backend) warm(ctx context.Context) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return
	}
	ctx = b.beside(ctx)
	for _, folder := range looked {
		b.warming.Go(func() {
			in, err := b.Entries(ctx, folder)
			if err != nil || folder != machines {
				return
			}
			for _, e := range in[:min(len(in), mostFolders)] {
				b.warming.Go(func() { _, _ = b.Entries(ctx, folder+"/"+e.Name) })
			}
		})
	}
}

// along are the folders that are worth asking for together with one: those in it that the listing before named, or of
// which there are copies, and those that are looked into next. One that is gone by now holds nothing.
func (b *Backend) along(folder string, was *listing) (out []string) {
	if _, walks := b.far.(backend.Walker); walks || folder != machines {
		return nil
	}
	if was != nil {
		for _, e := range was.entries {
			out = append(out, folder+"/"+e.Name)
		}
	} else {
		copied, _ := os.ReadDir(filepath.Join(b.copies.dir, folder)) // without copies it is waited for
		for _, e := range copied {
			if e.IsDir() {
				out = append(out, folder+"/"+e.Name())
			}
		}
	}
	out = out[:min(len(out), mostFolders)]
	if _, dials := b.far.(backend.Dialler); dials { // elsewhere each question has its price
		out = append(out, dated...)
	}
	return out
}
