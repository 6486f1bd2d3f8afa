package store

import (
	"runtime"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Effort is how much time is spent on packing a block: with each one a block takes longer, and less room. How a block
// was packed stands in its pack; all are read alike.
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
	// Waited is for how long the medium was waited for.
	Waited time.Duration
}

// mostThorough is how many blocks are packed closely at once: each takes some MiB of memory.
const mostThorough = 4

// compressor packs blocks; it may be used from many goroutines. Its encoders, by effort, are made when they are first
// asked for.
type compressor struct {
	once [Efforts]sync.Once
	made [Efforts]*zstd.Encoder
	errs [Efforts]error
}

// encoder is the one for an effort that isn't Swift.
func (q *compressor) encoder(e Effort) (*zstd.Encoder, error) {
	e = max(e, Firm) // it and the usual one have the same
	q.once[e].Do(func() {
		level, atOnce := zstd.SpeedFastest, runtime.GOMAXPROCS(0)
		switch e {
		case Closer:
			level, atOnce = zstd.SpeedDefault, min(mostThorough, atOnce)
		case Close:
			level, atOnce = zstd.SpeedBetterCompression, min(mostThorough, atOnce)
		}
		q.made[e], q.errs[e] = zstd.NewWriter(nil, zstd.WithEncoderLevel(level), zstd.WithEncoderCRC(false),
			zstd.WithWindowSize(DefaultBlock), zstd.WithLowerEncoderMem(true), zstd.WithEncoderConcurrency(atOnce))
	})
	return q.made[e], q.errs[e]
}

func (q *compressor) close() {
	if q == nil {
		return
	}
	for _, e := range q.made {
		if e != nil {
			e.Close()
		}
	}
}
