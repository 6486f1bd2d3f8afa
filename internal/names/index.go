package names

import (
	"context"
	"encoding/binary"
	"fmt"
	"io/fs"
	"iter"
	"sort"
	"sync"
	"unique"

	"github.com/zeebo/blake3"

	"twinshelf/internal/fsys"
)

const modeLink = fs.ModeSymlink

// Index is the index of one volume.
type Index struct {
	src    Blocks
	chunks []chunkRef
}

// chunkRef is a chunk: the path of its first entry, and the keys of its two halves.
type chunkRef struct {
	first       string
	names, rest string
}

// Made is what making an index gave.
type Made struct {
	// Keys are all chunks, in order: the table of chunks, then names and the rest by turns. Open takes them.
	Keys []string
	// Items is how many entries there are, Problems what couldn't be read, in words (the first few).
	Items    int64
	Problems []string
	Lost     int // how many couldn't be read
	// Causes are the errors after the problems (the first few).
	Causes []error
}

const keptProblems = 100

// Make walks a volume and puts its index into a store. Snapshots have their folder in it, and nothing below that.
func Make(ctx context.Context, t fsys.Tree, s Store) (*Made, error) {
	root, err := t.Root()
	if err != nil {
		return nil, err
	}
	m := &maker{store: s, Made: &Made{}}
	err = fsys.Walk(t, root, ".", func(path string, folder fsys.Item, entries []fsys.Entry, err error) error {
		if folder.Attr&fsys.Earlier != 0 {
			return fs.SkipDir // most of it would be there twice
		}
		if err != nil {
			m.problem(path, err)
		}
		for _, e := range entries {
			if e.Err != nil {
				m.problem(fsys.Join(path, e.Name), e.Err)
			}
			if err := m.add(ctx, entryOf(path, e)); err != nil {
				return err
			}
		}
		return ctx.Err()
	})
	if err == nil {
		err = m.end(ctx)
	}
	return m.Made, err
}

type maker struct {
	*Made
	store Store
	w     writer
	first string
	table []byte
	count int
	keys  []string
}

func (m *maker) problem(path string, err error) {
	m.Lost++
	if len(m.Problems) < keptProblems {
		m.Problems, m.Causes = append(m.Problems, fmt.Sprintf("%s: %v", path, err)), append(m.Causes, err)
	}
}

func (m *maker) add(ctx context.Context, e Entry) error {
	if len(e.Path) > maxPath {
		m.problem(e.Path[:100]+"…",
			fmt.Errorf("its path has %d bytes; those of more than %d aren't listed", len(e.Path), maxPath))
		return nil
	}
	if len(m.w.kinds) == 0 {
		m.first = e.Path
	}
	m.Items++
	if m.w.add(e.Path, e) {
		return m.cut(ctx)
	}
	return nil
}

func (m *maker) cut(ctx context.Context) error {
	if len(m.w.kinds) == 0 {
		return nil
	}
	names, rest := m.w.encode()
	m.table = append(binary.AppendUvarint(m.table, uint64(len(m.first))), m.first...)
	m.count++
	m.w = writer{}
	for _, b := range [][]byte{names, rest} {
		key, err := m.store.Put(ctx, b)
		if err != nil {
			return err
		}
		m.keys = append(m.keys, key)
	}
	return nil
}

// tablePiece is how many bytes of the table of chunks go into one block.
const tablePiece = 60 << 10

func (m *maker) end(ctx context.Context) error {
	if err := m.cut(ctx); err != nil {
		return err
	}
	// The table may be longer than a block: it goes in pieces, the first of which says how many there are.
	pieces := max(1, (len(m.table)+tablePiece-1)/tablePiece)
	for i := range pieces {
		var b []byte
		if b = append(b, formatKeys); i == 0 {
			b = binary.AppendUvarint(binary.AppendUvarint(b, uint64(pieces)), uint64(m.count))
		}
		key, err := m.store.Put(ctx, append(b, m.table[i*tablePiece:min(len(m.table), (i+1)*tablePiece)]...))
		if err != nil {
			return err
		}
		m.Keys = append(m.Keys, key)
	}
	m.Keys = append(m.Keys, m.keys...)
	return nil
}

