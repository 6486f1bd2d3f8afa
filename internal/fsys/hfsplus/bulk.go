package hfsplus

import (
	"encoding/binary"
	"slices"
)

// bulk makes a tree anew of all its records at once (TN1150, B-Trees): header, map nodes, leaves one after the other,
// and the levels above them.
type bulk struct {
	size     int64    // of a node, bytes
	maxKey   int      // bytes
	variable bool     // keys of index nodes are as long as they are
	nodes    [][]byte // the header is node 0
}

// mapBits is how many nodes the header's map record knows, and those of a map node.
func mapBits(size int64) (header, node int64) {
	return (size - 8 - (nodeHeadLen + treeHeadLen + treeUserLen)) * 8, (size - nodeHeadLen - 6) * 8
}

// bulkTree are the nodes of a tree of sorted records that takes the place of another one, whose header is given. They
// may be more than the header says that there is room for.
func bulkTree(header []byte, all []record) []byte {
	be := binary.BigEndian
	size, room := int64(be.Uint16(header[treeNodeSize:])), int64(be.Uint32(header[treeNodes:]))
	b := &bulk{size: size, maxKey: int(be.Uint16(header[treeMaxKey:])),
		variable: be.Uint32(header[treeAttributes:])&treeVariable != 0, nodes: [][]byte{slices.Clone(header[:size])}}
	b.maps(room)
	first, last, root, depth := b.tree(all)
	head := b.nodes[0]
	be.PutUint16(head[treeDepth:], uint16(depth))
	be.PutUint32(head[treeRoot:], root)
	be.PutUint32(head[treeLeaves:], uint32(len(all)))
	be.PutUint32(head[treeFirst:], first)
	be.PutUint32(head[treeLast:], last)
	be.PutUint32(head[treeFree:], uint32(max(0, room-int64(len(b.nodes)))))
	b.mark(int64(len(b.nodes)))
	return slices.Concat(b.nodes...)
}

// maps adds the map nodes that so many nodes need.
func (b *bulk) maps(room int64) {
	be := binary.BigEndian
	inHeader, inNode := mapBits(b.size)
	be.PutUint32(b.nodes[0][nodeNext:], 0)
	clear(b.nodes[0][nodeHeadLen+treeHeadLen+treeUserLen : b.size-8])
	for room -= inHeader; room > 0; room -= inNode {
		n := make([]byte, b.size)
		n[nodeKind] = kindMap
		be.PutUint16(n[nodeRecords:], 1)
		be.PutUint16(n[b.size-2:], nodeHeadLen)
		be.PutUint16(n[b.size-4:], uint16(b.size-6))
		be.PutUint32(b.nodes[len(b.nodes)-1][nodeNext:], uint32(len(b.nodes)))
		b.nodes = append(b.nodes, n)
	}
}

// mark marks the first n nodes as used, as far as there are maps.
func (b *bulk) mark(n int64) {
	inHeader, inNode := mapBits(b.size)
	setBits(b.nodes[0][nodeHeadLen+treeHeadLen+treeUserLen:], 0, min(n, inHeader))
	n -= inHeader
	for _, m := range b.nodes[1:] {
		if m[nodeKind] != kindMap || n <= 0 {
			return
		}
		setBits(m[nodeHeadLen:], 0, min(n, inNode))
		n -= inNode
	}
}

// tree adds leaves and index nodes.
func (b *bulk) tree(all []record) (first, last, root uint32, depth int) {
	if len(all) == 0 {
		return 0, 0, 0, 0
	}
	level := b.pack(kindLeaf, 1, all)
	first, last = binary.BigEndian.Uint32(level[0].data), binary.BigEndian.Uint32(level[len(level)-1].data)
	for depth = 1; len(level) > 1; {
		depth++
		level = b.pack(kindIndex, depth, level)
	}
	return first, last, binary.BigEndian.Uint32(level[0].data), depth
}

// pack puts records into nodes of one level, and gives the records that lead to these.
func (b *bulk) pack(kind byte, height int, all []record) (up []record) {
	start := len(b.nodes)
	for len(all) > 0 {
		room := b.size - nodeHeadLen - 2
		n := 0
		for n < len(all) && all[n].length()+2 <= room {
			room -= all[n].length() + 2
			n++
		}
		key := all[0].key
		if !b.variable { // keys in index nodes have their full length
			key = append(slices.Clone(key), make([]byte, max(0, b.maxKey-len(key)))...)
		}
		up = append(up, record{key, binary.BigEndian.AppendUint32(nil, uint32(len(b.nodes)))})
		b.nodes = append(b.nodes, b.node(kind, height, all[:n]))
		all = all[n:]
	}
	for i := start; i < len(b.nodes); i++ {
		if i > start {
			binary.BigEndian.PutUint32(b.nodes[i][nodeBefore:], uint32(i-1))
		}
		if i+1 < len(b.nodes) {
			binary.BigEndian.PutUint32(b.nodes[i][nodeNext:], uint32(i+1))
		}
	}
	return up
}

// node is one with records that fit.
func (b *bulk) node(kind byte, height int, all []record) []byte {
	be := binary.BigEndian
	n := make([]byte, b.size)
	n[nodeKind], n[nodeHeight] = kind, byte(height)
	be.PutUint16(n[nodeRecords:], uint16(len(all)))
	at := nodeHeadLen
	for i, r := range all {
		be.PutUint16(n[b.size-2*int64(i)-2:], uint16(at))
		at += r.put(n[at:])
	}
	be.PutUint16(n[b.size-2*int64(len(all))-2:], uint16(at))
	return n
}

// length is how many bytes a record takes.
func (r record) length() int64 { return int64(2 + len(r.key) + len(r.key)%2 + len(r.data)) }
