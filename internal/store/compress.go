package store

import "github.com/klauspost/compress/s2"

// How a block is packed. docs/shelf-format.md, "Packs".
const (
	codecRaw  = 0
	codecZstd = 1 // RFC 8878
	codecS2   = 2 // the block format of S2, which extends Snappy's
)

// A block is tried by a stretch of its middle: where the quick method leaves more than
// hardShare of it, the thorough one would cost three times the time for a few bytes in a hundred.
const (
	probeLen  = 64 << 10
	hardShare = 0.7
)

// compress packs plain into buf with an effort, or gives plain itself when less than 3 % would be saved: that isn't
// worth unpacking.
func (q *compressor) compress(plain []byte, buf *buffer, e Effort) (codec byte, stored []byte, err error) {
	if n := s2.MaxEncodedLen(len(plain)); cap(buf.b) < n {
		buf.b = make([]byte, 0, n)
	}
	if e == Swift || e == Usual && hard(plain, buf) {
		codec, buf.b = codecS2, s2.Encode(buf.b[:cap(buf.b)], plain)
	} else {
		enc, err := q.encoder(e)
		if err != nil {
			return 0, nil, err
		}
		codec, buf.b = codecZstd, enc.EncodeAll(plain, buf.b[:0])
	}
	if len(buf.b) >= len(plain)-len(plain)/32 {
		return codecRaw, plain, nil
	}
	return codec, buf.b, nil
}

// hard says whether a block packs badly.
func hard(plain []byte, buf *buffer) bool {
	if len(plain) < 4*probeLen {
		return false
	}
	middle := plain[len(plain)/2:][:probeLen]
	return float64(len(s2.Encode(buf.b[:cap(buf.b)], middle))) > hardShare*probeLen
}