// Open reads the table of an index that Make made.
func Open(ctx context.Context, src Blocks, keys []string) (*Index, error) {
	var table []byte
	pieces, count := 1, 0
	for i := 0; i < pieces; i++ {
		if i >= len(keys) {
			return nil, errGarbled
		}
		b, err := src.Get(ctx, keys[i])
		if err != nil {
			return nil, err
		}
		r := reader{b: b}
		if err := r.format(formatKeys); err != nil {
			return nil, err
		}
		if i == 0 {
			pieces, count = r.number(len(keys)), r.number(len(keys))
		}
		if r.bad {
			return nil, errGarbled
		}
		table = append(table, r.b...)
	}
	keys = keys[min(len(keys), pieces):]
	if len(keys) != 2*count {
		return nil, errGarbled
	}
	x := &Index{src: src, chunks: make([]chunkRef, count)}
	r := reader{b: table}
	for i := range x.chunks {
		// Dates have most of these in common: each is held once.
		held := func(s string) string { return unique.Make(s).Value() }
		x.chunks[i] = chunkRef{held(string(r.bytes(r.number(len(table))))), held(keys[2*i]), held(keys[2*i+1])}
	}
	if r.bad || len(r.b) > 0 {
		return nil, errGarbled
	}
	return x, nil
}

func (x *Index) names(ctx context.Context, i int) (*chunk, error) {
	b, err := x.src.Get(ctx, x.chunks[i].names)
	if err != nil {
		return nil, err
	}
	return decodeNames(b)
}

func (x *Index) attrs(ctx context.Context, i int) (*attrs, error) {
	b, err := x.src.Get(ctx, x.chunks[i].rest)
	if err != nil {
		return nil, err
	}
	return decodeAttrs(b)
}

// in yields the entries of chunk i.
func (x *Index) in(ctx context.Context, i int, yield func(Entry, error) bool) bool {
	c, err := x.names(ctx, i)
	var a *attrs
	if err == nil {
		a, err = x.attrs(ctx, i)
	}
	if err != nil {
		return yield(Entry{}, err)
	}
	on := true
	c.paths(func(n int, path string) bool {
		e, err := a.entry(path, c.kinds[n], n)
		on = yield(e, err)
		return on && err == nil
	})
	return on
}

// All yields every entry, by folder and name.
func (x *Index) All(ctx context.Context) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		for i := range x.chunks {
			if !x.in(ctx, i, yield) {
				return
			}
		}
	}
}

// from is the chunk in which a path is, or would be.
func (x *Index) from(path string) int {
	return max(0, sort.Search(len(x.chunks), func(i int) bool { return compare(x.chunks[i].first, path) > 0 })-1)
}

// Find gives the entry of a path, exactly as it is written; fs.ErrNotExist when there is none.
func (x *Index) Find(ctx context.Context, path string) (Entry, error) {
	if len(x.chunks) == 0 {
		return Entry{}, fs.ErrNotExist
	}
	i := x.from(path)
	c, err := x.names(ctx, i)
	if err != nil {
		return Entry{}, err
	}
	at := -1
	c.paths(func(n int, p string) bool {
		if p == path {
			at = n
		}
		return at < 0
	})
	if at < 0 {
		return Entry{}, fs.ErrNotExist
	}
	a, err := x.attrs(ctx, i)
	if err != nil {
		return Entry{}, err
	}
	return a.entry(path, c.kinds[at], at)
}

// List yields what a folder holds, by name ("" or "." is the root).
func (x *Index) List(ctx context.Context, folder string) iter.Seq2[Entry, error] {
	if folder == "." {
		folder = ""
	}
	return func(yield func(Entry, error) bool) {
		if len(x.chunks) == 0 {
			return
		}
		for i := x.from(fsys.Join(folder, "\x01")); i < len(x.chunks); i++ {
			dir, _ := split(x.chunks[i].first)
			if comparePaths(dir, folder) > 0 {
				return
			}
			if !x.in(ctx, i, func(e Entry, err error) bool {
				if dir, _ := split(e.Path); err == nil && dir != folder {
					return true
				}
				return yield(e, err)
			}) {
				return
			}
		}
	}
}

// Memory is a store in memory. Its keys are made of the contents, so that indexes in different stores can be compared.
type Memory struct {
	mu     sync.Mutex
	chunks map[string]string
}

// Put keeps a chunk.
func (m *Memory) Put(_ context.Context, b []byte) (string, error) {
	sum := blake3.Sum256(b)
	key := "memory " + string(sum[:])
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.chunks == nil {
		m.chunks = map[string]string{}
	}
	m.chunks[key] = string(b)
	return key, nil
}

// Get gives it back.
func (m *Memory) Get(_ context.Context, key string) ([]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	b, ok := m.chunks[key]
	if !ok {
		return nil, fs.ErrNotExist
	}
	return []byte(b), nil
}
