package store

import (
	"runtime"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
)

// Effort is how much time is spent on packing a block: with each one a block takes longer, and less room.
// How a block was packed stands in its pack; all are read alike.
type Effort int

// The efforts, by what they cost.
const (
	Swift  Effort = iota // S2
	Usual                // Zstandard's quickest; S2 where that would bring little
	Firm                 // Zstandard's quickest, whatever it brings
	Closer               // Zstandard as it is usual elsewhere
	Close                // Zstandard's thorough method
	Efforts
)

// Stored is what became of a block that was put.
type Stored struct {
	// Bytes are those that it added to the store; 0 when it was there.
	Bytes int64
	// Packed says that it was packed, however that went.
	Packed bool
	// Waited is for how long the medium was waited for.
	Waited time.Duration
}

// mostThorough is how many blocks are packed closely at once: each takes some MiB of memory.
const mostThorough = 4

// thorough are the encoders for the efforts above the usual one, which are made when they are first asked for.
type thorough struct {
	once [Efforts]sync.Once
	made [Efforts]*zstd.Encoder
	errs [Efforts]error
}

var levels = map[Effort]zstd.EncoderLevel{Closer: zstd.SpeedDefault, Close: zstd.SpeedBetterCompression}

func (t *thorough) encoder(e Effort) (*zstd.Encoder, error) {
	t.once[e].Do(func() {
		t.made[e], t.errs[e] = newEncoder(levels[e], min(mostThorough, runtime.GOMAXPROCS(0)))
	})
	return t.made[e], t.errs[e]
}

func (t *thorough) close() {
	for _, e := range t.made {
		if e != nil {
			e.Close()
		}
	}
}

// packed packs plain into buf with an effort that isn't that of the usual encoder.
func (t *thorough) packed(plain []byte, buf *buffer, e Effort) (codec byte, err error) {
	switch e {
	case Swift:
		codec, buf.b = codecS2, s2.Encode(buf.b[:cap(buf.b)], plain)
	default:
		var enc *zstd.Encoder
		if enc, err = t.encoder(e); err == nil {
			codec, buf.b = codecZstd, enc.EncodeAll(plain, buf.b[:0])
		}
	}
	return codec, err
}
