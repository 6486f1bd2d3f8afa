package store

import (
	"runtime"

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
type compressor struct {
	usual *zstd.Encoder
	more  *thorough
}

func newCompressor() (compressor, error) {
	e, err := newEncoder(zstd.SpeedFastest, runtime.GOMAXPROCS(0))
	return compressor{e, &thorough{}}, err
}

func newEncoder(level zstd.EncoderLevel, atOnce int) (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderLevel(level), zstd.WithEncoderCRC(false),
		zstd.WithWindowSize(DefaultBlock), zstd.WithLowerEncoderMem(true), zstd.WithEncoderConcurrency(atOnce))
}

func (q compressor) close() {
	if q.usual != nil {
		q.usual.Close()
		q.more.close()
	}
}

// compress packs plain into buf with an effort, or gives plain itself when less than 3 % would be saved: that isn't
// worth unpacking.
func (q compressor) compress(plain []byte, buf *buffer, e Effort) (codec byte, stored []byte, err error) {
	if n := s2.MaxEncodedLen(len(plain)); cap(buf.b) < n {
		buf.b = make([]byte, 0, n)
	}
	switch {
	case e == Usual && hard(plain, buf):
		codec, buf.b = codecS2, s2.Encode(buf.b[:cap(buf.b)], plain)
	case e == Usual || e == Firm:
		codec, buf.b = codecZstd, q.usual.EncodeAll(plain, buf.b[:0])
	default:
		codec, err = q.more.packed(plain, buf, e)
	}
	if err == nil && len(buf.b) >= len(plain)-len(plain)/32 {
		return codecRaw, plain, nil
	}
	return codec, buf.b, err
}

// hard says whether a block packs badly.
func hard(plain []byte, buf *buffer) bool {
	if len(plain) < 4*probeLen {
		return false
	}
	middle := plain[len(plain)/2:][:probeLen]
	return float64(len(s2.Encode(buf.b[:cap(buf.b)], middle))) > hardShare*probeLen
}
