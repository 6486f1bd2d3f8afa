package lzxtest

import (
	"crypto/sha1"
	"slices"
	"unicode/utf16"
)

// How an archive's pieces are packed.
const (
	Quickly = 0x20000
	Closely = 0x40000
)

// Archive is an image of one file, by whose pieces of 32 KiB another program can be asked what is in them ("Windows
// Imaging File Format").
func Archive(name string, b []byte, how uint32, pack func([]byte) []byte) []byte {
	const (
		headLen, entryLen = 208, 50
		packedFlag, meta  = 4, 2
	)
	wide := func(s string) (out []byte) {
		for _, c := range utf16.Encode([]rune(s)) {
			out = le.AppendUint16(out, c)
		}
		return out
	}
	resource := func(n int, flags byte, at, size int) []byte {
		r := le.AppendUint64(nil, uint64(n))
		r[7] = flags
		return le.AppendUint64(le.AppendUint64(r, uint64(at)), uint64(size))
	}
	entry := func(res []byte, contents []byte) []byte {
		sum := sha1.Sum(contents)
		return slices.Concat(res, []byte{1, 0, 1, 0, 0, 0}, sum[:])
	}
	item := func(name string, attributes uint32, below int, sum []byte) []byte {
		n := wide(name)
		d := make([]byte, 102)
		le.PutUint32(d[8:], attributes)
		le.PutUint32(d[12:], 0xFFFFFFFF)
		le.PutUint64(d[16:], uint64(below))
		copy(d[64:], sum)
		le.PutUint16(d[100:], uint16(len(n)))
		d = append(append(d, n...), 0, 0)
		d = append(d, make([]byte, (8-len(d)%8)%8)...)
		le.PutUint64(d, uint64(len(d)))
		return d
	}
	sum := sha1.Sum(b)
	root := item("", 0x10, 0, nil)
	le.PutUint64(root[16:], uint64(8+len(root)+8))
	tree := slices.Concat([]byte{8, 0, 0, 0, 0, 0, 0, 0}, root, make([]byte, 8), item(name, 0x20, 0, sum[:]),
		make([]byte, 8))
	packed := Chunked(b, 32<<10, pack)
	xml := wide("\uFEFF<WIM><IMAGE INDEX=\"1\"><NAME>x</NAME></IMAGE></WIM>")
	treeAt := headLen + len(packed)
	listAt := treeAt + len(tree)
	list := slices.Concat(entry(resource(len(packed), packedFlag, headLen, len(b)), b),
		entry(resource(len(tree), meta, treeAt, len(tree)), tree))
	out := make([]byte, headLen)
	copy(out, "MSWIM\x00\x00\x00")
	for at, n := range map[int]uint32{8: headLen, 12: 0x10D00, 16: 2 | how, 20: 32 << 10, 44: 1} {
		le.PutUint32(out[at:], n)
	}
	copy(out[24:], "sixteen bytes id")
	copy(out[40:], []byte{1, 0, 1, 0})
	copy(out[48:], resource(len(list), 0, listAt, len(list)))
	copy(out[72:], resource(len(xml), 0, listAt+2*entryLen, len(xml)))
	return slices.Concat(out, packed, tree, list, xml)
}
