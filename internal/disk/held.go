package disk

import (
	"sync"

	"golang.org/x/sys/unix"

	"twinshelf/internal/span"
)

const (
	// granule is the stretch of which it is known as a whole whether the kernel had any of it in memory, in bytes.
	granule = 1 << 20
	// lookout is how far beyond a read the kernel may read ahead, in bytes.
	lookout = 32 << 20
)

// held knows what the kernel had of a device in memory before it was read here in passing (cachestat(2)). What it reads
// ahead looks as if it had been there, so each stretch is looked at before any read comes near it.
type held struct {
	mu sync.Mutex
	// A bit for each granule: those that were looked at, and those of them of which something was there.
	looked, there []uint64
	blind         bool // the kernel can't tell
}

func bit(of []uint64, i int64) bool { return of[i/64]&(1<<(i%64)) != 0 }

func setBit(of []uint64, i int64) { of[i/64] |= 1 << (i % 64) }

// before is called before each read of a stretch, and says whether none of it was there.
func (h *held) before(fd int, size int64, sp span.Span) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.looked == nil {
		words := size/granule/64 + 1
		h.looked, h.there = make([]uint64, words), make([]uint64, words)
	}
	last := (min(sp.End+lookout, size) - 1) / granule
	for i := sp.Start / granule; i <= last && !h.blind; i++ {
		if bit(h.looked, i) {
			continue
		}
		to := i
		for to < last && !bit(h.looked, to+1) {
			to++
		}
		h.look(fd, i, to)
		i = to
	}
	none := !h.blind
	for i := sp.Start / granule; i <= (sp.End-1)/granule; i++ {
		none = none && bit(h.looked, i) && !bit(h.there, i)
	}
	return none
}

// look looks at granules that weren't looked at: at all of them at once first.
func (h *held) look(fd int, from, to int64) {
	n, told := inMemory(fd, span.Span{Start: from * granule, End: (to + 1) * granule})
	h.blind = !told
	for i := from; i <= to && !h.blind; i++ {
		if n > 0 {
			one, told := inMemory(fd, span.At(i*granule, granule))
			if h.blind = !told; one > 0 {
				setBit(h.there, i)
			}
		}
		setBit(h.looked, i)
	}
}

// inMemory is how many pages of a stretch the kernel has in memory; told is false where it can't say.
func inMemory(fd int, sp span.Span) (pages uint64, told bool) {
	var c unix.Cachestat_t
	err := unix.Cachestat(uint(fd), &unix.CachestatRange{Off: uint64(sp.Start), Len: uint64(sp.Len())}, &c, 0)
	return c.Cache, err == nil
}

// release has the kernel drop what it read ahead and nobody asked for.
func (h *held) release(fd int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i := int64(0); i < int64(len(h.looked))*64; i++ {
		from := i
		for i < int64(len(h.looked))*64 && bit(h.looked, i) && !bit(h.there, i) {
			i++
		}
		if i > from {
			_ = unix.Fadvise(fd, from*granule, (i-from)*granule, unix.FADV_DONTNEED)
		}
	}
}
