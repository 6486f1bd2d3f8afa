package table

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"io"

	"twinshelf/internal/disk"
)

// Renew gives the patches that give the table and its parts other identities, which newOf makes from the old ones, on a
// disk of size bytes; and the new ones by the old ones. The parts of an MBR are known by its own identity and their
// numbers.
func (t *Table) Renew(r io.ReaderAt, newOf func(old string) string,
	size int64) ([]disk.Patch, map[string]string, error) {
	ids := map[string]string{}
	switch t.Kind {
	case MBR:
		now := newOf(t.ID)
		b, err := hex.DecodeString(now)
		if err != nil || len(b) != 4 {
			return nil, nil, fmt.Errorf("%q is no identity for an MBR", now)
		}
		for _, p := range t.Parts {
			ids[t.PartUUID(p)] = fmt.Sprintf("%s-%02x", now, p.Number)
		}
		return []disk.Patch{{Off: mbrDiskSig, Data: []byte{b[3], b[2], b[1], b[0]}, Why: "identity of the disk"}},
			ids, nil
	case GPT:
		if t.gpt.header == nil {
			return nil, nil, fmt.Errorf("the GPT is too damaged to get another identity: %v", t.Findings)
		}
		g := t.gpt
		g.entries, g.header = bytes.Clone(g.entries), bytes.Clone(g.header)
		put := func(b []byte, old string) error {
			now, err := GUIDBytes(newOf(old))
			if err == nil {
				copy(b, now)
				ids[old] = newOf(old)
			}
			return err
		}
		if err := put(g.header[hdrGUID:], t.ID); err != nil {
			return nil, nil, err
		}
		for _, p := range t.Parts {
			if err := put(g.entries[(p.Number-1)*int(g.entrySize):][entGUID:], p.GUID); err != nil {
				return nil, nil, err
			}
		}
		return g.patches(t.Sector, size), ids, nil
	}
	return nil, ids, nil
}

// PartUUID is the identity by which Linux knows a part: its GUID, or the disk's identity and the part's number. Empty
// for none.
func (t *Table) PartUUID(p Part) string {
	if t.Kind == MBR {
		return fmt.Sprintf("%s-%02x", t.ID, p.Number)
	}
	return p.GUID
}
