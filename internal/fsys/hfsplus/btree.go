package hfsplus

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"iter"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// btree is one of the volume's B-trees. It may be read by several goroutines.
type btree struct {
	own        fork
	file       *fsys.Mapped
	size       int64 // of a node, bytes
	nodes      uint32
	root       uint32
	depth      int
	leaves     int64 // records in leaves
	free       uint32
	firstLeaf  uint32
	lastLeaf   uint32
	maxKey     int
	compare    byte
	attributes uint32

	mu     sync.Mutex // guards window
	window []byte     // of the file, from byte from on
	from   int64
}

// readAhead is how much of a tree is read at once, in bytes: leaves mostly lie one after the other.
const readAhead = 256 << 10

func compareBytes(a, b []byte) int { return bytes.Compare(a, b) }

// openTree reads the header of a tree.
func (v *Volume) openTree(f fork, maxKey int) (*btree, error) {
	file, err := v.mapped(f)
	if err != nil {
		return nil, err
	}
	t := &btree{own: f, file: file}
	b := make([]byte, minNode)
	if err := disk.ReadFull(file, b, 0); err != nil {
		return nil, err
	}
	be := binary.BigEndian
	t.size, t.nodes = int64(be.Uint16(b[treeNodeSize:])), be.Uint32(b[treeNodes:])
	t.depth, t.root = int(be.Uint16(b[treeDepth:])), be.Uint32(b[treeRoot:])
	t.leaves, t.firstLeaf, t.lastLeaf = int64(be.Uint32(b[treeLeaves:])), be.Uint32(b[treeFirst:]),
		be.Uint32(b[treeLast:])
	t.maxKey, t.compare, t.free = int(be.Uint16(b[treeMaxKey:])), b[treeCompare], be.Uint32(b[treeFree:])
	t.attributes = be.Uint32(b[treeAttributes:])
	switch {
	case b[nodeKind] != kindHeader:
		return nil, t.hurt(0, "the first node isn't the header of a tree")
	case t.size < minNode || t.size > maxNode || t.size&(t.size-1) != 0:
		return nil, t.hurt(0, "nodes of %d bytes are not known", t.size)
	case int64(t.nodes)*t.size > f.size || t.nodes == 0:
		return nil, t.hurt(0, "%d nodes of %d bytes don't fit into %d bytes", t.nodes, t.size, f.size)
	case t.depth > maxDepth || (t.depth == 0) != (t.root == 0):
		return nil, t.hurt(0, "a tree of depth %d with its root in node %d", t.depth, t.root)
	case t.maxKey > maxKey || t.maxKey < extentKeyLen:
		return nil, t.hurt(0, "keys of up to %d bytes are not known", t.maxKey)
	}
	return t, nil
}

// hurt is what is wrong with a node.
func (t *btree) hurt(n uint32, format string, args ...any) error {
	at := int64(n) * t.size
	for _, p := range t.file.Places {
		if p.Start <= at && at < p.End {
			return fsys.Contradiction(p.At+at-p.Start, format, args...)
		}
	}
	return fmt.Errorf(format, args...)
}

// node is one whose offsets were found to be in order.
type node struct {
	b       []byte
	number  uint32
	records int
}

func (n node) next() uint32 { return binary.BigEndian.Uint32(n.b[nodeNext:]) }
func (n node) kind() byte   { return n.b[nodeKind] }

// record is the i-th record.
func (n node) record(i int) []byte {
	be := binary.BigEndian
	end := len(n.b)
	return n.b[be.Uint16(n.b[end-2*i-2:]):be.Uint16(n.b[end-2*i-4:])]
}

// node reads a node; its bytes belong to whoever asked.
func (t *btree) node(number uint32) (node, error) {
	n := node{number: number}
	if number >= t.nodes {
		return n, t.hurt(0, "node %d of %d is named", number, t.nodes)
	}
	var err error
	if n.b, err = t.read(int64(number) * t.size); err != nil {
		return n, err
	}
	be := binary.BigEndian
	n.records = int(be.Uint16(n.b[nodeRecords:]))
	if n.records > (len(n.b)-nodeHeadLen)/4 {
		return n, t.hurt(number, "a node with %d records", n.records)
	}
	last := nodeHeadLen
	for i := range n.records + 1 {
		at := int(be.Uint16(n.b[len(n.b)-2*i-2:]))
		if at < last || at > len(n.b)-2*(n.records+1) || i == 0 && at != nodeHeadLen {
			return n, t.hurt(number, "the records of a node are out of order")
		}
		last = at
	}
	return n, nil
}

