package store

import (
	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
)

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

// compressor packs blocks; it may be used from many goroutines.
type compressor struct{ thorough *zstd.Encoder }

func newCompressor() (compressor, error) {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false),
		zstd.WithWindowSize(DefaultBlock), zstd.WithLowerEncoderMem(true))
	return compressor{e}, err
}

func (q compressor) close() {
	if q.thorough != nil {
		q.thorough.Close()
	}
}

// compress packs plain into buf, or gives plain itself when less than 3 % would be saved: that isn't
// worth unpacking.
func (q compressor) compress(plain []byte, buf *buffer) (codec byte, stored []byte) {
	if hard(plain, buf) {
		codec, buf.b = codecS2, s2.Encode(buf.b[:cap(buf.b)], plain)
	} else {
		codec, buf.b = codecZstd, q.thorough.EncodeAll(plain, buf.b[:0])
	}
	if len(buf.b) >= len(plain)-len(plain)/32 {
		return codecRaw, plain
	}
	return codec, buf.b
}

// hard says whether a block packs badly.
func hard(plain []byte, buf *buffer) bool {
	if len(plain) < 4*probeLen {
		return false
	}
	if n := s2.MaxEncodedLen(len(plain)); cap(buf.b) < n {
		buf.b = make([]byte, 0, n)
	}
	middle := plain[len(plain)/2:][:probeLen]
	return float64(len(s2.Encode(buf.b[:cap(buf.b)], middle))) > hardShare*probeLen
}
