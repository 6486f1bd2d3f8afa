package apfs

import (
	"encoding/binary"
	"sync"

	"twinshelf/internal/fsys"
)

// btree is one of the container's B-trees.
type btree struct {
	c    *Container
	root int64 // block
	// where finds the block of a child; nil where children are named by their blocks.
	where func(oid uint64) (int64, error)
	// read reads a node; nil where nodes lie open.
	read func(at int64) ([]byte, error)
	// visited, where it isn't nil, is told of every node that is read.
	visited func(at int64) error
}

// nodes are those that were read last, since whoever looks for records comes by the same ones.
type nodes struct {
	mu    sync.Mutex
	known map[int64][]byte
}

// mostNodes bounds how many are kept.
const mostNodes = 2048

func (n *nodes) read(t *btree, at int64) (b []byte, err error) {
	n.mu.Lock()
	b, known := n.known[at]
	n.mu.Unlock()
	if known {
		return b, nil
	}
	if t.read != nil {
		b, err = t.read(at)
	} else {
		b, err = t.c.object(at, typeRoot, typeNode)
	}
	if err != nil {
		return nil, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.known == nil || len(n.known) >= mostNodes {
		n.known = map[int64][]byte{}
	}
	n.known[at] = b
	return b, nil
}

// node is one whose table was found to be in order.
type node struct {
	b           []byte
	at          int64
	keys        int
	leaf        bool
	level       int
	fixed       bool
	table, area int // where the table and the keys begin
	end         int // of the values
	keyLen      int // of fixed ones
	valueLen    int
}

func (t *btree) hurt(at int64, format string, args ...any) error {
	return fsys.Contradiction(at*t.c.unit, format, args...)
}

// node reads a node; lengths of fixed keys and values stand in the root.
func (t *btree) node(at int64, root *node) (*node, error) {
	b, err := t.c.nodes.read(t, at)
	if err != nil {
		return nil, err
	}
	if t.visited != nil {
		if err := t.visited(at); err != nil {
			return nil, err
		}
	}
	le := binary.LittleEndian
	flags := le.Uint16(b[nodeFlags:])
	n := &node{b: b, at: at, keys: int(le.Uint32(b[nodeKeys:])), leaf: flags&flagLeaf != 0, fixed: flags&flagFixed != 0,
		level: int(le.Uint16(b[nodeLevel:])), end: len(b)}
	n.table = nodeData + int(le.Uint16(b[nodeTableAt:]))
	n.area = n.table + int(le.Uint16(b[nodeTable:]))
	if flags&flagRoot != 0 {
		n.end -= treeInfo
		info := b[n.end:]
		n.keyLen, n.valueLen = int(le.Uint32(info[infoKey:])), int(le.Uint32(info[infoValue:]))
		if size := int64(le.Uint32(info[infoNode:])); size != t.c.unit {
			return nil, t.hurt(at, "nodes of %d bytes are not known", size)
		}
	} else if root != nil {
		n.keyLen, n.valueLen = root.keyLen, root.valueLen
	}
	entry := 8
	if n.fixed {
		entry = 4
	}
	if n.leaf != (n.level == 0) || n.level > maxDepth || n.area > n.end || n.table+n.keys*entry > n.area ||
		(flags&flagRoot != 0) != (root == nil) {
		return nil, t.hurt(at, "a node with %d keys on level %d isn't in order", n.keys, n.level)
	}
	return n, nil
}

// record is the i-th key and its value; the value is nil where there is none.
func (t *btree) record(n *node, i int) (key, value []byte, err error) {
	le := binary.LittleEndian
	var k, kl, v, vl int
	if n.fixed {
		e := n.b[n.table+4*i:]
		k, v, kl, vl = int(le.Uint16(e)), int(le.Uint16(e[2:])), n.keyLen, n.valueLen
		if !n.leaf {
			vl = 8
		}
	} else {
		e := n.b[n.table+8*i:]
		k, kl, v, vl = int(le.Uint16(e)), int(le.Uint16(e[2:])), int(le.Uint16(e[4:])), int(le.Uint16(e[6:]))
	}
	if n.area+k+kl > n.end || kl < 8 {
		return nil, nil, t.hurt(n.at, "key %d of a node is outside of it", i)
	}
	key = n.b[n.area+k : n.area+k+kl]
	if v == noValue {
		return key, nil, nil
	}
	if v > n.end-n.area || vl > v {
		return nil, nil, t.hurt(n.at, "value %d of a node is outside of it", i)
	}
	return key, n.b[n.end-v : n.end-v+vl], nil
}

// child is the node that a value names.
func (t *btree) child(n *node, value []byte, root *node) (*node, error) {
	if len(value) < 8 {
		return nil, t.hurt(n.at, "an index entry of %d bytes", len(value))
	}
	oid := binary.LittleEndian.Uint64(value)
	at := t.c.address(oid)
	if t.where != nil {
		var err error
		if at, err = t.where(oid); err != nil {
			return nil, err
		}
	}
	c, err := t.node(at, root)
	if err == nil && c.level != n.level-1 {
		err = t.hurt(at, "a node on level %d is below one on level %d", c.level, n.level)
	}
	return c, err
}

// seek calls each with the records from the first on whose key isn't less than what compare looks for, until it says
// false. compare says whether a key is less (negative), equal or greater.
func (t *btree) seek(compare func(key []byte) int, each func(key, value []byte) (bool, error)) error {
	root, err := t.node(t.root, nil)
	if err != nil {
		return err
	}
	_, err = t.from(root, root, compare, each)
	return err
}

// from does seek's work below a node; on says whether to go on after it.
func (t *btree) from(n, root *node, compare func([]byte) int, each func(k, v []byte) (bool, error)) (on bool,
	err error) {
	first := 0
	for i := range n.keys { // equal keys may begin below the last one that is less
		key, _, err := t.record(n, i)
		if err != nil {
			return false, err
		}
		if compare(key) >= 0 {
			break
		}
		if first = i; n.leaf {
			first++
		}
	}
	for i := first; i < n.keys; i++ {
		key, value, err := t.record(n, i)
		if err != nil {
			return false, err
		}
		if n.leaf {
			on, err = each(key, value)
		} else {
			var c *node
			if c, err = t.child(n, value, root); err == nil {
				on, err = t.from(c, root, compare, each)
			}
		}
		if err != nil || !on {
			return false, err
		}
	}
	return true, nil
}

// all calls each with all records.
func (t *btree) all(each func(key, value []byte) error) error {
	return t.seek(func([]byte) int { return 1 }, func(k, v []byte) (bool, error) { return true, each(k, v) })
}