// read gives the bytes of the node at byte at of the tree's file.
func (t *btree) read(at int64) ([]byte, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := make([]byte, t.size)
	if at < t.from || at+t.size > t.from+int64(len(t.window)) {
		n := min(max(readAhead, t.size), int64(t.nodes)*t.size-at)
		w := make([]byte, n)
		if err := disk.ReadFull(t.file, w, at); err != nil {
			return out, disk.ReadFull(t.file, out, at) // a bad place farther on mustn't cost this node
		}
		t.window, t.from = w, at
	}
	copy(out, t.window[at-t.from:])
	return out, nil
}

// split takes a record apart: its key without the length, and its data.
func (t *btree) split(n node, i int) (key, data []byte, err error) {
	rec := n.record(i)
	if len(rec) < 2 {
		return nil, nil, t.hurt(n.number, "a record without a key")
	}
	k := int(binary.BigEndian.Uint16(rec))
	end := 2 + k + k%2
	if n.kind() == kindIndex && t.attributes&treeVariable == 0 {
		end = 2 + t.maxKey
	}
	if k > t.maxKey || end > len(rec) || k < 6 {
		return nil, nil, t.hurt(n.number, "a record with a key of %d bytes", k)
	}
	return rec[2 : 2+k], rec[end:], nil
}

// find is the data of the record whose key compares equal; nil when there is none.
func (t *btree) find(compare func(key []byte) int) ([]byte, error) {
	var found []byte
	err := t.seek(compare, func(n node, i int) (bool, error) {
		key, data, err := t.split(n, i)
		if err == nil && compare(key) == 0 {
			found = data
		}
		return false, err
	})
	return found, err
}

// seek goes down to the first record whose key isn't less than what compare looks for, and calls each with it and those
// after it, until it says false. compare says whether a key is less (negative), equal or greater.
func (t *btree) seek(compare func(key []byte) int, each func(n node, i int) (bool, error)) error {
	if t.depth == 0 {
		return nil
	}
	number := t.root
	for level := t.depth; level > 1; level-- {
		n, err := t.at(number, level)
		if err != nil {
			return err
		}
		if number, err = t.down(n, compare); err != nil {
			return err
		}
	}
	for range t.nodes {
		n, err := t.at(number, 1)
		if err != nil {
			return err
		}
		for i := range n.records {
			key, _, err := t.split(n, i)
			if err != nil {
				return err
			}
			if compare(key) < 0 {
				continue
			}
			if on, err := each(n, i); err != nil || !on {
				return err
			}
		}
		if number = n.next(); number == 0 {
			return nil
		}
	}
	return t.hurt(number, "the leaves of a tree go in a circle")
}

// at is a node that must be on a level; leaves are on level 1.
func (t *btree) at(number uint32, level int) (node, error) {
	n, err := t.node(number)
	want := byte(kindIndex)
	if level == 1 {
		want = kindLeaf
	}
	if err == nil && (n.kind() != want || int(n.b[nodeHeight]) != level) {
		err = t.hurt(number, "a node isn't on level %d of its tree, as it should", level)
	}
	return n, err
}

// down is the child in which a key must be.
func (t *btree) down(n node, compare func([]byte) int) (uint32, error) {
	var child uint32
	for i := range n.records {
		key, data, err := t.split(n, i)
		if err != nil {
			return 0, err
		}
		if len(data) < 4 {
			return 0, t.hurt(n.number, "an index record without a node")
		}
		if i > 0 && compare(key) > 0 {
			break
		}
		child = binary.BigEndian.Uint32(data)
	}
	if child == 0 {
		return 0, t.hurt(n.number, "an index node leads nowhere")
	}
	return child, nil
}

// entry is a record of a leaf.
type entry struct {
	key, data []byte // the key without its length
	node      uint32
	at        int64 // of the data, in bytes of the tree's file
}

// records yields all records of the leaves, in order. They must be as many as the tree says.
func (t *btree) records() iter.Seq2[entry, error] {
	return func(yield func(entry, error) bool) {
		if t.depth == 0 {
			return
		}
		seen, number, last := int64(0), t.firstLeaf, uint32(0)
		for range t.nodes {
			n, err := t.at(number, 1)
			if err != nil {
				yield(entry{}, err)
				return
			}
			if binary.BigEndian.Uint32(n.b[nodeBefore:]) != last {
				yield(entry{}, t.hurt(number, "a leaf of a tree doesn't follow the one before"))
				return
			}
			for i := range n.records {
				key, data, err := t.split(n, i)
				end := int64(binary.BigEndian.Uint16(n.b[len(n.b)-2*i-4:]))
				e := entry{key, data, number, int64(number)*t.size + end - int64(len(data))}
				if !yield(e, err) || err != nil {
					return
				}
				seen++
			}
			if last = number; n.next() == 0 {
				break
			}
			number = n.next()
		}
		if last != t.lastLeaf || seen != t.leaves {
			yield(entry{}, t.hurt(last, "a tree ends after %d of %d records", seen, t.leaves))
		}
	}
}
