// Package decmpfstest packs contents as macOS does, for tests only.
package decmpfstest

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"

	"twinshelf/internal/lzfse/lzfsetest"
)

// Form is packed contents: the attribute that says how, and the resource fork.
type Form struct{ Attr, Resource []byte }

// piece is what is packed at once, in bytes.
const piece = 64 << 10

// Forms are contents packed in every way that is known.
func Forms(content []byte) map[string]Form {
	le := binary.LittleEndian
	head := func(kind uint32, here []byte) []byte {
		b := le.AppendUint32([]byte("fpmc"), kind)
		return append(le.AppendUint64(b, uint64(len(content))), here...)
	}
	deflate := func(b []byte) []byte {
		var z bytes.Buffer
		w := zlib.NewWriter(&z)
		w.Write(b)
		w.Close()
		return z.Bytes()
	}
	pieces := func(pack func([]byte) []byte) (out [][]byte) {
		for b := content; len(b) > 0; b = b[min(len(b), piece):] {
			out = append(out, pack(b[:min(len(b), piece)]))
		}
		return out
	}
	offsets := func(all [][]byte) []byte {
		at := uint32(4 * (len(all) + 1))
		b := le.AppendUint32(nil, at)
		for _, p := range all {
			at += uint32(len(p))
			b = le.AppendUint32(b, at)
		}
		return append(b, bytes.Join(all, nil)...)
	}
	raw := func(mark byte) func([]byte) []byte {
		return func(b []byte) []byte { return append([]byte{mark}, b...) }
	}
	out := map[string]Form{
		"zlib in pieces": {head(4, nil), resourceOf(pieces(deflate))},
		"zlib, stored":   {head(4, nil), resourceOf(pieces(raw(0xFF)))},
		"lzvn in pieces": {head(8, nil), offsets(pieces(lzfsetest.PackLZVN))},
		"lzvn, stored":   {head(8, nil), offsets(pieces(raw(0x06)))},
		"lzfse":          {head(12, nil), offsets(pieces(lzfsetest.Pack))},
	}
	if len(content) < 3000 {
		out["zlib here"] = Form{Attr: head(3, deflate(content))}
		out["zlib here, stored"] = Form{Attr: head(3, raw(0xFF)(content))}
		out["lzvn here"] = Form{Attr: head(7, lzfsetest.PackLZVN(content))}
		out["lzfse here"] = Form{Attr: head(11, lzfsetest.Pack(content))}
		out["plain here"] = Form{Attr: head(1, content)}
	}
	return out
}

// resourceOf is a resource fork with one resource, of pieces packed by zlib.
func resourceOf(all [][]byte) []byte {
	const dataAt, mapLen = 256, 50
	le, be := binary.LittleEndian, binary.BigEndian
	table := le.AppendUint32(nil, uint32(len(all)))
	at := uint32(4 + 8*len(all))
	for _, p := range all {
		table = le.AppendUint32(le.AppendUint32(table, at), uint32(len(p)))
		at += uint32(len(p))
	}
	data := append(table, bytes.Join(all, nil)...)
	out := make([]byte, dataAt, dataAt+4+len(data)+mapLen)
	for i, n := range []int{dataAt, dataAt + 4 + len(data), 4 + len(data), mapLen} {
		be.PutUint32(out[4*i:], uint32(n))
	}
	out = append(be.AppendUint32(out, uint32(len(data))), data...)
	tail := make([]byte, mapLen)
	copy(tail, out[:16])
	copy(tail[24:], "\x00\x1c\x00\x32\x00\x00cmpf\x00\x00\x00\x0a\x00\x01\xff\xff\x00\x00\x00\x00\x00\x00\x00\x00")
	return append(out, tail...)
}
