package shelf

import (
	"context"
	"encoding/binary"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/store"
)

// NodeBlocks is how many blocks one node of a block map describes: 1 GiB with
// blocks of 1 MiB.
const NodeBlocks = 1024

// BlockRef says what one block of a region holds.
type BlockRef struct {
	Kind disk.PieceKind
	Name store.Name // of Data blocks
}

// EncodeNode writes a node: runs of blocks of one kind, each a kind byte and a
// 16-bit count, followed by the names of a run of Data blocks.
// docs/shelf-format.md, "Block maps".
func EncodeNode(refs []BlockRef) []byte {
	var b []byte
	for i := 0; i < len(refs); {
		j := i
		for j < len(refs) && refs[j].Kind == refs[i].Kind {
			j++
		}
		b = append(b, byte(refs[i].Kind))
		b = binary.LittleEndian.AppendUint16(b, uint16(j-i))
		if refs[i].Kind == disk.Data {
			for _, r := range refs[i:j] {
				b = append(b, r.Name[:]...)
			}
		}
		i = j
	}
	return b
}

// DecodeNode reads a node of n blocks.
func DecodeNode(b []byte, n int) ([]BlockRef, error) {
	refs := make([]BlockRef, 0, min(n, NodeBlocks))
	for len(b) >= 3 {
		kind, count := disk.PieceKind(b[0]), int(binary.LittleEndian.Uint16(b[1:]))
		b = b[3:]
		if kind > disk.Data || count == 0 || len(refs)+count > n {
			return nil, fmt.Errorf("a node of the block map describes a run of %d blocks of kind %d behind %d of %d",
				count, kind, len(refs), n)
		}
		if kind == disk.Data && len(b) < 32*count {
			return nil, fmt.Errorf("a node of the block map is cut off")
		}
		for range count {
			r := BlockRef{Kind: kind}
			if kind == disk.Data {
				r.Name = store.Name(b[:32])
				b = b[32:]
			}
			refs = append(refs, r)
		}
	}
	if len(refs) != n || len(b) != 0 {
		return nil, fmt.Errorf("a node of the block map describes %d blocks of %d", len(refs), n)
	}
	return refs, nil
}

// Node reads the node of a name, which describes n blocks.
func (s *Shelf) Node(ctx context.Context, name string, n int) ([]BlockRef, error) {
	node, err := store.ParseName(name)
	if err != nil {
		return nil, err
	}
	b, err := s.Block(ctx, node, nil)
	if err != nil {
		return nil, err
	}
	return DecodeNode(b, n)
}
