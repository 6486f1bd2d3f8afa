package apfs

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"sync"
)

// objects is an object map: where objects with numbers of their own lie, at each transaction.
type objects struct {
	c    *Container
	at   int64 // block of the map itself
	tree *btree
	// snapshots is the root of the tree that lists them; 0 where there is none.
	snapshots int64

	mu    sync.Mutex // guards known
	known map[[2]uint64]place
}

// place is where an object lies.
type place struct {
	at    int64
	flags uint32
}

// mostKnown bounds what is remembered of an object map.
const mostKnown = 1 << 16

func (c *Container) openMap(at int64) (*objects, error) {
	b, err := c.object(at, typeMap)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	root := c.address(le.Uint64(b[mapTree:]))
	return &objects{c: c, at: at, tree: &btree{c: c, root: root}, known: map[[2]uint64]place{},
		snapshots: c.address(le.Uint64(b[mapSnapshots:]))}, nil
}

// find is where an object lies at a transaction: the newest that isn't later.
func (o *objects) find(oid, xid uint64) (place, error) {
	o.mu.Lock()
	p, known := o.known[[2]uint64{oid, xid}]
	o.mu.Unlock()
	if known {
		return p, nil
	}
	there := false
	le := binary.LittleEndian
	err := o.tree.seek(func(key []byte) int { return cmp.Compare(le.Uint64(key), oid) },
		func(key, value []byte) (bool, error) {
			if len(key) < mapKeyLen || le.Uint64(key) != oid || le.Uint64(key[8:]) > xid {
				return false, nil
			}
			if len(value) < mapValueLen {
				return false, fmt.Errorf("object %d has %d bytes in its map", oid, len(value))
			}
			there = true
			p = place{o.c.address(le.Uint64(value[mapAddress:])), le.Uint32(value[mapFlags:])}
			return true, nil
		})
	if err != nil {
		return p, err
	}
	if !there || p.flags&mapIsDeleted != 0 {
		return p, fmt.Errorf("object %d isn't in its map at transaction %d", oid, xid)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.known) >= mostKnown {
		clear(o.known)
	}
	o.known[[2]uint64{oid, xid}] = p
	return p, nil
}
